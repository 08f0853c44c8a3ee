package likeness_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/capacity"
	"woodlark.example/core/delay"
	"woodlark.example/core/likeness"
	"woodlark.example/core/reading"
)

const ms = time.Millisecond

var start = time.Date(2026, 11, 24, 16, 0, 0, 0, time.UTC)

// probes are one a second, each as a function says: an RTT in milliseconds, 0 where none came back.
func probes(n int, rtt func(i int) float64) (list []reading.Probe) {
	for i := range n {
		p := reading.Probe{Number: i, DueAt: start.Add(time.Duration(i) * time.Second)}
		if v := rtt(i); v > 0 {
			p.Outcome, p.RTT = reading.Answered, time.Duration(v*1e6)
		}
		list = append(list, p)
	}
	return list
}

func of(list []reading.Probe) likeness.Likeness {
	return likeness.Of(likeness.Measured{Probes: list, Every: time.Second, Size: 84})
}

func noted(t *testing.T, l likeness.Likeness, says string) {
	t.Helper()
	assert.Contains(t, strings.Join(l.Notes, "\n"), says)
}

func TestOfProbesAlone(t *testing.T) {
	l := of(probes(1000, func(i int) float64 {
		if i%100 == 7 { // ten, apart from each other
			return 0
		}
		return 20 + float64(i%10) // 20 to 29 ms, each as often
	}))
	assert.InDelta(t, 10, l.There.DelayMs, 1e-9, "half of the least, each way")
	assert.InDelta(t, 10, l.Back.DelayMs, 1e-9)
	last := l.There.Varies[len(l.There.Varies)-1]
	assert.InDelta(t, 9, last.ToMs, 1e-9, "all that varies, on the way there")
	assert.Empty(t, l.Back.Varies)
	part := 0.0
	for _, b := range l.There.Varies {
		part += b.Part
	}
	assert.InDelta(t, 1, part, 1e-12)
	assert.InDelta(t, 0.01, l.There.LossRatio, 1e-12)
	assert.Zero(t, l.There.LossRun, "at random")
	noted(t, l, "each way has half of the least RTT")
	noted(t, l, "which way packets were lost was not measured")
	noted(t, l, "the path's MTU was not measured")
	noted(t, l, "the route was not measured")
}

func TestLossesAreLaidApart(t *testing.T) {
	for _, c := range []struct {
		name    string
		lost    func(i int) bool
		ratio   float64
		run     float64
		every   int
		outages []likeness.Outage
	}{
		{"in bursts of three", func(i int) bool { return i%97 < 3 }, 33.0 / 1000, 3, 0, nil},
		{"every fourth", func(i int) bool { return i%4 == 1 }, 0.25, 0, 4, nil},
		{"an outage of ten seconds, and one of a hundred else", func(i int) bool { return i >= 500 && i < 510 || i%100 == 7 }, 9.0 / 990, 0, 0, []likeness.Outage{{FromS: 500, ToS: 510}}},
		{"nearly an outage", func(i int) bool { return i >= 500 && i < 504 }, 0.004, 4, 0, nil},
		{"all", func(int) bool { return true }, 0, 0, 0, []likeness.Outage{{FromS: 0, ToS: 1000}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := of(probes(1000, func(i int) float64 {
				if c.lost(i) {
					return 0
				}
				return 20
			})).There
			assert.InDelta(t, c.ratio, d.LossRatio, 0.0005)
			assert.InDelta(t, c.run, d.LossRun, 0.1)
			assert.Equal(t, c.every, d.LossEvery)
			assert.Equal(t, append([]likeness.Outage{}, c.outages...), d.Outages)
		})
	}
}

func TestOvertakenDoubledAndRefused(t *testing.T) {
	list := probes(200, func(int) float64 { return 20 })
	for i := range list {
		switch {
		case i%20 == 3:
			list[i].Overtaken, list[i].RTT = true, 32*ms
		case i%20 == 9:
			list[i].Copies = 1
		case i == 100:
			list[i].Outcome, list[i].Cause = reading.Refused, "prohibited"
		}
	}
	l := of(list)
	assert.InDelta(t, 10.0/199, l.There.Reorders, 1e-9)
	assert.InDelta(t, 12, l.There.HeldMs, 1e-9)
	assert.InDelta(t, 10.0/199, l.There.Duplicates, 1e-9)
	assert.Empty(t, l.There.Varies, "what was overtaken is held back, and not varied")
	noted(t, l, "one probe was refused")
	noted(t, l, "which way packets were doubled or overtaken was not measured")
}

// way is what a stream met: delays evenly from a least to a most.
func way(least, most time.Duration, lost, runs int) *likeness.Way {
	at := make([]time.Duration, len(delay.Parts))
	for i, p := range delay.Parts {
		at[i] = least + time.Duration(p*float64(most-least))
	}
	return &likeness.Way{Every: 20 * ms, Sent: 1000, Lost: lost, Runs: runs, Received: 1000 - lost, Quantiles: likeness.Quantiles(at)}
}

func TestOfStreams(t *testing.T) {
	m := likeness.Measured{There: way(10*ms, 14*ms, 30, 10), Back: way(30*ms, 30*ms, 0, 0)}
	l := likeness.Of(m)
	assert.InDelta(t, 10, l.There.DelayMs, 1e-9)
	assert.InDelta(t, 30, l.Back.DelayMs, 1e-9)
	assert.InDelta(t, 4, l.There.Varies[len(l.There.Varies)-1].ToMs, 1e-9)
	assert.Empty(t, l.Back.Varies)
	assert.InDelta(t, 0.03, l.There.LossRatio, 1e-9)
	assert.InDelta(t, 3, l.There.LossRun, 1e-9, "thirty in ten runs")
	assert.Zero(t, l.Back.LossRatio)

	m.Offset = true // −500 ms there, +540 back
	m.There, m.Back = way(-490*ms, -486*ms, 0, 0), way(530*ms, 530*ms, 0, 0)
	l = likeness.Of(m)
	assert.InDelta(t, 20, l.There.DelayMs, 1e-9, "half of what both take, each")
	assert.InDelta(t, 20, l.Back.DelayMs, 1e-9)
	noted(t, l, "the clocks were not in step")

	// A stream that met another hour than the span does not stand for it.
	m = likeness.Measured{There: way(10*ms, 10*ms, 0, 0), Back: way(10*ms, 15*ms, 0, 0), Probes: probes(600, func(i int) float64 { return 60 + float64(i%5) }), Every: time.Second}
	l = likeness.Of(m)
	assert.Empty(t, l.There.Varies)
	assert.InDelta(t, 4, l.Back.Varies[len(l.Back.Varies)-1].ToMs, 1e-9, "on the way that varied more")
	assert.InDelta(t, 60, l.There.DelayMs+l.Back.DelayMs, 1e-9)
	noted(t, l, "the stream met other delays than the whole span")
}

func TestMemories(t *testing.T) {
	w := way(10*ms, 14*ms, 0, 0)
	for _, c := range []struct {
		name   string
		memory delay.Memory
		ms     float64
		says   string
	}{
		{"as measured", delay.Memory{For: 500 * ms, Share: 0.6}, 500, ""},
		{"none showed", delay.Memory{}, 5, "less than 20ms apart"},                                             // a quarter of 20 ms
		{"longer than it can show", delay.Memory{For: time.Minute, Share: 1}, 20000.0 / 12, "for longer than"}, // of 20 s
	} {
		t.Run(c.name, func(t *testing.T) {
			w.Memory = c.memory
			l := likeness.Of(likeness.Measured{There: w, Back: way(ms, ms, 0, 0)})
			assert.InDelta(t, c.ms, l.There.MemoryMs, 0.01)
			noted(t, l, c.says)
		})
	}
}

func TestRates(t *testing.T) {
	m := likeness.Measured{Probes: probes(100, func(int) float64 { return 20 }), Every: time.Second, Size: 84,
		CarriedThere: &likeness.Carried{IP: 1e6, Spans: []capacity.Rate{0.7e6, 1e6, 1.02e6, 1.02e6, 1.04e6}, Rest: 20 * ms, Load: 65 * ms, Held: capacity.ByLink},
		CarriedBack:  &likeness.Carried{IP: 3e6, Held: capacity.ByLoss}}
	l := likeness.Of(m)
	assert.InDelta(t, 1.02e6, l.There.RateBps, 1)
	assert.InDelta(t, 45/0.8, l.There.QueueMs, 1e-9, "of which four fifths are filled")
	assert.Zero(t, l.Back.RateBps, "what loss held tells nothing of the line")
	noted(t, l, "was held by something else than the link")
	noted(t, l, "may not have filled it")
	m.CarriedThere.Most = 95 * ms
	assert.InDelta(t, 45/0.8, likeness.Of(m).There.QueueMs, 1e-9, "packets also wait within the sender")
	m.CarriedThere.Whole = true
	assert.InDelta(t, 75*1.5, likeness.Of(m).There.QueueMs, 1e-9, "and it was never full")
	noted(t, likeness.Of(m), "at least as deep")
	// 84 bytes at 1.02 Mbit/s take 0.659 ms, which the made link takes by itself.
	assert.InDelta(t, 20-84*8/1.02e3, l.There.DelayMs+l.Back.DelayMs, 1e-3)

	m.CarriedThere.Held = capacity.ByPolicer
	l = likeness.Of(m)
	assert.True(t, l.There.Policed)
	noted(t, l, "lets through at once was not measured")
	assert.Zero(t, l.There.QueueMs)
}

func TestRoutes(t *testing.T) {
	m := likeness.Measured{Probes: probes(100, func(int) float64 { return 20 }), Every: time.Second, MTU: 1400, Hops: []likeness.Hop{
		{Address: "192.0.2.1", Name: "gw", RTT: 2 * ms}, {}, {Address: "203.0.113.1", RTT: 40 * ms}, {Address: "203.0.113.9", RTT: 20 * ms}}}
	l := likeness.Of(m)
	require.Len(t, l.Hops, 4)
	assert.Equal(t, 1400, l.MTU)
	sum := 0.0
	for _, h := range l.Hops {
		assert.GreaterOrEqual(t, h.ThereMs, 0.0)
		sum += h.ThereMs
	}
	assert.InDelta(t, 10, sum, 1e-9, "together they take what the way takes")
	assert.InDelta(t, 1, l.Hops[0].ThereMs, 1e-9, "a tenth of it")
	assert.InDelta(t, 9, l.Hops[1].ThereMs, 1e-9, "who is silent is no nearer than those behind it; who answers slowly is no further")
	noted(t, l, "1 of 4 hops stayed silent")
}

func TestOfNothing(t *testing.T) {
	l := likeness.Of(likeness.Measured{})
	noted(t, l, "no delay was measured")
	noted(t, l, "no loss was measured")
	assert.NotNil(t, l.Hops)
	assert.NotNil(t, l.There.Varies)
}
