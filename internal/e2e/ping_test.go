package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPingAlone(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	out := m.good("ping", "-probes", "20", "-every", "5ms", "127.0.0.1", "::1")
	assert.Contains(t, out, "answered   20 of 20 probes")
	assert.Contains(t, out, "About 381 probes would tell")

	var results []map[string]any
	require.NoError(t, json.Unmarshal([]byte(m.good("ping", "-probes", "5", "-every", "2ms", "-format", "json", "127.0.0.1")), &results))
	require.Len(t, results, 1)
	for _, key := range strings.Split("target, address, via, from, started_at, sent, answered, lost, late, duplicates, loss_ratio, loss_low_ratio, loss_high_ratio, rtt_min_ms, rtt_mean_ms, "+
		"rtt_median_ms, rtt_p95_ms, rtt_p99_ms, rtt_max_ms, rtt_sd_ms, jitter_ms, jitter_rfc3550_ms, pdv_ms, spread_ms, timestamps, findings", ", ") {
		assert.Contains(t, results[0], key)
		assert.NotNil(t, results[0][key], key)
	}

	rows, err := csv.NewReader(strings.NewReader(m.good("ping", "-probes", "3", "-every", "2ms", "-format", "csv", "127.0.0.1", "127.0.0.2"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Equal(t, "target", rows[0][1])
	assert.Equal(t, "127.0.0.2", rows[2][1])
}

// TestAResultThatCannotBeWritten is said, and is no success.
func TestAResultThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	ping := []string{"ping", "-probes", "2", "-every", "10ms", "127.0.0.1"}
	for to, status := range map[string]int{">&-": 3, ">/dev/full": 3, ">/dev/null": 0} {
		cmd := exec.Command("sh", append([]string{"-c", `exec "$0" "$@" ` + to}, append([]string{m.command().Path}, ping...)...)...)
		cmd.Env = m.command().Env
		var errs bytes.Buffer
		cmd.Stderr = &errs
		_ = cmd.Run()
		assert.Equal(t, status, cmd.ProcessState.ExitCode(), "%s: %s", to, errs.String())
		assert.Equal(t, status != 0, strings.Contains(errs.String(), "standard output is closed") || strings.Contains(errs.String(), "no space left"), "%s: %s", to, errs.String())
	}
	// Python gives what is to be discarded an output that is open both ways.
	null, err := os.OpenFile("/dev/null", os.O_RDWR, 0)
	require.NoError(t, err)
	defer null.Close()
	cmd := m.command(ping...)
	cmd.Stdout = null
	assert.NoError(t, cmd.Run())
}

func TestPingInAWorld(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	const world, from = "../../demo/skerry.yaml", "ops.northquay.example"
	out, _, status := m.cli("ping", "-world", world, "-from", from, "-probes", "20", "-every", "5ms", "-wait", "100ms", "terminal.oxwater.example", "gate.drydock.example")
	assert.Equal(t, 1, status, "one of the two does not answer")
	assert.Contains(t, out, "timed by   the simulated network")
	assert.Contains(t, out, "No answer to any of 20 probes.")
	var results []map[string]any
	require.NoError(t, json.Unmarshal([]byte(m.good("ping", "-world", world, "-from", from, "-family", "both", "-probes", "5", "-every", "5ms", "-format", "json", "app.ticketing.example")), &results))
	require.Len(t, results, 2)
	assert.Equal(t, "198.51.100.10", results[0]["address"])
	assert.Equal(t, "2001:db8:2::10", results[1]["address"])
	assert.InDelta(t, 9, results[0]["rtt_median_ms"], 1)
}

func TestBadCalls(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	empty := filepath.Join(t.TempDir(), "empty.yaml")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{}, 2, "woodlark help COMMAND"},
		{[]string{"pong"}, 2, `no command "pong"`},
		{[]string{"help", "pong"}, 2, `no command "pong"`},
		{[]string{"ping"}, 2, "name at least one target"},
		{[]string{"ping", "-every", "-1s", "127.0.0.1"}, 2, "-every -1s is less than 1ms"},
		{[]string{"ping", "-every", "soon", "127.0.0.1"}, 2, "every"},
		{[]string{"ping", "-probes", "0", "127.0.0.1"}, 2, "-probes 0 is not between"},
		{[]string{"ping", "-payload", "4", "127.0.0.1"}, 2, "-payload 4 is not between 16 bytes"},
		{[]string{"ping", "-format", "xml", "127.0.0.1"}, 2, "none of text, json, csv, ndjson"},
		{[]string{"ping", "-for", "1s", "-probes", "2", "127.0.0.1"}, 2, "exclude each other"},
		{[]string{"ping", "127.0.0.0/33"}, 2, "is not a prefix"},
		{[]string{"ping", "1.2.3"}, 2, "is not an IP address"},
		{[]string{"ping", strings.Repeat("x", 70000)}, 2, "70000 characters long"},
		{[]string{"ping", "nowhere.invalid"}, 3, ""},
		{[]string{"ping", "-world", empty, "-from", "a", "b"}, 2, "is empty"},
		{[]string{"ping", "-world", "missing.yaml", "-from", "a", "b"}, 2, "missing.yaml"},
		{[]string{"ping", "-world", "../../demo/skerry.yaml", "-from", "nobody", "b"}, 2, `no node "nobody"`},
		{[]string{"ping", "-world", "../../demo/skerry.yaml", "b"}, 2, "needs -from"},
		{[]string{"degraded"}, 3, "no service is running on this machine"},
		{[]string{"degraded", "-service", "http://127.0.0.1:1"}, 3, "WOODLARK_TOKEN"},
		{[]string{"degraded", "-service", "nonsense"}, 2, "is not an address such as"},
		{[]string{"watch", "fly"}, 2, `"fly" is none of`},
		{[]string{"watch", "show"}, 2, "needs a watch's name"},
		{[]string{"baseline"}, 2, "say one of list"},
		{[]string{"results", "-last", "-1h"}, 2, "-last: \"-1h\" is not a span of time above zero"},
	} {
		out, errs, status := m.cli(c.args...)
		name := strings.Join(c.args, " ")
		if len(name) > 80 {
			name = name[:80]
		}
		assert.Equal(t, c.status, status, "woodlark %s: %s%s", name, out, errs)
		assert.Contains(t, errs+out, c.says, name)
		assert.Less(t, len(errs), 5000, name) // the longest lists all commands
	}
}

func TestHelp(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	for _, command := range []string{"serve", "demo", "here", "ping", "sweep", "watch", "results", "baseline", "degraded"} {
		assert.Contains(t, m.good("help"), "woodlark "+command)
		out := m.good("help", command)
		assert.Contains(t, out, "Example\n  woodlark "+command)
		assert.Contains(t, out, "Options")
	}
}
