package ready

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/core/readiness"
	"woodlark.example/core/voice"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/stream"
)

// streams sends those of all seats at once; where that does not hold, those of fewer seats, by
// halves.
func (t *test) streams(ctx context.Context) error {
	if len(t.n.Streams) == 0 {
		return nil
	}
	d := t.s.lengths()
	if err := t.streamsOf(ctx, t.seats, d.streams); err != nil {
		return t.without(ctx, readiness.Streams, err)
	}
	if t.s.Quick || t.seats < 2 {
		return nil
	}
	good, bad := 0, t.seats
	if readiness.Carried(t.n, t.facts, t.seats) != readiness.DoesNot {
		return nil
	}
	const tries = 4
	for i := range tries {
		try := (good + bad) / 2
		if i == 0 { // where one alone does not hold it is not for how many there are
			try = 1
		}
		if try <= good || try >= bad || ctx.Err() != nil {
			break
		}
		if err := t.streamsOf(ctx, try, d.again); err != nil {
			return t.without(ctx, readiness.Streams, err)
		}
		if readiness.Carried(t.n, t.facts, try) == readiness.Does {
			good = try
		} else {
			bad = try
		}
		if bad == 1 {
			break
		}
	}
	return nil
}

// streamsOf sends all streams of so many seats at once.
func (t *test) streamsOf(ctx context.Context, seats int, length time.Duration) error {
	what := "streams of a seat"
	if seats > 1 {
		what = fmt.Sprintf("streams of %d seats at once", seats)
	}
	t.tell(readiness.Streams, what)
	var all sync.WaitGroup
	reports, errs := make([]finding.StreamReport, len(t.n.Streams)), make([]error, len(t.n.Streams))
	for i, s := range t.n.Streams {
		all.Go(func() { reports[i], errs[i] = t.oneStream(ctx, s, seats, length) })
	}
	all.Wait()
	if err := errors.Join(errs...); err != nil {
		return errors.Join(slices.DeleteFunc(errs, func(e error) bool { return e == nil })[0])
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.facts.Tried = append(t.facts.Tried, seats)
	for i, r := range reports {
		if !r.Complete {
			return fmt.Errorf("%s: %s", t.n.Streams[i].Name, r.Problem)
		}
		if t.to == "" {
			t.to = r.To
		}
		for _, d := range r.Directions {
			t.facts.Streams = append(t.facts.Streams, seenOf(t.n.Streams[i], seats, r, d))
		}
		if t.facts.Rest == nil && r.RTTRestMs != nil { // pings were not answered
			t.facts.Rest = &readiness.Trip{MedianMs: r.RTTRestMs}
		}
	}
	return nil
}

func (t *test) oneStream(ctx context.Context, s readiness.Stream, seats int, length time.Duration) (r finding.StreamReport, err error) {
	q := stream.Request{Target: t.j.Lanes[t.lane].Target, Direction: stream.Both, For: length, Calls: seats, Buffer: voice.Fixed}
	point, err := dscp.Parse(s.DSCP)
	if err != nil {
		return r, err
	}
	q.DSCP = uint8(point)
	if s.Codec != "" {
		c, err := voice.ParseCodec(s.Codec)
		if err != nil {
			return r, err
		}
		q.Codec = &c
	} else {
		q.Interval, q.Size = s.Every.D(), s.Bytes
	}
	o := t.options
	if t.s.Quick {
		o.Rest, o.Settle = 300*time.Millisecond, time.Second
	}
	return stream.Measure(ctx, o, q, func(p nearend.Progress) {})
}

// seenOf is what a direction of a stream met.
func seenOf(s readiness.Stream, seats int, r finding.StreamReport, d finding.StreamDirection) readiness.StreamSeen {
	x := readiness.StreamSeen{Stream: s.Name, Seats: seats, There: d.There, Sent: d.Sent, Lost: d.Lost, LossRatio: d.LossRatio, LossLow: d.LossLow, LossHigh: d.LossHigh,
		DelayMs: d.MeanMs, VariationMs: d.Variation, DSCP: d.DSCPSent, LateSent: d.LateSent}
	if r.Clock.ErrorMs != nil {
		x.DelayErrMs = *r.Clock.ErrorMs
	}
	if d.Quality != nil {
		x.MOS = d.Quality.WorstMOS
	}
	if d.DSCPSent != nil {
		came := map[int]int{}
		for _, c := range d.DSCPs {
			came[c.DSCP] = c.Packets
		}
		x.Kept, x.Arrived = readiness.KeptOf(*d.DSCPSent, came)
	}
	return x
}
