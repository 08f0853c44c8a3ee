package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/busy"
)

const skerry = "../../demo/skerry.yaml"

const (
	waitLimit = 20 * time.Second
	tick      = 20 * time.Millisecond
)

func (m *machine) labs() string { return filepath.Join(m.state, "labs") }

// labRecord is what the lab wrote of itself.
func labRecord(t *testing.T, m *machine, name string) (folder string, process int) {
	t.Helper()
	folder = filepath.Join(m.labs(), name)
	data, err := os.ReadFile(filepath.Join(folder, "lab.json"))
	require.NoError(t, err)
	var r struct{ Process int }
	require.NoError(t, json.Unmarshal(data, &r))
	return folder, r.Process
}

// gone waits until a process has ended, or is only waited for by nobody.
func gone(t *testing.T, process int) {
	t.Helper()
	require.Eventually(t, func() bool {
		data, err := os.ReadFile("/proc/" + strconv.Itoa(process) + "/stat")
		return err != nil || strings.Contains(string(data), ") Z ")
	}, waitLimit, tick)
}

func TestALabFromUpToDown(t *testing.T) {
	m := newMachine(t)
	out := m.good("lab", "up", "-world", skerry, "-name", "quay")
	assert.Contains(t, out, "Lab quay is up: 14 hosts of Skerry Line.")
	folder, process := labRecord(t, m, "quay")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })

	_, errs, status := m.cli("lab", "up", "-world", skerry, "-name", "quay")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "is up already")

	out = m.good("lab", "run", "-at", "ops.northquay.example", "--", program, "ping", "-probes", "20", "-every", "10ms", "-format", "json", "app.ticketing.example")
	var pings []struct {
		Answered int     `json:"answered"`
		Address  string  `json:"address"`
		RTT      float64 `json:"rtt_median_ms"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &pings), out)
	assert.Equal(t, 20, pings[0].Answered, "the kernel's own sockets cross the world")
	assert.Equal(t, "198.51.100.10", pings[0].Address, "by the names of the world")
	assert.Greater(t, pings[0].RTT, 8.4, "4.2 ms of fibre each way, and what comes with it")
	assert.NotContains(t, m.good("lab", "run", "-at", "ops.northquay.example", "--", "cat", "/proc/net/dev"), "eth", "no way out of it")
	standsAt(t, m)

	out = m.good("lab", "show", "-format", "json", "-every", "100ms")
	var shown struct {
		Links []struct {
			From, To string
			Packets  int
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &shown), out)
	assert.Len(t, shown.Links, 48)
	for _, l := range shown.Links {
		if l.From == "gw.northquay.example" && l.To == "gw.ticketing.example" {
			assert.GreaterOrEqual(t, l.Packets, 20)
		}
	}
	assert.Contains(t, m.good("lab", "show", "-every", "100ms"), "gw.northquay.example → gw.ticketing.example")

	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"lab", "run", "-at", "nowhere", "--", "true"}, 2, "has no host \"nowhere\""},
		{[]string{"lab", "run", "-at", "ops.northquay.example", "--", "no-such-program"}, 2, "no program"},
		{[]string{"lab", "run", "-at", "ops.northquay.example", "--", "sh", "-c", "exit 7"}, 7, ""},
		{[]string{"lab", "run", "--", "true"}, 2, "say where"},
		{[]string{"lab", "run", "-at", "ops.northquay.example"}, 2, "say what to run"},
		{[]string{"lab", "show", "-name", "other"}, 3, "no such lab"},
	} {
		_, errs, status := m.cli(c.args...)
		assert.Equal(t, c.status, status, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.says)
	}
	assert.Contains(t, m.good("lab", "down"), "Lab quay is down.")
	assert.NoDirExists(t, folder)
	gone(t, process)
	_, errs, status = m.cli("lab", "down")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "no such lab is up")
}

// standsAt asks a host of the lab for its own standing.
func standsAt(t *testing.T, m *machine) {
	t.Helper()
	out := m.good("lab", "run", "-at", "ops.northquay.example", "--", program, "here", "-format", "json", "terminal.holm.example")
	var r struct {
		Host       string
		Interfaces []struct {
			Name      string
			MTU       int `json:"mtu_bytes"`
			Addresses []string
		}
		Ways []struct{ Target, Source, Interface string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &r), out)
	assert.Equal(t, "ops.northquay.example", r.Host)
	require.Len(t, r.Interfaces, 2)
	assert.Equal(t, "lab0", r.Interfaces[1].Name)
	assert.Equal(t, 1500, r.Interfaces[1].MTU)
	assert.Contains(t, r.Interfaces[1].Addresses, "192.0.2.10/32")
	require.Len(t, r.Ways, 2, "both families")
	for _, w := range r.Ways {
		assert.Equal(t, "lab0", w.Interface)
		assert.Contains(t, []string{"192.0.2.10", "2001:db8:1::10"}, w.Source)
	}
	text := m.good("lab", "run", "-at", "ops.northquay.example", "--", program, "here", "203.0.113.26")
	assert.Contains(t, text, "to 203.0.113.26 from 192.0.2.10 by lab0")
	_, errs, status := m.cli("here", "-port", "1")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "nothing listens at port 1")
	_, _, status = m.cli("here", "-port", "99999")
	assert.Equal(t, 2, status)
}

func TestNothingIsLeftOfALabThatWasKilled(t *testing.T) {
	m := newMachine(t)
	m.good("lab", "up", "-world", skerry, "-name", "dead")
	folder, process := labRecord(t, m, "dead")
	inside := m.command("lab", "run", "-at", "ops.northquay.example", "--", "sleep", "600")
	require.NoError(t, inside.Start())
	ended := make(chan error, 1)
	go func() { ended <- inside.Wait() }()
	require.Eventually(t, func() bool {
		mine, _ := os.Readlink("/proc/self/ns/net")
		its, err := os.Readlink("/proc/" + strconv.Itoa(inside.Process.Pid) + "/ns/net")
		return err == nil && its != mine
	}, waitLimit, tick)
	require.NoError(t, syscall.Kill(process, syscall.SIGKILL))
	gone(t, process)
	_, errs, status := m.cli("lab", "show")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "has died")
	assert.Contains(t, m.good("lab", "down"), "1 programs at its hosts were ended")
	require.Error(t, <-ended, "what ran there was ended")
	assert.NoDirExists(t, folder)
	links, err := os.ReadFile("/proc/net/dev")
	require.NoError(t, err)
	assert.NotContains(t, string(links), "lab0", "and this machine never had its interface")
}

func TestALinkInOneLine(t *testing.T) {
	m := newMachine(t)
	out, errs, status := m.cli("lab", "run", "-link", "6Mbit/s, 20ms ±2ms", "-back", "10ms", "-far", "exec sleep 60", "--", program, "ping", "-probes", "20", "-every", "10ms", "-format", "json", "far.example")
	require.Equal(t, 0, status, errs)
	assert.Contains(t, errs, "near.example → far.example: 6 Mbit/s, 20 ms ±2 ms, queue of 50 ms")
	assert.Contains(t, errs, "far.example → near.example: 10 ms")
	var pings []struct {
		RTT float64 `json:"rtt_min_ms"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &pings), out)
	assert.Greater(t, pings[0].RTT, 27.0)
	entries, err := os.ReadDir(m.labs())
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is left")
	_, errs, status = m.cli("lab", "run", "-link", "quickly", "--", "true")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "neither a rate")
	_, _, status = m.cli("lab", "run", "-link", "1ms", "--", "sh", "-c", "exit 5")
	assert.Equal(t, 5, status, "the program's own")
}

// TestALabWithoutPrivileges is run as a user who may open no TUN interface,
// whatever this machine allows: the device is hidden from it.
func TestALabWithoutPrivileges(t *testing.T) {
	m := newMachine(t)
	cmd := m.command("lab", "run", "-link", "1ms", "--", "true")
	script := "mount -t tmpfs none /dev/net && exec \"$@\""
	hidden := exec.Command("unshare", append([]string{"-m", "sh", "-c", script, "sh"}, cmd.Args...)...)
	hidden.Env, hidden.Dir = cmd.Env, cmd.Dir
	out, err := hidden.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 3, hidden.ProcessState.ExitCode(), "%s", out)
	assert.Contains(t, string(out), "not permitted to make network namespaces")
	assert.Contains(t, string(out), "modprobe tun")
}

func TestCheckAndLearn(t *testing.T) {
	m := newMachine(t)
	picture := filepath.Join(t.TempDir(), "skerry.svg")
	assert.Contains(t, m.good("lab", "check", "-draw", picture, skerry), "Nothing is wrong or odd.")
	svg, err := os.ReadFile(picture)
	require.NoError(t, err)
	assert.Contains(t, string(svg), "<svg")
	broken := filepath.Join(t.TempDir(), "broken.yaml")
	require.NoError(t, os.WriteFile(broken, []byte("nodes:\n  - {name: a, addresses: [192.0.2.1]}\nlinks:\n  - {between: [a, b]}\n"), 0o600))
	_, errs, status := m.cli("lab", "check", broken)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "line 4")
	require.NoError(t, os.WriteFile(broken, []byte("nodes:\n  - {name: a, addresses: [192.0.2.1]}\n  - {name: b, addresses: [192.0.2.2]}\n"), 0o600))
	out, _, status := m.cli("lab", "check", broken)
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "line 2: a has no link")
	var schema map[string]any
	require.NoError(t, json.Unmarshal([]byte(m.good("lab", "check", "-schema")), &schema))

	list := m.good("lab", "learn")
	assert.Contains(t, list, "clicks-in-the-line")
	assert.NotContains(t, list, "loss_bursts", "the truth is told only when asked for")
	assert.NotContains(t, m.good("lab", "learn", "clicks-in-the-line"), "fades")
	assert.Contains(t, m.good("lab", "learn", "-truth", "clicks-in-the-line"), "loss_bursts")
	assert.Contains(t, m.good("lab", "learn", "-run", "far-out-at-sea"), "median 55")
	_, errs, status = m.cli("lab", "learn", "no-such-thing")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "no exercise")
	for _, args := range [][]string{{"lab"}, {"lab", "dance"}, {"lab", "learn", "-run"}, {"lab", "check"}, {"lab", "up"}, {"lab", "show", "x"}} {
		_, errs, status := m.cli(args...)
		assert.Equal(t, 2, status, "%v", args)
		assert.NotEmpty(t, errs)
	}
}

// TestALearnersRunOfTwoEnds: what shows between two ends only is measured between two.
func TestALearnersRunOfTwoEnds(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	busy.Tries(t, func(y *busy.Try) {
		out, errs, status := m.cli("lab", "learn", "-run", "-format", "json", "clear-there-noisy-back")
		require.Less(y, status, 2, errs)
		assert.Contains(y, out, `"direction_differs"`)
	})
}
