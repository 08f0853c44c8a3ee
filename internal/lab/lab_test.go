package lab_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/lab"
	"woodlark.example/internal/network/world"
)

const lane = `
world: lane
seed: 5
nodes:
  - {name: a, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: r1, router: true, addresses: [192.0.2.11, "2001:db8::11"]}
  - {name: up, router: true, addresses: [192.0.2.21, "2001:db8::21"], labels: [16004]}
  - {name: down, router: true, addresses: [192.0.2.22, "2001:db8::22"]}
  - {name: r2, router: true, addresses: [192.0.2.12, "2001:db8::12"]}
  - {name: b, addresses: [198.51.100.2, "2001:db8:1::2"]}
links:
  - {between: [a, r1], delay: 1ms}
  - {between: [r1, up], delay: 4ms}
  - {between: [r1, down], delay: 4ms}
  - {between: [up, r2], delay: 2ms}
  - {between: [down, r2], delay: 2ms}
  - {between: [r2, b], delay: 3ms}
`

// bench is a lab in this process.
type bench struct {
	t      *testing.T
	c      *lab.Carrier
	folder string
}

func carry(t *testing.T, text string) bench {
	t.Helper()
	m, err := world.Read([]byte(text), world.Options{})
	require.NoError(t, err)
	c, err := lab.Carry(m)
	require.NoError(t, err, "these tests need root, or namespaces and TUN interfaces")
	t.Cleanup(func() { assert.NoError(t, c.Close()) })
	folder := t.TempDir()
	require.NoError(t, lab.WriteFiles(folder, m))
	return bench{t, c, folder}
}

func (b bench) start(host string, cmd *exec.Cmd) {
	b.t.Helper()
	door, err := b.c.Door(b.folder, host)
	require.NoError(b.t, err)
	require.NoError(b.t, door.Start(cmd))
}

func role(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), roleKey+"="+name)
	cmd.Stderr = os.Stderr
	return cmd
}

// run runs a program of the test's own at a host and reads what it found.
func (b bench) run(into any, host, name string, args ...string) {
	b.t.Helper()
	cmd := role(name, args...)
	var out bytes.Buffer
	cmd.Stdout = &out
	b.start(host, cmd)
	require.NoError(b.t, cmd.Wait(), "%s %v at %s", name, args, host)
	if into != nil {
		require.NoError(b.t, json.Unmarshal(out.Bytes(), into), "%s", out.Bytes())
	}
}

// serve starts one that says when it is ready; the function that it returns
// waits for its answer, or ends it.
func (b bench) serve(host, name string, args ...string) func(into any) {
	b.t.Helper()
	cmd := role(name, args...)
	out, err := cmd.StdoutPipe()
	require.NoError(b.t, err)
	b.start(host, cmd)
	lines := bufio.NewScanner(out)
	require.True(b.t, lines.Scan(), "%s at %s", name, host)
	require.Equal(b.t, "ready", lines.Text())
	ended := false
	b.t.Cleanup(func() {
		if !ended {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
	})
	return func(into any) {
		b.t.Helper()
		require.True(b.t, lines.Scan())
		require.NoError(b.t, json.Unmarshal(lines.Bytes(), into))
		require.NoError(b.t, cmd.Wait())
		ended = true
	}
}

func TestDelayIsAsProgrammed(t *testing.T) {
	b := carry(t, lane)
	b.serve("b", "echo", "5007")
	for _, to := range []string{"198.51.100.2:5007", "[2001:db8:1::2]:5007"} {
		var p probed
		b.run(&p, "a", "probe", to, "200", "2ms")
		require.Len(t, p.RTTs, 200, "nothing is lost")
		assert.GreaterOrEqual(t, slices.Min(p.RTTs), 19.4, "never faster than the links")
		slices.Sort(p.RTTs)
		// How exact it is on an idle machine is for the benchmark to say.
		assert.Less(t, p.RTTs[100], 500.0)
		t.Logf("to %s: median %.3f ms, 99 %% %.3f ms, programmed 20; the lab waking up in %v", to, p.RTTs[100], p.RTTs[198], b.c.Lag())
	}
}

func TestLossIsAsProgrammed(t *testing.T) {
	b := carry(t, lane+"changes: [{link: [r2, b], toward: b, set: {loss: 5%}}]")
	b.serve("b", "echo", "5007")
	// A machine without time to spare drops some itself; a wrong loss would be wrong
	// each time.
	within := 4 * math.Sqrt(2000*0.05*0.95)
	lost := 0
	for range 4 {
		var p probed
		b.run(&p, "a", "probe", "198.51.100.2:5007", "2000", "1ms")
		if lost = p.Sent - len(p.RTTs); math.Abs(float64(lost-100)) <= within {
			break
		}
	}
	assert.InDelta(t, 100, lost, within)
}

func TestRateIsAsProgrammed(t *testing.T) {
	b := carry(t, lane+"changes: [{link: [r2, b], set: {rate: 8Mbit/s, queue: 20ms}}]")
	// Where the sender does not get the processor for long enough it does not fill
	// the link; a wrong rate would be wrong each time.
	var got float64
	for range 8 {
		result := b.serve("b", "count", "5008", "1s")
		b.run(nil, "a", "blast", "198.51.100.2:5008", "2600", "500us")
		result(&got)
		if math.Abs(got/8e6-1) <= 0.02 {
			return
		}
	}
	assert.InEpsilon(t, 8e6, got, 0.02, "twice as much was sent")
}

func TestRoutersAnswerWithTheirAddresses(t *testing.T) {
	b := carry(t, lane)
	for _, c := range []struct {
		to   string
		want map[string]string // by TTL
	}{
		{"198.51.100.2:33434", map[string]string{"1": "192.0.2.11", "3": "192.0.2.12"}},
		{"[2001:db8:1::2]:33434", map[string]string{"1": "2001:db8::11", "3": "2001:db8::12"}},
	} {
		for ttl, want := range c.want {
			var seen []string
			b.run(&seen, "a", "hops", c.to, ttl, "2")
			assert.Equal(t, []string{want, want}, seen, "TTL %s to %s", ttl, c.to)
		}
		var branches []string
		b.run(&branches, "a", "hops", c.to, "2", "24")
		slices.Sort(branches)
		assert.Len(t, slices.Compact(branches), 2, "both equal ways are taken: one would be with a chance of 1 in 8 million")
	}
	var end []string
	b.run(&end, "a", "hops", "198.51.100.2:33434", "64", "1")
	assert.Equal(t, []string{"198.51.100.2"}, end, "the host's own kernel: port unreachable")
}

func TestThePathMTUIsTold(t *testing.T) {
	b := carry(t, lane+"changes: [{link: [r2, b], set: {mtu: 1400}}]")
	for to, by := range map[string]string{"198.51.100.2:9": "192.0.2.12", "[2001:db8:1::2]:9": "2001:db8::12"} {
		var got struct {
			By  string
			MTU int
		}
		b.run(&got, "a", "size", to, "1440")
		assert.Equal(t, 1400, got.MTU)
		assert.Equal(t, by, got.By)
	}
}

func TestTCPCrosses(t *testing.T) {
	b := carry(t, lane+"changes: [{link: [r2, b], set: {rate: 50Mbit/s}}]")
	result := b.serve("b", "take", "5009")
	b.run(nil, "a", "give", "198.51.100.2:5009", "1s")
	var got taken
	result(&got)
	rate := got.Bytes * 8 / got.Seconds
	assert.Less(t, rate, 50e6)
	assert.Greater(t, rate, 1e6)
}

// TestNothingIsMalformed captures all kinds of traffic at a host and lets an
// independent program read it.
func TestNothingIsMalformed(t *testing.T) {
	shark, err := exec.LookPath("tshark")
	require.NoError(t, err, "script/test installs it")
	b := carry(t, strings.Replace(lane, "{name: b, ", "{name: b, resolver: answer, udp: {99: rejected}, ", 1)+
		"changes: [{link: [r2, b], set: {mtu: 1400, duplicates: 30%}}]")
	file := filepath.Join(b.folder, "a.pcapng")
	capture := exec.Command(shark, "-i", lab.Interface, "-w", file)
	says, err := capture.StderrPipe()
	require.NoError(t, err)
	b.start("a", capture)
	for lines := bufio.NewScanner(says); lines.Scan() && !strings.Contains(lines.Text(), "Capturing"); {
	}
	b.serve("b", "echo", "5007")
	for _, to := range []string{"198.51.100.2", "[2001:db8:1::2]"} {
		b.run(nil, "a", "size", to+":9", "1440")
		result := b.serve("b", "take", "5009")
		b.run(nil, "a", "give", to+":5009", "50ms")
		result(&taken{})
		b.run(nil, "a", "probe", to+":5007", "20", "1ms")
		b.run(nil, "a", "hops", to+":33434", "2", "8") // some with labels
		b.run(nil, "a", "hops", to+":99", "64", "1")
		b.run(nil, "a", "hops", to+":9", "64", "1")
	}
	// What is no question to a resolver, and gets no answer.
	b.run(nil, "a", "probe", "198.51.100.2:53", "3", "1ms")
	require.NoError(t, capture.Process.Signal(os.Interrupt))
	require.NoError(t, capture.Wait())

	fields := func(filter string, fields ...string) []string {
		args := []string{"-r", file, "-o", "ip.check_checksum:TRUE", "-o", "tcp.check_checksum:TRUE", "-o", "udp.check_checksum:TRUE", "-Y", filter, "-T", "fields"}
		for _, f := range fields {
			args = append(args, "-e", f)
		}
		out, err := exec.Command(shark, args...).Output()
		require.NoError(t, err, filter)
		return strings.Fields(string(out))
	}
	assert.Empty(t, fields("_ws.malformed", "frame.number"))
	assert.Empty(t, fields(`ip.checksum.status == "Bad" || tcp.checksum.status == "Bad" || udp.checksum.status == "Bad" || icmp.checksum.status == "Bad" || icmpv6.checksum.status == "Bad"`, "frame.number"))
	assert.NotEmpty(t, fields("icmp.type == 11", "frame.number"), "the capture holds what it should")
	assert.NotEmpty(t, fields("icmpv6.type == 2", "frame.number"))
	labels := fields("icmp.mpls.label", "icmp.mpls.label")
	assert.Contains(t, labels, "16004", "it reads the labels")
	assert.Greater(t, len(fields("tcp", "frame.number")), 50)
}

func TestHostsSeeTheirNames(t *testing.T) {
	b := carry(t, strings.Replace(lane, "{name: a, ", "{name: a, resolvers: [b], ", 1))
	see := func(host, file string) string {
		cmd := exec.Command("cat", file)
		var out bytes.Buffer
		cmd.Stdout = &out
		b.start(host, cmd)
		require.NoError(t, cmd.Wait())
		return out.String()
	}
	assert.Equal(t, "b\n", see("b", "/proc/sys/kernel/hostname"))
	assert.Contains(t, see("b", "/etc/hosts"), "192.0.2.1 a\n")
	assert.NotContains(t, see("a", "/etc/hosts"), "192.0.2", "its names are for its resolver to tell")
	assert.Contains(t, see("a", "/etc/resolv.conf"), "nameserver 198.51.100.2\n")
	mine, err := os.ReadFile("/etc/hosts")
	require.NoError(t, err)
	assert.NotContains(t, string(mine), "198.51.100.2", "this machine's own files are as before")
	_, err = b.c.Door(b.folder, "r1")
	require.ErrorContains(t, err, "is a router")
	_, err = b.c.Door(b.folder, "zed")
	require.ErrorContains(t, err, "no node")
}

func TestQuickLinks(t *testing.T) {
	for spec, says := range map[string]string{
		"6Mbit/s, 40ms ±5ms, 0.5%": "6 Mbit/s, 40 ms ±5 ms, loses 0.5 %, queue of 50 ms",
		"40ms":                     "40 ms",
		"1Gbit/s, 2 ms +- 0.5 ms, queue 10ms early":   "1 Gbit/s, 2 ms ±0.5 ms, queue of 10 ms, dropping early",
		"10ms, loss bursts enter 1% leave 25%":        "10 ms, loses 3.846 % in bursts",
		"10ms, mtu 1400, too_big swallowed, load 60%": "10 ms, cross traffic of 60 %, queue of 50 ms, MTU 1400 (swallows what is bigger)",
	} {
		text, err := lab.QuickWorld(spec, "1ms")
		require.NoError(t, err, spec)
		m, err := world.Read([]byte(text), world.Options{})
		require.NoError(t, err, spec)
		assert.Equal(t, says, m.Directions()[0].Describe(), spec)
		assert.Equal(t, "1 ms", m.Directions()[1].Describe())
	}
	for _, spec := range []string{"", "fast", "40ms, 50ms", "6Mbit", "bogus 5"} {
		_, err := lab.QuickWorld(spec, "")
		assert.Error(t, err, spec)
	}
}

func TestRecords(t *testing.T) {
	folder := t.TempDir()
	_, err := lab.Find(folder, "")
	require.ErrorIs(t, err, lab.ErrNoLab)
	_, err = lab.Find(folder, "../../etc")
	require.ErrorContains(t, err, "lab name")
	require.NoError(t, os.Mkdir(filepath.Join(folder, "broken"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "broken", "lab.json"), []byte("{"), 0o600))
	all, err := lab.List(folder)
	require.NoError(t, err)
	assert.Empty(t, all)
	_, err = lab.Find(folder, "broken")
	require.Error(t, err)
}
