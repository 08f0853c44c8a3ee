package trial_test

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
	"woodlark.example/internal/busy"
	"woodlark.example/internal/network/circuit"
)

// onLink makes a plan one of frames on the circuit's link.
func onLink(p acceptance.Plan, tags ...acceptance.Tag) acceptance.Plan {
	p.Over, p.Ethernet = acceptance.Frame, acceptance.Ethernet{Interface: circuit.Interface, Tags: tags}
	return p
}

// TestFramesThroughABridge: a shaped way there, loss on the way back, by frames without IP.
func TestFramesThroughABridge(t *testing.T) {
	const rate, size = 20e6, 512
	b := across(t, circuit.Options{Bridged: true, There: circuit.Way{Rate: rate, Queue: 30_000}}, false)
	for name, c := range map[string]struct {
		tags    []acceptance.Tag
		labels  []uint32
		counted int // bytes of a frame that the shaper counts: neither FCS nor a tag that the kernel took off
	}{
		"bare":             {nil, nil, size - 4},
		"tagged":           {[]acceptance.Tag{{VLAN: 100, Priority: 5}}, nil, size - 8},
		"tagged, labelled": {[]acceptance.Tag{{VLAN: 100}}, []uint32{16, 1048575}, size - 8},
	} {
		t.Run(name, func(t *testing.T) {
			p := onLink(quick("throughput", size), c.tags...)
			p.Ethernet.Labels = c.labels
			p.Way, p.BySize.Most = acceptance.There, amount(t, "30M")
			busy.Tries(t, func(try *busy.Try) {
				r := run(try, b, p)
				require.Len(try, r.Sizes, 1)
				got := r.Sizes[0].Ways[0].Throughput.Rates.FPS * 8 * float64(c.counted)
				assert.InEpsilon(try, rate, got, 0.005, r.Sizes[0].Ways[0].Throughput.Limited)
			})
		})
	}
}

// TestLossOnALink: what a bridge drops is told in its direction, within its interval; returned
// frames tell the round trip.
func TestLossOnALink(t *testing.T) {
	b := across(t, circuit.Options{Bridged: true, Back: circuit.Way{Drop: 200}}, false)
	p := onLink(quick("loss", 256), acceptance.Tag{VLAN: 7, Priority: 3})
	p.BySize.Most, p.BySize.Loss.Step = amount(t, "8M"), acceptance.ShareOf(0.5)
	busy.Tries(t, func(c *busy.Try) {
		r := run(c, b, p)
		assert.Empty(c, r.Notes, "the tag arrives as it was sent")
		for _, w := range r.Sizes[0].Ways {
			want := map[bool]float64{true: 0, false: 0.02}[w.There]
			at := w.Loss[0]
			assert.True(c, *at.LossLow <= want && want <= *at.LossHigh, "there %v: %v in %v to %v", w.There, want, *at.LossLow, *at.LossHigh)
		}
	})
	q := onLink(quick("latency", 256))
	q.Ends, q.BySize.Most = acceptance.Returned, amount(t, "2M")
	busy.Tries(t, func(c *busy.Try) {
		r := run(c, b, q)
		d := r.Sizes[0].Ways[0].Latency.Delay
		assert.Equal(c, acceptance.Round, d.Of)
		assert.Less(c, d.P50Ms, 5.0)
		assert.Positive(c, d.LeastMs)
	})
}

// TestMarksOnALink: what a capture sees is what was asked for: of each service its own VLAN and
// priority, of IP its DSCP.
func TestMarksOnALink(t *testing.T) {
	b, c := acrossOf(t, circuit.Options{Bridged: true}, false)
	seen := capture(t, c.Far, "not arp", "-e", "ieee8021ad.id", "-e", "ieee8021ad.priority", "-e", "vlan.id", "-e", "vlan.priority", "-e", "vlan.etype", "-e", "mpls.label", "-e", "frame.len")
	five, two, id := 5, 2, 200
	p := onLink(quick("", 0), acceptance.Tag{VLAN: 100, Type: acceptance.ServiceTag}, acceptance.Tag{VLAN: 300, Priority: 1})
	p.BySize, p.Ethernet.Labels = nil, []uint32{16, 77}
	p.Way = acceptance.There
	p.By = &acceptance.Services{Configuration: acceptance.Configuration{Skip: true}, Performance: acceptance.Performance{For: acceptance.Span(time.Second)},
		List: []acceptance.Service{{Name: "voice", CIR: amount(t, "1M"), Frames: "200", Priority: &five}, {Name: "data", CIR: amount(t, "1M"), Frames: "1000", Priority: &two, VLAN: &id}}}
	busy.Tries(t, func(c *busy.Try) {
		r := run(c, b, p)
		assert.Empty(c, r.Notes)
		for _, s := range r.Services {
			require.NotNil(c, s.Ways[0].Run, s.Service)
			assert.EqualValues(c, 0, s.Ways[0].Run.Lost, s.Service)
		}
	})
	counts := seen()
	// Tags from the outside in; the frame's length is without its FCS.
	for _, want := range []string{"100|5|300|1|0x8847|16,77|196", "200|2|300|1|0x8847|16,77|996"} {
		assert.Greater(t, counts[want], 50, "%s of %v", want, counts)
	}
	ip := quick("", 0)
	ip.BySize, ip.Way, ip.By = nil, acceptance.There, &acceptance.Services{Configuration: acceptance.Configuration{Skip: true}, Performance: acceptance.Performance{For: acceptance.Span(time.Second)},
		List: []acceptance.Service{{Name: "voice", CIR: amount(t, "1M"), Frames: "200", DSCP: "EF"}}}
	seen = capture(t, c.Far, "udp", "-e", "ip.dsfield.dscp", "-e", "frame.len")
	busy.Tries(t, func(c *busy.Try) { assert.Empty(c, run(c, b, ip).Notes) })
	assert.Greater(t, seen()["46|196"], 50)
}

// TestNoLinkBetween: each says what is missing.
func TestNoLinkBetween(t *testing.T) {
	apart := across(t, circuit.Options{}, false) // a router stands between
	far := onLink(quick("loss", 256))
	far.BySize.Most = amount(t, "8M")
	for name, c := range map[string]struct {
		by, says string
	}{
		"no such interface": {"quay9", `there is no interface "quay9"`},
		"within this host":  {"lo", "lo is within this host"},
		"a router between":  {circuit.Interface, "no frame comes back on quay0: do both ends share this link"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, b := far, *apart
			p.Ethernet.Interface = c.by
			b.Plan = p
			_, err := b.Make(t.Context(), *acceptance.Walk(p, nil).Next, nil)
			require.ErrorContains(t, err, c.says)
		})
	}
}

// capture has a network analyser watch an end's link, and returns what ends it and counts what it
// saw: the fields of each frame.
func capture(t *testing.T, at *circuit.End, what string, fields ...string) func() map[string]int {
	t.Helper()
	args := append([]string{"--net=" + at.Path(), "tshark", "-n", "-l", "-i", circuit.Interface, "-f", what, "-T", "fields", "-E", "separator=|"}, fields...)
	c := exec.Command("nsenter", args...)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	said, err := c.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	counts := map[string]int{}
	var reading sync.WaitGroup
	reading.Go(func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			counts[lines.Text()]++
		}
	})
	ready := make(chan struct{})
	reading.Go(func() {
		told := sync.OnceFunc(func() { close(ready) })
		defer told()
		for lines := bufio.NewScanner(said); lines.Scan(); {
			if strings.HasPrefix(lines.Text(), "Capturing on") {
				told()
			}
		}
		_, _ = io.Copy(io.Discard, said)
	})
	<-ready
	return func() map[string]int {
		assert.NoError(t, c.Process.Signal(syscall.SIGINT))
		reading.Wait()
		_ = c.Wait()
		return counts
	}
}

// TestShapedRatesOfAllSizes is TestShapedRates from 1 to 500 Mbit/s, over IP and without, as far as
// this machine sends so many frames: script/bench -only circuits runs it.
func TestShapedRatesOfAllSizes(t *testing.T) {
	if os.Getenv("WOODLARK_CIRCUITS") != "all" {
		t.Log("left to script/bench -only circuits")
		return
	}
	for _, rate := range []float64{1e6, 10e6, 100e6, 500e6} {
		b := across(t, circuit.Options{Bridged: true, There: circuit.Way{Rate: rate, Queue: int(max(30_000, rate/8*0.005))}}, false)
		for _, size := range []int{64, 128, 256, 512, 1024, 1280, 1518} {
			fps := rate / 8 / float64(size-4)
			if fps > 250_000 {
				t.Logf("%g Mbit/s of %d bytes are %.0f frames a second: not tried", rate/1e6, size, fps)
				continue
			}
			for name, p := range map[string]acceptance.Plan{"IP": quick("throughput", size), "Ethernet": onLink(quick("throughput", size))} {
				t.Run(fmt.Sprintf("%g Mbit/s, %d bytes, %s", rate/1e6, size, name), func(t *testing.T) {
					p.Way, p.BySize.Most = acceptance.There, acceptance.Same(acceptance.Amount{Value: 1.5 * rate, Unit: acceptance.Bits})
					p.BySize.Throughput.For = acceptance.Span(max(1, 10e6/rate) * float64(time.Second))
					busy.Tries(t, func(c *busy.Try) {
						w := run(c, b, p).Sizes[0].Ways[0].Throughput
						assert.InEpsilon(c, rate, w.Rates.FPS*8*float64(size-4), 0.005, w.Limited)
					})
				})
			}
		}
	}
}
