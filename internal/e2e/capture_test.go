package e2e

import (
	"encoding/hex"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/busy"
	"woodlark.example/wire"
)

// upWithFarEnd puts a world up as a lab with a far end at one of its hosts.
func upWithFarEnd(t *testing.T, m *machine, world, name, host string) {
	t.Helper()
	m.good("lab", "up", "-world", world, "-name", name)
	_, process := labRecord(t, m, name)
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	m.background("Far end at", "lab", "run", "-name", name, "-at", host, "--", program, "respond", "-listen", ":7474")
}

// capture is what another program sees of the packets at a host of a lab.
type capture struct {
	file string
	stop func()
}

func (m *machine) capture(name, host string) capture {
	file := filepath.Join(m.t.TempDir(), host+".pcapng")
	p := m.background("Capturing on", "lab", "run", "-name", name, "-at", host, "--", "tshark", "-i", "any", "-w", file, "-f", "udp port 7474")
	return capture{file, func() { p.kill(syscall.SIGTERM) }}
}

// stampsAt are when the STAMP packets of a size passed, by their session and number, in
// seconds.
func (c capture) stampsAt(t *testing.T, size int) map[[2]int]float64 {
	t.Helper()
	out, err := exec.Command("tshark", "-r", c.file, "-T", "fields", "-e", "frame.time_epoch", "-e", "udp.payload", "-Y", fmt.Sprintf("udp.length == %d", size+8)).Output()
	require.NoError(t, err)
	at := map[[2]int]float64{}
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) != 2 {
			continue
		}
		data, err := hex.DecodeString(f[1])
		require.NoError(t, err)
		q, err := wire.ParseStampRequest(data)
		if err != nil {
			continue
		}
		seconds, err := strconv.ParseFloat(f[0], 64)
		require.NoError(t, err)
		at[[2]int{int(q.Session), int(q.Seq)}] = seconds
	}
	return at
}

// crossing is what a stream met between two captures: as another program would reckon it.
type crossing struct {
	sent, lost     int
	median, jitter float64 // ms
}

func crossed(from, to map[[2]int]float64, session int) crossing {
	var x crossing
	var delays, steps []float64
	before := math.NaN()
	for n := 0; ; n++ {
		left, ok := from[[2]int{session, n}]
		if !ok {
			break
		}
		x.sent++
		came, ok := to[[2]int{session, n}]
		if !ok {
			x.lost++
			before = math.NaN()
			continue
		}
		d := (came - left) * 1e3
		if !math.IsNaN(before) {
			steps = append(steps, math.Abs(d-before))
		}
		before = d
		delays = append(delays, d)
	}
	slices.Sort(delays)
	for _, s := range steps {
		x.jitter += s / float64(len(steps))
	}
	if len(delays) > 0 {
		x.median = delays[len(delays)/2]
	}
	return x
}

// TestStreamsAsCapturesShowThem: loss, one-way delay and jitter are those that the
// packets really met between the two hosts, by captures at both. All of it is tried
// again on a machine that stands still now and then.
func TestStreamsAsCapturesShowThem(t *testing.T) { // with nothing beside: it is held to a tenth of a millisecond
	for n, c := range links {
		t.Run(fmt.Sprintf("%gMbit/s, %gms, %g%%", c.rate, c.delay, c.loss), func(t *testing.T) {
			t.Parallel()
			m, link := newMachine(t), fmt.Sprintf("link%d", n)
			world := filepath.Join(t.TempDir(), "link.yaml")
			require.NoError(t, os.WriteFile(world, fmt.Appendf(nil, `world: link
seed: 7
nodes:
  - {name: near.example, addresses: [192.0.2.1]}
  - {name: far.example, addresses: [203.0.113.2]}
links:
  - {between: [near.example, far.example], rate: %gMbit/s, delay: %gms, loss: %g%%}
`, c.rate, c.delay, c.loss), 0o600))
			upWithFarEnd(t, m, world, link, "far.example")
			busy.Again(t, func() string {
				near, far := m.capture(link, "near.example"), m.capture(link, "far.example")
				out, errs, _ := m.keyed("lab", "run", "-name", link, "-at", "near.example", "--", program, "stream", "-every", "4ms", "-payload", "60", "-for", "6s", "-format", "json", "far.example")
				near.stop()
				far.stop()
				require.Contains(t, out, "{", errs)
				atNear, atFar := near.stampsAt(t, 60), far.stampsAt(t, 60)
				r := jsonOf[finding.StreamReport](t, out)
				require.Len(t, r.Directions, 2)
				for i, d := range r.Directions {
					seen := crossed(atNear, atFar, 1)
					if i == 1 {
						seen = crossed(atFar, atNear, 1+1<<12)
					}
					// A capture that had no time misses packets itself; ours would be wrong each time.
					if seen.sent != d.Sent || seen.lost != *d.Lost {
						return fmt.Sprintf("%s: %d of %d lost, by the captures %d of %d", d.Direction, *d.Lost, d.Sent, seen.lost, seen.sent)
					}
					// A packet leaves a host that stands still later than it was sent.
					for what, pair := range map[string][2]float64{"median": {seen.median, *d.MedianMs}, "jitter": {seen.jitter, *d.JitterMs}} {
						if wrong := off(d.Direction+" "+what, pair[1], pair[0], 0.1); wrong != "" {
							return wrong
						}
					}
					// 1,500 packets: four standard deviations of the loss.
					p := c.loss / 100
					if wrong := off("loss", *d.LossRatio, p, 4*math.Sqrt(p*(1-p)/1500)+0.001); wrong != "" {
						return wrong
					}
					serial := (60 + 28) * 8 / (c.rate * 1e3) // ms that the packet takes on the link
					if wrong := off("one-way delay", *d.MedianMs, c.delay+serial, 0.2); wrong != "" {
						return wrong
					}
				}
				return ""
			})
			m.good("lab", "down", "-name", link)
		})
	}
}

// TestCallsAsAnAnalystSeesThem: what another program reads out of the packets of a call
// agrees on loss and jitter, and finds nothing malformed.
func TestCallsAsAnAnalystSeesThem(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	upWithFarEnd(t, m, "../../demo/faults/clear-there-noisy-back.yaml", "call", "terminal.holm.example")
	// A capture that had no time misses packets itself; ours would be wrong each time.
	busy.Tries(t, func(t *busy.Try) { callsAsCaptured(t, m) })
	m.good("lab", "down", "-name", "call")
}

func callsAsCaptured(t *busy.Try, m *machine) {
	c := m.capture("call", desk)
	out, errs, status := m.keyed("lab", "run", "-name", "call", "-at", desk, "--", program, "stream", "-codec", "g711", "-for", "10s", "-format", "json", "terminal.holm.example")
	require.Less(t, status, 2, errs)
	r := jsonOf[finding.StreamReport](t, out)
	c.stop()
	seen, err := exec.Command("tshark", "-r", c.file, "-d", "udp.port==7474,rtp", "-q", "-z", "rtp,streams").Output()
	require.NoError(t, err)
	require.Empty(t, r.Problem)
	require.Len(t, r.Directions, 2)
	home := r.Directions[1]
	require.False(t, home.There)
	line, rest := streamLine(string(seen), "0x4C001000")
	require.NotEmpty(t, line, "no stream of the way back:\n%s", seen)
	// … packets lost (ratio) … jitter: the least, the mean, the most.
	k := slices.IndexFunc(rest, func(s string) bool { return strings.HasPrefix(s, "(") })
	require.Greater(t, k, 1, line)
	lost, _ := strconv.Atoi(rest[k-1])
	packets, _ := strconv.Atoi(rest[k-2])
	assert.Equal(t, home.Received, packets, line)
	assert.InDelta(t, *home.Lost, lost, 3, "losses at the ends are not seen there: %s", line)
	mean, err := strconv.ParseFloat(rest[len(rest)-2], 64)
	require.NoError(t, err, line)
	most, err := strconv.ParseFloat(rest[len(rest)-1], 64)
	require.NoError(t, err, line)
	assert.InDelta(t, mean, *home.MediaMs, max(0.02, 0.01*mean), line) // a capture stamps a moment before or after the socket does
	assert.InDelta(t, most, *home.MediaMost, max(0.05, 0.01*most), line)
	bad, err := exec.Command("tshark", "-r", c.file, "-d", "udp.port==7474,rtp", "-Y", "_ws.malformed").Output()
	require.NoError(t, err)
	assert.Empty(t, string(bad))
}

// TestStampAsAnAnalystSeesIt: packets to a reflector and back dissect cleanly as those of
// the two-way protocol whose format STAMP's is (RFC 8762 §4.6), and their fields are those
// that were sent.
func TestStampAsAnAnalystSeesIt(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.good("lab", "up", "-world", "../../demo/faults/clear-there-noisy-back.yaml", "-name", "stamp")
	_, process := labRecord(t, m, "stamp")
	t.Cleanup(func() { _ = syscall.Kill(process, syscall.SIGKILL) })
	m.background("Far end at", "lab", "run", "-name", "stamp", "-at", "terminal.holm.example", "--", program, "respond", "-listen", ":7474", "-reflect", "1000")
	// A capture that had no time misses packets itself; ours would be wrong each time.
	busy.Tries(t, func(t *busy.Try) { stampsAsCaptured(t, m) })
	m.good("lab", "down", "-name", "stamp")
}

func stampsAsCaptured(t *busy.Try, m *machine) {
	c := m.capture("stamp", desk)
	out, errs, status := m.keyed("lab", "run", "-name", "stamp", "-at", desk, "--", program, "stream", "-reflector", "-every", "10ms", "-for", "5s", "-dscp", "EF", "-format", "json", "terminal.holm.example:7474")
	require.Less(t, status, 2, errs)
	c.stop()
	r := jsonOf[finding.StreamReport](t, out)
	require.Len(t, r.Directions, 2)
	there, back := r.Directions[0], r.Directions[1]
	require.NotNil(t, back.Lost, "the reflector counts")
	assert.Zero(t, *there.Lost)
	assert.InDelta(t, 0.05, *back.LossRatio, 0.04, "four standard deviations")
	assert.Equal(t, []finding.DSCPCount{{DSCP: 46, Packets: back.Received}}, back.DSCPs)

	seen := func(filter string, fields ...string) [][]string {
		args := []string{"-r", c.file, "-d", "udp.port==7474,twamp.test", "-Y", filter, "-T", "fields"}
		for _, f := range fields {
			args = append(args, "-e", f)
		}
		b, err := exec.Command("tshark", args...).Output()
		require.NoError(t, err)
		var rows [][]string
		for line := range strings.Lines(string(b)) {
			rows = append(rows, strings.Fields(line))
		}
		return rows
	}
	assert.Empty(t, seen("_ws.malformed", "frame.number"))
	requests := seen("udp.dstport == 7474", "twamp.test.seq_number", "twamp.test.error_estimate.s", "ip.dsfield.dscp")
	require.NotEmpty(t, requests)
	first, err := strconv.Atoi(requests[0][0])
	require.NoError(t, err)
	require.Less(t, first, 250, "a capture begins a moment after it says so")
	for n, f := range requests {
		require.Equal(t, []string{strconv.Itoa(first + n), "46"}, []string{f[0], f[len(f)-1]})
	}
	answers := seen("udp.srcport == 7474 && twamp.test.sender_seq_number < 500", "twamp.test.seq_number", "twamp.test.sender_seq_number", "twamp.test.sender_ttl", "ip.dsfield.dscp")
	assert.Greater(t, len(answers), 200)
	assert.LessOrEqual(t, len(answers), r.Reflector.Answered)
	for _, f := range answers {
		require.Equal(t, []string{"60", "46"}, f[2:], "four routers took one each of 64")
		require.Equal(t, f[0], f[1], "nothing was lost on the way there, so both count alike")
	}
}

// streamLine is the line of a stream in a list of RTP streams, and its fields behind the
// source, without the mark of those that lost.
func streamLine(list, source string) (string, []string) {
	for line := range strings.Lines(list) {
		f := strings.Fields(line)
		i := slices.Index(f, source)
		if i < 0 {
			continue
		}
		if f[len(f)-1] == "X" {
			f = f[:len(f)-1]
		}
		return line, f[i+1:]
	}
	return "", nil
}
