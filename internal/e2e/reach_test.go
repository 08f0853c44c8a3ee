package e2e

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/sweep"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/busy"
)

// openPort is a TCP port of loopback at which somebody listens.
func openPort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l.Addr().(*net.TCPAddr).Port
}

func TestKindsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	port := openPort(t)
	out := m.good("ping", "-probes", "20", "-every", "5ms", "-via", fmt.Sprintf("icmp,tcp:%d", port), "127.0.0.1")
	assert.Contains(t, out, fmt.Sprintf("by tcp:%d", port), "side by side")
	assert.Equal(t, 2, strings.Count(out, "20 of 20"))
	assert.Contains(t, out, "kernel")

	lines := bufio.NewScanner(strings.NewReader(m.good("ping", "-probes", "7", "-every", "2ms", "-format", "ndjson", "127.0.0.1")))
	for n := 0; lines.Scan() || n < 7; n++ {
		var p map[string]any
		require.NoError(t, json.Unmarshal(lines.Bytes(), &p))
		assert.Equal(t, "answered", p["outcome"])
		assert.InDelta(t, n, p["number"], 0)
		assert.Positive(t, p["rtt_ms"])
	}

	const from = "desk.northquay.example"
	out, _, status := m.cli("ping", "-world", "learn:ping-says-dead", "-from", from, "-via", "icmp,tcp:443", "-probes", "20", "-every", "5ms", "-wait", "200ms", "terminal.holm.example")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "ICMP is filtered, the host is up")
	assert.NotContains(t, out, "No answer to any", "what one way alone would say is explained by the other")
	out, _, status = m.cli("ping", "-world", "learn:voice-is-poor", "-from", from, "-objective", "voice", "-probes", "200", "-every", "5ms", "terminal.holm.example")
	assert.Equal(t, 1, status, "an objective is missed")
	assert.Contains(t, out, "voice      missed (ITU-T Y.1541 class 0")
	assert.Contains(t, out, "half of the round trip stands for one way")
	out = m.good("ping", "-world", "learn:tunnel-on-the-way", "-from", from, "-path-mtu", "-probes", "3", "-every", "5ms", "terminal.holm.example")
	assert.Contains(t, out, "path MTU   1400 bytes")
	assert.Contains(t, out, "the link here takes 1500")
	out, _, status = m.cli("ping", "-world", "learn:tunnel-on-the-way", "-from", from, "-dont-fragment", "-payload", "2000", "-probes", "2", "-every", "5ms", "terminal.holm.example")
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "does not fit the link's MTU of 1500")
	out, _, _ = m.cli("ping", "-world", "learn:holm-bookings-stall", "-from", from, "-ttl", "2", "-probes", "2", "-every", "5ms", "terminal.holm.example")
	assert.Contains(t, out, "TTL exceeded by 198.51.100.65")
}

func TestTargetsFromAFile(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	file := filepath.Join(t.TempDir(), "targets")
	var text strings.Builder
	text.WriteString("# terminals\n127.0.0.1\n\n127.0.0.2 # the second\n")
	for i := range 20 {
		fmt.Fprintf(&text, "127.0.1.%d\n", i+1)
	}
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o600))
	out := m.good("ping", "-probes", "2", "-every", "5ms", "-file", file)
	assert.Equal(t, 22, strings.Count(out, "2 of 2"), "many targets are a table")
	require.NoError(t, os.WriteFile(file, []byte("127.0.0.1\n127.0.0.0/40\n127.0.0.300\n"), 0o600))
	out, errs, status := m.cli("ping", "-probes", "2", "-every", "5ms", "-file", file)
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "2 of 2 probes", "what could be measured is")
	assert.Contains(t, errs, "line 2: \"127.0.0.0/40\" is not a prefix")
	assert.Contains(t, errs, "line 3: target \"127.0.0.300\" is not an IP address")
	text.Reset()
	for i := range 100_001 {
		fmt.Fprintf(&text, "127.%d.%d.%d\n", 1+i>>16, i>>8&255, i&255)
	}
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o600))
	_, errs, status = m.cli("ping", "-file", file)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "100001 targets are more than the 100000")
}

func TestSweepAlone(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	read := func(text string) (r sweep.Report) {
		require.NoError(t, json.Unmarshal([]byte(text), &r))
		return r
	}
	text := m.good("sweep", "-format", "json", "-rate", "unlimited", "127.3.0.0/22", "127.3.0.9")
	for _, key := range strings.Split("prefixes, addresses, probed, answered, elapsed_ms, sent, packets_per_second, hosts, new, gone, slower", ", ") {
		assert.Contains(t, text, `"`+key+`"`)
	}
	r := read(text)
	assert.Equal(t, uint64(1024), r.Addresses)
	assert.Equal(t, uint64(1024), r.Answered)
	assert.Len(t, r.Hosts, 1024)
	assert.Nil(t, r.New, "there is nothing to compare with")
	assert.Contains(t, r.Warnings[0], "overlap")
	busy.Again(t, func() string { // so few are timed, slowly
		if i := slices.IndexFunc(r.Hosts, func(h sweep.HostReport) bool { return h.RTTMs == nil }); i >= 0 {
			r = read(m.good("sweep", "-format", "json", "-rate", "unlimited", "127.3.0.0/22", "127.3.0.9"))
			return fmt.Sprintf("one of %d has no time", len(r.Hosts))
		}
		return ""
	})
	again := read(m.good("sweep", "-format", "json", "127.3.0.0/22"))
	assert.NotNil(t, again.ComparedAt)
	assert.Empty(t, again.New)
	assert.Empty(t, again.Gone)

	const world, from = "../../demo/skerry.yaml", "ops.northquay.example"
	out := m.good("sweep", "-world", world, "-from", from, "203.0.113.0/26")
	assert.Regexp(t, `(9|1[01]) of 64 addresses`, out) // 11, less what two rounds lost
	assert.Contains(t, out, "terminal.holm.example")
	assert.Contains(t, out, "no earlier sweep")
	out, _, _ = m.cli("sweep", "-world", world, "-from", from, "203.0.113.0/26")
	assert.Contains(t, out, "since ", "compared with the one before")
	rows, err := csv.NewReader(strings.NewReader(m.good("sweep", "-world", world, "-from", from, "-format", "csv", "-via", "icmp,tcp:443", "198.51.100.0/28"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 3)
	assert.Equal(t, "443", rows[2][slices.Index(rows[0], "open_ports")])
}

func TestSweepsThatAreRefused(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	for _, c := range []struct {
		args string
		says string
	}{
		{"0.0.0.0/0", "4,294,967,296 are more than 16777216"},
		{"2001:db8::/64", "cannot be gone through"},
		{"9.9.9.0/24", "-beyond"},
		{"-packets unlimited 192.0.2.0/24", "-packets unlimited is for loopback"},
		{"-rate fast 127.0.0.1", "-rate \"fast\" is neither"},
		{"-via tcp:70000 127.0.0.1", "port \"70000\" is not between"},
		{"-via udp:53 127.0.0.1", "a sweep asks by icmp or tcp:PORT"},
		{"-exclude 127.0.0.0/8 127.0.0.1", "nothing is left"},
		{"-rounds 0 127.0.0.1", "-rounds 0 is not between"},
		{"quay", "is no prefix, range or address"},
		{"", "name at least one prefix"},
		{"-background 127.0.0.1", "-background leaves a measurement to a service"},
		{"-source 192.0.2.99 127.0.0.1", "is not an address of this host"},
		{"-interface quay0 127.0.0.1", "there is no interface \"quay0\""},
	} {
		out, errs, status := m.cli(append([]string{"sweep"}, strings.Fields(c.args)...)...)
		assert.Contains(t, []int{2, 3}, status, "%s: %s", c.args, out)
		assert.Contains(t, errs, c.says)
	}
	_, errs, status := m.cli("ping", "-interface", "ifbnone", "127.0.0.1")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "there is no interface")
}

func TestTheWalkOnTheCommandLine(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	port := strconv.Itoa(openPort(t))
	out := m.good("here", "-walk", "-probes", "20", "-every", "2ms", "-port", port, "127.0.0.1")
	assert.Contains(t, out, "✓ neighbour")
	assert.Contains(t, out, "✓ port")
	assert.Contains(t, out, "Nothing is wrong from here to there")
	for exercise, says := range map[string]string{"monday-nothing-works": "does not say its hardware address", "works-on-one-laptop": "Resolver 192.0.2.53 gives"} {
		out, _, status := m.cli("here", "-walk", "-world", "learn:"+exercise, "-from", "desk.northquay.example", "-probes", "20", "-every", "2ms", "terminal.holm.example")
		assert.Equal(t, 1, status)
		assert.Contains(t, out, says)
	}
	var r struct {
		Steps []struct {
			Step string `json:"step"`
			Good *bool  `json:"good"`
		} `json:"steps"`
		Findings []apitype.Finding `json:"findings"`
	}
	out, _, _ = m.cli("here", "-walk", "-format", "json", "-world", "learn:monday-nothing-works", "-from", "desk.northquay.example", "-probes", "5", "-every", "2ms", "-address", "203.0.113.26", "terminal.holm.example")
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	require.Len(t, r.Steps, 2)
	assert.Equal(t, "neighbour", r.Steps[1].Step)
	assert.False(t, *r.Steps[1].Good)
	assert.EqualValues(t, "neighbour_unresolved", r.Findings[0].Code)
	for args, says := range map[string]string{"-walk": "name one target", "-world x 127.0.0.1": "-world: for -walk only", "-from x 127.0.0.1": "needs -walk", "-walk -address x 127.0.0.1": "is not an IP address"} {
		_, errs, status := m.cli(append([]string{"here"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, status)
		assert.Contains(t, errs, says)
	}
}

func TestSweepsAndKindsThroughTheService(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	port := openPort(t)
	via := fmt.Sprintf("icmp,tcp:%d", port)
	out := m.good("ping", "-from", "local", "-via", via, "-probes", "10", "-every", "10ms", "127.0.0.1")
	assert.Equal(t, 2, strings.Count(out, "10 of 10"))
	out = m.good("ping", "-from", "local", "-background", "-probes", "10", "-every", "10ms", "127.0.0.1")
	assert.Contains(t, out, "goes on at local")

	out = m.good("here", "-walk", "-from", "local", "-probes", "10", "-every", "10ms", "-port", strconv.Itoa(port), "127.0.0.1")
	assert.Contains(t, out, "127.0.0.1  from local, near to far")
	assert.Contains(t, out, "✓ port")

	out = m.good("here", "-from", "local")
	assert.Contains(t, out, "Interface     lo")
	assert.Contains(t, out, "May use")

	var r sweep.Report
	require.NoError(t, json.Unmarshal([]byte(m.good("sweep", "-from", "local", "-via", via, "-format", "json", "127.4.0.0/27")), &r))
	assert.Equal(t, uint64(32), r.Answered)
	assert.Nil(t, r.ComparedAt)
	require.NoError(t, json.Unmarshal([]byte(m.good("sweep", "-from", "local", "-via", via, "-format", "json", "127.4.0.0/27")), &r))
	assert.NotNil(t, r.ComparedAt, "compared with the one before")
	var list []apitype.Sweep
	s.get("/api/v1/sweeps", &list)
	require.Len(t, list, 2)
	assert.Equal(t, "done", list[0].Outcome)
	assert.Nil(t, list[0].Report)

	m.good("watch", "add", "-name", "who is there", "-kind", "sweep", "-from", "local", "-to", "127.5.0.0/28", "-every", "1m")
	m.good("watch", "add", "-name", "port", "-via", fmt.Sprintf("tcp:%d", port), "-from", "local", "-to", "127.0.0.1", "-every", "10s", "-probes", "5", "-interval", "10ms")
	assert.Contains(t, m.good("watch", "list"), "a sweep each 1m0s")
	s.eventually(20*time.Second, func() bool {
		s.get("/api/v1/sweeps?watch=who%20is%20there", &list)
		return len(list) == 1 && list[0].Outcome == "done"
	}, "the watch sweeps at once")
	assert.Equal(t, uint64(16), list[0].Answered)
	s.eventually(20*time.Second, func() bool {
		var paths struct {
			Paths []apitype.Path `json:"paths"`
		}
		s.get("/api/v1/paths", &paths)
		for _, p := range paths.Paths {
			if p.Via == fmt.Sprintf("tcp:%d", port) && p.Last != nil && p.Last.Answered == 5 {
				return true
			}
		}
		return false
	}, "a path by its port has readings")
	_, errs, status := m.cli("watch", "add", "-name", "too much", "-kind", "sweep", "-from", "local", "-to", "0.0.0.0/0", "-every", "1h")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "are more than")
}
