package throughput

import (
	"context"
	"math"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/loss"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/session"
)

// ofUDP is what both ends counted of datagrams.
func (m *measurement) ofUDP(d *finding.ThroughputDirection, o nearend.Outcome, there bool) {
	counted, left := o.CountedThere, o.LeftThere
	if !there {
		counted, left = o.CountedBack, o.LeftBack
	}
	if !o.Complete && !o.Told && (there || left == 0) { // one end's counts are missing
		counted = nil
	}
	d.Packets, d.SentBytes = &left, left*int64(m.r.Size)
	length := m.r.For
	if !o.Complete {
		length = min(length, o.Took)
	}
	sent := capacity.Of(d.SentBytes, length.Seconds())
	d.SentBps = bps(sent)
	if counted == nil {
		return
	}
	d.ReceivedBytes, d.Span = counted.Bytes, counted.Seconds
	d.Reordered, d.Duplicates, d.JitterMs = &counted.Reordered, &counted.Duplicates, counted.JitterMs
	if left > 0 {
		lost := float64(max(0, left-counted.Packets)) / float64(left)
		d.LossRatio = &lost
	}
	// n packets span n − 1 distances.
	if counted.Packets > 1 && counted.Seconds > 0 {
		span := counted.Seconds * float64(counted.Packets) / float64(counted.Packets-1)
		d.Span = span
		d.ReceivedBps = bps(capacity.Of(counted.Bytes, span))
	}
	d.WholeBps = d.ReceivedBps
	m.layers(d, capacity.Framing{Family: m.r.Family, Transport: capacity.UDP, Payload: m.r.Size})
	m.secondsOf(d, o, there)
}

func (m *measurement) secondsOf(d *finding.ThroughputDirection, o nearend.Outcome, there bool) {
	type second struct {
		start, length       float64
		packets, bytes, out int64
		machine             *float64
	}
	var nearby, far []second
	for _, s := range o.NearSeconds {
		nearby = append(nearby, second{s.Start.Seconds(), s.Length.Seconds(), s.Packets, s.Bytes, s.Sent, s.Load.Machine})
	}
	for _, s := range o.FarSeconds {
		far = append(far, second{s.Start, s.Seconds, s.Packets, s.Bytes, s.Sent, s.CPU.Machine})
	}
	to, from := far, nearby
	if !there {
		to, from = nearby, far
	}
	for i, s := range to {
		if s.length <= 0 || s.start > m.r.For.Seconds()-0.1 { // what comes after the end is of the last second
			continue
		}
		v := finding.ThroughputSpan{Start: s.start, Length: s.length, ReceivedBytes: s.bytes, ReceivedBps: float64(s.bytes) * 8 / s.length, CPUTo: s.machine}
		if i < len(from) {
			bytes := from[i].out * int64(m.r.Size)
			v.SentBytes, v.CPUFrom = &bytes, from[i].machine
		}
		d.Spans = append(d.Spans, v)
	}
}

// try sends datagrams at a rate for a short time, and says what they met.
func (m *measurement) try(ctx context.Context, way Direction, rate capacity.Rate) (finding.ThroughputTry, error) {
	t, _, err := m.tried(ctx, way, rate)
	return t, err
}

// tried is the same with the counts.
func (m *measurement) tried(ctx context.Context, way Direction, rate capacity.Rate) (finding.ThroughputTry, loss.Ratio, error) {
	var counts loss.Ratio
	t := finding.ThroughputTry{OfferedBps: float64(rate)}
	r := m.r
	r.Protocol, r.Streams, r.Burst = capacity.UDP, 1, 0
	order, err := r.order(way, rate, tryFor)
	if err != nil {
		return t, counts, err
	}
	options := m.o
	options.Rest = 100 * time.Millisecond
	run, err := nearend.Open(ctx, options, order)
	if err != nil {
		return t, counts, err
	}
	o, err := run.Run(ctx, nil)
	if err != nil {
		return t, counts, err
	}
	worst := 0.0
	for i, counted := range []*session.Counted{o.CountedThere, o.CountedBack} {
		left := []int64{o.LeftThere, o.LeftBack}[i]
		if counted == nil || left == 0 {
			continue
		}
		lost := float64(max(0, left-counted.Packets)) / float64(left)
		if t.LossRatio == nil || lost > worst {
			worst = lost
			t.LossRatio, t.DelayedMs = &lost, counted.WaitedMs
			counts = loss.Ratio{Lost: int(max(0, left-counted.Packets)), Sent: int(left)}
			t.ReceivedBps = bps(capacity.Of(counted.Bytes, counted.Seconds))
		}
		// A sender that could not keep up did not offer that rate.
		t.OfferedBps = min(t.OfferedBps, float64(left)*float64(m.r.Size)*8/tryFor.Seconds())
	}
	return t, counts, nil
}

// search finds the highest rate whose loss is within the limit: it doubles until one is
// not, and halves the distance then, to within one percent.
func (m *measurement) search(ctx context.Context, way Direction) (capacity.Rate, error) {
	index := 0
	if way == Back {
		index = 1
	}
	var tried []finding.ThroughputTry
	good, bad := capacity.Rate(0), m.r.Rate*1.0001
	rate := min(1e6, m.r.Rate)
	for n := 0; n < 24 && (good == 0 || bad/good > 1.01); n++ {
		m.heard("search at "+rate.String(), nearend.Progress{Length: tryFor})
		t, err := m.try(ctx, way, rate)
		if err != nil {
			return 0, err
		}
		tried = append(tried, t)
		fine := t.LossRatio != nil && *t.LossRatio <= m.r.LossLimit
		switch {
		case fine && t.OfferedBps < 0.97*float64(rate): // this host offers no more
			bad = rate
			good = max(good, capacity.Rate(t.OfferedBps))
			n = 24
		case fine:
			good = rate
		default:
			bad = rate
		}
		if good == 0 {
			rate /= 4
		} else if bad > m.r.Rate {
			if good >= m.r.Rate {
				break
			}
			rate = min(2*good, m.r.Rate)
		} else {
			rate = capacity.Rate(math.Sqrt(float64(good) * float64(bad)))
		}
		if rate < 1000 {
			break
		}
	}
	if d := m.last[index]; d != nil {
		d.Tried = append(d.Tried, tried...)
	} else {
		m.last[index] = &finding.ThroughputDirection{Tried: tried}
	}
	if good == 0 {
		return 1000, nil
	}
	return good, nil
}

// explain finds out by datagrams what TCP cannot tell: whether packets are lost at half
// of its rate too, and whether what is beyond it waits before it is dropped. What is lost
// at half the rate is asked for again until it stands.
func (m *measurement) explain(ctx context.Context, d *finding.ThroughputDirection) (below, above *capacity.Burst) {
	if !m.r.Explain || d.ReceivedBps == nil || *d.ReceivedBps < 50_000 {
		return nil, nil
	}
	way := There
	if !d.There {
		way = Back
	}
	burst := func(rate capacity.Rate) *capacity.Burst {
		m.heard("what held it: datagrams at "+rate.String(), nearend.Progress{Length: tryFor})
		t, lost, err := m.tried(ctx, way, rate)
		if err != nil || t.LossRatio == nil {
			return nil
		}
		d.Tried = append(d.Tried, t)
		b := &capacity.Burst{Rate: capacity.Rate(t.OfferedBps), For: tryFor, Lost: lost}
		if t.DelayedMs != nil {
			b.Delayed = figure.Of(figure.FromMillis(*t.DelayedMs))
		}
		return b
	}
	reached := capacity.Rate(*d.ReceivedBps)
	below = burst(reached / 2)
	for range mostAgain {
		if below == nil || below.Settled() || ctx.Err() != nil {
			break
		}
		if more := burst(reached / 2); more != nil {
			below.Lost.Lost += more.Lost.Lost
			below.Lost.Sent += more.Lost.Sent
		}
	}
	if reached < mostExplain {
		above = burst(reached * 3 / 2)
	}
	return below, above
}

const (
	// mostAgain is how often a burst is sent again that did not settle a question.
	mostAgain = 4
	// mostExplain is the rate beyond which datagrams are not paced well enough to say
	// whose the loss is.
	mostExplain = capacity.Rate(600e6)
)
