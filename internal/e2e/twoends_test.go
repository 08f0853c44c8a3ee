package e2e

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/busy"
)

// running is a program that runs until it is stopped.
type running struct {
	cmd   *exec.Cmd
	log   *syncBuffer
	ended chan struct{}
}

// background runs woodlark until the test ends, and waits until it has said something.
func (m *machine) background(says string, args ...string) *running {
	m.t.Helper()
	r := &running{cmd: m.command(args...), log: &syncBuffer{}, ended: make(chan struct{})}
	r.cmd.Env = append(r.cmd.Env, "WOODLARK_KEY=gull")
	r.cmd.Stdout, r.cmd.Stderr = r.log, r.log
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(m.t, r.cmd.Start())
	go func() {
		_ = r.cmd.Wait()
		close(r.ended)
	}()
	m.t.Cleanup(func() { r.kill(syscall.SIGTERM) })
	require.Eventually(m.t, func() bool { return strings.Contains(r.log.String(), says) }, waitLimit, tick, "%v", args)
	return r
}

// kill ends it with its children.
func (r *running) kill(s syscall.Signal) {
	_ = syscall.Kill(-r.cmd.Process.Pid, s)
	<-r.ended
}

// keyed runs a command with the key.
func (m *machine) keyed(args ...string) (string, string, int) {
	m.t.Helper()
	m.env = append(m.env, "WOODLARK_KEY=gull")
	return m.cli(args...)
}

func jsonOf[T any](t require.TestingT, out string) (v T) {
	require.NoError(t, json.Unmarshal([]byte(out), &v), out)
	return v
}

func codes(list []finding.Finding) (out []string) {
	for _, f := range list {
		out = append(out, string(f.Code))
	}
	return out
}

// farAt is the address that a far end says it listens at.
func farAt(r *running) string {
	_, rest, _ := strings.Cut(r.log.String(), "Far end at ")
	at, _, _ := strings.Cut(rest, ",")
	return at
}

func TestTwoEndsOnThisMachine(t *testing.T) {
	m := newMachine(t)
	at := farAt(m.background("Far end at", "respond", "-listen", "127.0.0.1:0"))
	t.Run("stream", func(t *testing.T) {
		busy.Again(t, func() string { // a machine that is stopped for a moment sends fewer
			out, errs, status := m.keyed("stream", "-codec", "g711", "-for", "10s", "-dscp", "EF", "-format", "json", at)
			require.Less(t, status, 2, errs)
			r := jsonOf[finding.StreamReport](t, out)
			require.True(t, r.Complete)
			require.True(t, r.Clock.InStep, "both ends share a clock")
			require.Len(t, r.Directions, 2)
			for _, d := range r.Directions {
				if d.Sent != 500 || *d.Lost > 2 || *d.Quality.MOS <= 4.2 {
					return fmt.Sprintf("%s: %d sent, %d lost, MOS %g", d.Direction, d.Sent, *d.Lost, *d.Quality.MOS)
				}
				assert.Equal(t, []finding.DSCPCount{{DSCP: 46, Packets: d.Received}}, d.DSCPs)
				assert.Positive(t, *d.MedianMs)
			}
			assert.Positive(t, r.Reports, "RTCP")
			return ""
		})
	})
	t.Run("throughput", func(t *testing.T) {
		out, errs, status := m.keyed("throughput", "-for", "2s", "-explain=false", "-repeats", "5", "-direction", "there", "-yardstick", "-format", "json", at)
		require.Zero(t, status, errs)
		r := jsonOf[finding.ThroughputReport](t, out)
		assert.Len(t, r.Repeats, 5)
		assert.Positive(t, *r.Trimmed)
		assert.Positive(t, *r.Yardstick.NearBps)
		assert.Positive(t, *r.Yardstick.FarBps)
		assert.NotEmpty(t, r.Conditions.Congestion)
		sum, best, worst := 0.0, 0.0, math.Inf(1)
		for _, x := range r.Repeats {
			sum, best, worst = sum+*x.Bps, max(best, *x.Bps), min(worst, *x.Bps)
		}
		assert.InEpsilon(t, (sum-best-worst)/3, *r.Trimmed, 1e-9, "the best and the worst are left out")
		assert.Contains(t, []string{"held_by_host", ""}, r.HeldBy, "nothing but this machine is between")
	})
	t.Run("datagrams", func(t *testing.T) {
		busy.Again(t, func() string {
			out, errs, status := m.keyed("throughput", "-protocol", "udp", "-rate", "20M", "-for", "2s", "-direction", "both", "-format", "json", at)
			require.Zero(t, status, errs)
			r := jsonOf[finding.ThroughputReport](t, out)
			require.Len(t, r.Directions, 2)
			for _, d := range r.Directions {
				for what, wrong := range map[string]string{"received": off("received", *d.ReceivedBps, 20e6, 0.02*20e6), "IP": off("IP", *d.IPBps, 20e6*1428/1400, 0.02*20e6), "loss": off("loss", *d.LossRatio, 0, 0.01)} {
					if wrong != "" {
						return what + ": " + wrong
					}
				}
			}
			return ""
		})
	})
	t.Run("text", func(t *testing.T) {
		out, _, _ := m.keyed("stream", "-for", "1s", at)
		assert.Contains(t, out, "Both ends go by one clock.")
		out, _, _ = m.keyed("throughput", "-for", "1s", "-explain=false", "-format", "csv", at)
		assert.Contains(t, out, "direction,start_s")
	})
	for _, c := range []struct {
		name   string
		args   []string
		status int
		says   string
	}{
		{"another key", []string{"stream", "-key", "tern", at}, 3, "does not accept this key"},
		{"no target", []string{"stream"}, 2, "name one target"},
		{"no such codec", []string{"stream", "-codec", "speex", at}, 2, "there are G.711"},
		{"codec and rate", []string{"stream", "-codec", "g711", "-rate", "1M", at}, 2, "leave out interval, rate and size"},
		{"no rate", []string{"throughput", "-protocol", "udp", "-rate", "fast", at}, 2, "is not a rate"},
		{"rate of TCP", []string{"throughput", "-rate", "1M", at}, 2, "are of UDP"},
		{"no congestion control", []string{"throughput", "-congestion", "gullwing", at}, 3, "no congestion control"},
		{"no such protocol", []string{"throughput", "-protocol", "sctp", at}, 2, "none of tcp, udp"},
		{"nobody there", []string{"throughput", "127.0.0.1:1"}, 3, "is 'woodlark respond' running there"},
		{"no port", []string{"stream", "127.0.0.1:gull"}, 2, "is not ADDRESS:PORT"},
		{"far end without key", []string{"respond", "-key-file", "/dev/null"}, 2, "holds no key"},
		{"nowhere to listen", []string{"respond", "-listen", "gull"}, 2, "is not ADDRESS:PORT"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, errs, status := m.keyed(c.args...)
			assert.Equal(t, c.status, status)
			assert.Contains(t, errs, c.says)
		})
	}
}

// TestAnEndIsKilled: the run ends in bounded time as failed, with its reason and what
// was measured, and the far end is free again.
func TestAnEndIsKilled(t *testing.T) {
	m := newMachine(t)
	far := m.background("Far end at", "respond", "-listen", "127.0.0.1:0", "-verbose", "-sessions", "1")
	at := farAt(far)
	t.Setenv("WOODLARK_KEY", "gull")
	cmd := m.command("stream", "-for", "5m", at)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(far.log.String(), "a session began") }, waitLimit, tick)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	require.Eventually(t, func() bool { return strings.Contains(far.log.String(), "a session failed") }, waitLimit, tick)
	_, errs, status := m.keyed("throughput", "-for", "1s", "-explain=false", "-direction", "there", at)
	require.Zero(t, status, "it is free again: %s", errs)

	out, log := &syncBuffer{}, &syncBuffer{}
	cmd = m.command("throughput", "-for", "5m", "-direction", "there", "-format", "json", at)
	cmd.Stdout, cmd.Stderr = out, log
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Count(far.log.String(), "a session began") == 3 }, waitLimit, tick)
	far.kill(syscall.SIGKILL)
	began := time.Now()
	err := cmd.Wait()
	assert.Less(t, time.Since(began), 30*time.Second)
	assert.Error(t, err)
	assert.Contains(t, log.String(), "the far end is gone")
}

// TestALinkIsCut: the run ends as failed in bounded time, with what was measured, and the
// far end is free again.
func TestALinkIsCut(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	world := filepath.Join(t.TempDir(), "cut.yaml")
	require.NoError(t, os.WriteFile(world, []byte(`world: cut
nodes:
  - {name: near.example, addresses: [192.0.2.1]}
  - {name: far.example, addresses: [203.0.113.2]}
links:
  - {between: [near.example, far.example], rate: 5Mbit/s, delay: 10ms}
changes:
  - {link: [near.example, far.example], from: start+25s, until: start+60s, set: {loss: 100%}}
`), 0o600))
	m.good("lab", "up", "-world", world, "-name", "cut")
	_, process := labRecord(t, m, "cut")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	far := m.background("Far end at", "lab", "run", "-name", "cut", "-at", "far.example", "--", program, "respond", "-listen", ":7474", "-verbose", "-sessions", "1")
	out, errs, status := m.cli("lab", "run", "-name", "cut", "-at", "near.example", "--", program, "stream", "-key", "gull", "-for", "5m", "-format", "json", "far.example")
	require.Equal(t, 1, status, "%s%s", out, errs)
	r := jsonOf[finding.StreamReport](t, out)
	assert.False(t, r.Complete)
	assert.Contains(t, r.Problem, "the far end is gone")
	assert.Contains(t, errs, "it broke off")
	require.NotEmpty(t, r.Directions, "what came until then")
	assert.Less(t, r.ElapsedMs, 60_000.0)
	require.Eventually(t, func() bool { return strings.Contains(far.log.String(), "a session failed") }, time.Minute, tick, "long before the five minutes of its order")
	m.good("lab", "down", "-name", "cut")
}

// overLink runs a command at the near end of one link, with a far end at the other.
func (m *machine) overLink(link string, args ...string) string {
	m.t.Helper()
	m.env = append(m.env, "WOODLARK_KEY=gull")
	line := fmt.Sprintf("for i in $(seq 100); do %s && exit 0; s=$?; [ $s = 3 ] || exit $s; done", program+" "+strings.Join(args, " "))
	out, errs, _ := m.cli("lab", "run", "-link", link, "-far", program+" respond -listen :7474", "--", "bash", "-c", line)
	require.Contains(m.t, out, "{", errs)
	return out[strings.Index(out, "{"):]
}

// links are what is measured through real sockets.
var links = []struct {
	rate  float64 // Mbit/s of IP packets
	delay float64 // ms, one way
	loss  float64 // percent, each way
}{{1, 20, 0}, {10, 100, 1}, {100, 200, 0}, {500, 1, 0}, {20, 50, 5}}

// TestLinksThroughRealSockets: the rate of a link is found, over rates, delays and
// losses, by real sockets. The machine is shared: what is wrong is tried again.
func TestLinksThroughRealSockets(t *testing.T) {
	for _, c := range links {
		link := fmt.Sprintf("%gMbit/s, %gms, %g%%", c.rate, c.delay, c.loss)
		t.Run(link, func(t *testing.T) {
			if c.rate < 100 { // the others need all the time there is
				t.Parallel()
			}
			m := newMachine(t)
			busy.Again(t, func() string {
				r := jsonOf[finding.ThroughputReport](t, m.overLink(link, "throughput", "-protocol", "udp", "-rate", fmt.Sprintf("%.0f", c.rate*1.2e6), "-for", "3s", "-explain=false", "-direction", "there", "-format", "json", "far.example"))
				d := r.Directions[0]
				through := c.rate * 1e6 * (1 - c.loss/100)
				return off("rate", *d.IPBps, through, 0.01*through+0.4*c.loss/100*through)
			})
		})
	}
}

// off says that a value is not what it should be, within a distance.
func off(what string, is, want, within float64) string {
	if math.Abs(is-want) <= within {
		return ""
	}
	return fmt.Sprintf("%s is %g, not %g ± %g", what, is, want, within)
}

// TestWhatHoldsThroughputBack: each cause where it is the only one.
func TestWhatHoldsThroughputBack(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		world string
		more  []string
		want  string
	}{
		{"small-line", []string{"-congestion", "cubic"}, "held_by_link"},
		{"fast-then-not", nil, "policed"},
		{"satellite-copy", []string{"-window", "65536"}, "held_by_window"},
		{"radio-copy", []string{"-congestion", "cubic"}, "held_by_loss"},
		{"nobody-may-upload", []string{"-congestion", "cubic"}, "bloat"},
		{"slow-up-fast-down", []string{"-direction", "each"}, "direction_differs"},
	} {
		t.Run(c.world, func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			m.good("lab", "up", "-world", "../../demo/faults/"+c.world+".yaml", "-name", c.world)
			_, process := labRecord(t, m, c.world)
			t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
			m.background("Far end at", "lab", "run", "-name", c.world, "-at", "terminal.holm.example", "--", program, "respond", "-listen", ":7474")
			args := append([]string{"lab", "run", "-name", c.world, "-at", desk, "--", program, "throughput", "-for", "6s", "-direction", "there", "-format", "json"}, c.more...)
			busy.Again(t, func() string {
				out, errs, status := m.keyed(append(args, "terminal.holm.example")...)
				require.Less(t, status, 2, "%s%s", out, errs)
				r := jsonOf[finding.ThroughputReport](t, out)
				found := codes(r.Findings)
				if !strings.Contains(strings.Join(found, " "), c.want) {
					return fmt.Sprintf("%s must be among %v: %s", c.want, found, out[:min(len(out), 1500)])
				}
				for _, other := range []string{"held_by_link", "policed", "held_by_window", "held_by_loss", "held_by_host"} {
					if strings.HasPrefix(c.want, "held") || c.want == "policed" {
						if other != c.want && strings.Contains(strings.Join(found, " "), other) {
							return fmt.Sprintf("%s must not be among %v", other, found)
						}
					}
				}
				return ""
			})
			m.good("lab", "down", "-name", c.world)
		})
	}
}

// TestAHostHoldsThroughputBack: a line without any limit, so that what the ends manage is
// all there is.
func TestAHostHoldsThroughputBack(t *testing.T) {
	m := newMachine(t)
	busy.AsItIs(t, func() string {
		out, errs, status := m.cli("throughput", "-world", "../../demo/faults/new-fast-line.yaml", "-from", desk, "-for", "8s", "-direction", "there", "-format", "json", "terminal.holm.example")
		require.Less(t, status, 2, "%s%s", out, errs)
		r := jsonOf[finding.ThroughputReport](t, out)
		if r.HeldBy != "held_by_host" {
			return fmt.Sprintf("held by %q: %v", r.HeldBy, codes(r.Findings))
		}
		return ""
	})
}

// TestClocksThatAreOff: a far clock that is slow and drifts is found, and taken out.
func TestClocksThatAreOff(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	busy.Again(t, func() string {
		out, errs, _ := m.cli("stream", "-world", "../../demo/faults/arrives-before-it-left.yaml", "-from", desk, "-for", "20s", "-format", "json", "terminal.holm.example")
		r := jsonOf[finding.StreamReport](t, out)
		found := codes(r.Findings)
		if !strings.Contains(strings.Join(found, " "), "clock_unsure") || strings.Contains(strings.Join(found, " "), "direction_differs") {
			return fmt.Sprintf("clock_unsure and no direction_differs must be among %v %s", found, errs)
		}
		if r.Clock.OffsetMs == nil || r.Clock.SkewPPM == nil {
			return "too little was heard to compare the clocks: " + errs
		}
		// It drifts by 40 ppm of the time since the world's reference, which is near now.
		if wrong := off("offset", *r.Clock.OffsetMs, -350, 5); wrong != "" {
			return wrong
		}
		if wrong := off("skew", math.Abs(*r.Clock.SkewPPM), 40, 8); wrong != "" {
			return wrong
		}
		for _, d := range r.Directions {
			if wrong := off("one-way delay", *d.MedianMs, 11.5, 0.3); wrong != "" {
				return wrong
			}
		}
		return ""
	})
}
