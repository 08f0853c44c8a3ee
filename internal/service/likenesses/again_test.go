package likenesses

import (
	"context"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/delay"
	"woodlark.example/core/likeness"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/probe/history"
	"woodlark.example/wire"
)

// reference is a Tuesday; its hours are those of the worlds' daily changes.
var reference = time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)

const (
	lasting = 30 * time.Minute
	each    = 200 * time.Millisecond
)

// probed are the probes of half an hour in a world, in virtual time.
func probed(t *testing.T, m *world.Model, from, to string, start time.Time) (list []reading.Probe, target netip.Addr) {
	t.Helper()
	a, err := m.Find(from)
	require.NoError(t, err)
	b, err := m.Find(to)
	require.NoError(t, err)
	for _, addr := range m.Nodes()[b].Addresses {
		if addr.Is4() {
			target = addr
		}
	}
	if !target.IsValid() {
		return nil, target
	}
	require.NoError(t, history.Minutes(context.Background(), m, history.Path{From: a, To: target, Interval: each, Wait: 2 * time.Second}, start, start.Add(lasting),
		func(_ reading.Reading, some []reading.Probe) error { list = append(list, some...); return nil }))
	return list, target
}

// met is what the probes of half an hour met.
type met struct {
	rtt    delay.Summary
	loss   loss.Ratio
	run    float64
	memory delay.Memory
}

func metBy(list []reading.Probe) (m met) {
	var samples []delay.Sample
	var lost []bool
	for i, p := range list {
		gone := p.Outcome == reading.Lost
		if !gone {
			samples = append(samples, delay.Sample{Number: i, RTT: p.RTT})
		}
		lost = append(lost, gone)
	}
	m.rtt = delay.Summarise(samples)
	m.loss = loss.Ratio{Lost: len(lost) - len(samples), Sent: len(lost)}
	m.run = loss.PatternOf(lost).MeanRun.Or(0)
	m.memory, _ = delay.MemoryOf(samples, each)
	return m
}

// again makes a world of what was measured, and measures in that.
func again(t *testing.T, m likeness.Measured, start time.Time) (string, []reading.Probe) {
	t.Helper()
	l := likeness.Of(m)
	f := file{from: "near", to: "far.example", family: wire.IPv4, via: "icmp", what: "near → far.example"}
	text := f.write(&l)
	made, err := world.Read([]byte(text), world.Options{Reference: start, Zone: time.UTC})
	require.NoError(t, err, text)
	list, _ := probed(t, made, "near", "far.example", start)
	return text, list
}

// TestThereAndBackAgain: of each network with a fault, as it is in the afternoon, a network
// is made of what probes met, which is measured in turn.
func TestThereAndBackAgain(t *testing.T) {
	all, err := faults.List()
	require.NoError(t, err)
	made := 0
	for _, x := range all {
		for _, hour := range []int{16} {
			start := reference.Add(time.Duration(hour) * time.Hour).Add(10 * time.Minute)
			m, err := x.World(reference, time.UTC)
			require.NoError(t, err)
			list, target := probed(t, m, x.From, x.To, start)
			if !target.IsValid() {
				continue
			}
			first := metBy(list)
			if first.rtt.Count < 100 || slices.ContainsFunc(list, func(p reading.Probe) bool { return p.Outcome == reading.Refused }) {
				continue // nothing comes back of it that has a delay
			}
			made++
			t.Run(fmt.Sprintf("%s at %d", x.Name, hour), func(t *testing.T) {
				text, probes := again(t, likeness.Measured{Probes: list, Every: each, Size: 84}, start)
				second := metBy(probes)
				near := func(a, b time.Duration, part float64, what string) {
					assert.LessOrEqual(t, math.Abs(float64(a-b)), part*float64(a)+2e3, "%s: %v, then %v", what, a, b)
				}
				near(first.rtt.Median.Or(0), second.rtt.Median.Or(0), 0.03, "median")
				near(first.rtt.P95.Or(0), second.rtt.P95.Or(0), 0.10, "95 %")
				low, high, _ := first.loss.Interval()
				low2, high2, _ := second.loss.Interval()
				assert.True(t, low2 <= high && low <= high2, "loss: %v to %v, then %v to %v", low, high, low2, high2)
				if first.loss.Lost >= 30 {
					assert.InEpsilon(t, first.run, second.run, 0.35, "mean run")
				}
				if t.Failed() {
					t.Log(text, first.memory, second.memory)
				}
			})
		}
	}
	assert.GreaterOrEqual(t, made, 40, "of 71 networks")
	t.Logf("%d networks", made)
}
