// Package stream measures what a paced stream of packets meets between two ends: each
// way by itself.
//
//	report, err := stream.Measure(ctx, nearend.Options{Network: n, To: far, Key: key}, stream.Request{For: 10 * time.Second, Both: true}, nil)
package stream

import (
	"context"
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/oneway"
	"woodlark.example/core/voice"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// Direction is which way is measured.
type Direction string

// The directions.
const (
	Both  Direction = "both"
	There Direction = "there" // from here to the far end
	Back  Direction = "back"
)

// Request is what to measure.
type Request struct {
	Target    string // as it was asked for
	Direction Direction
	For       time.Duration
	// Codec shapes the packets as a call does; else Interval or Rate, and Size, do.
	Codec    *voice.Codec
	Calls    int // side by side; 1 when 0
	Interval time.Duration
	Rate     capacity.Rate
	Size     int // bytes of UDP payload
	DSCP     uint8
	Buffer   voice.Buffer // de-jitter buffer; the zero value is the fixed one
}

// DefaultSize and DefaultInterval are those of a stream that is like nothing special.
const (
	DefaultSize     = 172
	DefaultInterval = 20 * time.Millisecond
)

// Shape is what one direction sends.
func (r Request) Shape() (paced.Shape, error) {
	s := paced.Shape{Format: paced.Stamp, Calls: max(1, r.Calls), Interval: r.Interval, Sizes: []int{r.Size}, For: r.For, First: 1, DSCP: r.DSCP}
	if c := r.Codec; c != nil {
		if r.Interval > 0 || r.Rate > 0 || r.Size > 0 {
			return s, errors.New("a codec says itself how often it sends how much: leave out interval, rate and size")
		}
		s.Format, s.Interval, s.Type, s.Clock, s.Frame, s.First = paced.RTP, c.Packet, c.Type, c.Clock, int(c.Frame), 0x4c000000
		s.Sizes = nil
		for _, n := range c.Sizes {
			s.Sizes = append(s.Sizes, n+wire.RTPHeader)
		}
		return s, s.Check()
	}
	if r.Size == 0 {
		s.Sizes = []int{DefaultSize}
	}
	switch {
	case r.Rate > 0 && r.Interval > 0:
		return s, errors.New("rate and interval say the same: give one of them")
	case r.Rate > 0:
		s.Interval = time.Duration(float64(s.Sizes[0]) * 8 / float64(r.Rate) * 1e9 * float64(s.Calls))
	case r.Interval == 0:
		s.Interval = DefaultInterval
	}
	return s, s.Check()
}

// Order is what is asked of the far end.
func (r Request) Order() (session.Order, error) {
	there, err := r.Shape()
	if err != nil {
		return session.Order{}, err
	}
	back := there
	back.First += 1 << 12 // other sources than there
	var o session.Order
	switch r.Direction {
	case There:
		o.There = &there
	case Back:
		o.Back = &back
	case Both, "":
		o.There, o.Back = &there, &back
	default:
		return o, fmt.Errorf("no direction %q: there, back or both", r.Direction)
	}
	return o, nil
}

// Measure measures, and reports what was found. What broke off is reported with its
// reason; the error is for what could not be measured at all.
func Measure(ctx context.Context, o nearend.Options, r Request, heard func(nearend.Progress)) (finding.StreamReport, error) {
	order, err := r.Order()
	if err != nil {
		return finding.StreamReport{}, err
	}
	run, err := nearend.Open(ctx, o, order)
	if err != nil {
		return finding.StreamReport{}, err
	}
	outcome, err := run.Run(ctx, heard)
	if err != nil {
		return finding.StreamReport{}, err
	}
	report := Report(outcome, r)
	report.Address = o.To.String()
	return report, nil
}

// Report concludes what both ends noted.
func Report(o nearend.Outcome, r Request) finding.StreamReport {
	x := finding.Streamed{From: o.Near.Name, To: o.Far.Name, Codec: r.Codec, Buffer: r.Buffer, Rest: nearend.MedianOf(o.Rest), Load: nearend.MedianOf(o.Load)}
	if x.Buffer == (voice.Buffer{}) {
		x.Buffer = voice.Fixed
	}
	if x.To == "" || x.To == x.From {
		x.To = r.Target
	}
	calls := max(1, r.Calls)
	for call := range calls {
		there, back := o.StreamsOf(call)
		if o.Order.There != nil && (o.Complete || len(o.CameThere.Arrivals) > 0) {
			x.There = append(x.There, there)
		}
		if o.Order.Back != nil && (o.Complete || len(o.SentBack.Sent) > 0) {
			x.Back = append(x.Back, back)
		}
	}
	x.Clock = clockOf(o, x.There, x.Back)
	if o.Order.Back != nil && len(x.Back) == 0 {
		alone(&x, o, calls)
	}
	for i, s := range []*paced.Shape{o.Order.There, o.Order.Back} {
		if s != nil {
			x.DSCPs[i], x.Bps[i] = int(s.DSCP), s.Rate()
		}
	}
	report := x.Report()
	report.Target, report.StartedAt, report.ElapsedMs = r.Target, o.Started.UTC(), figure.Millis(o.Took)
	report.Complete, report.Problem, report.Reports, report.Streams = o.Complete, o.Problem, o.Reports, calls
	shape := o.Order.There
	if shape == nil {
		shape = o.Order.Back
	}
	report.Format, report.IntervalMs = string(shape.Format), figure.Millis(shape.Interval)
	if r.Codec != nil {
		report.Codec = r.Codec.Name
	}
	if o.Dropped+o.FarDropped > 0 {
		report.Note = fmt.Sprintf("Buffers of the two ends had no room for %d packets here and %d there: those are not the network's loss.", o.Dropped, o.FarDropped)
	}
	if !o.Complete && len(x.There) == 0 && o.Order.There != nil {
		report.Note = fmt.Sprintf("The far end's notes did not come over: by its last word %d packets had arrived there; %d had left here.", o.Last.Packets, o.LeftThere)
	}
	return report
}

// alone is what is known of the way back when the far end's notes did not come over.
func alone(x *finding.Streamed, o nearend.Outcome, calls int) {
	for call := range calls {
		told, timed := paced.Told(*o.Order.Back, o.CameBack, call)
		if len(told.Sent) == 0 {
			continue
		}
		x.Back = append(x.Back, told)
		if !timed {
			x.Clock = oneway.Clock{}
		}
	}
}

// clockOf is how the two ends' clocks stand: one and the same clock, two that are kept
// in step, or two whose offset has to be estimated.
func clockOf(o nearend.Outcome, there, back []oneway.Stream) oneway.Clock {
	if o.Near.Boot != "" && o.Near.Boot == o.Far.Boot && o.Near.Offset == o.Far.Offset {
		return oneway.Stepped(0)
	}
	a, b := o.Near.Clock, o.Far.Clock
	if a.Synchronised && b.Synchronised && a.ErrorMs != nil && b.ErrorMs != nil {
		return oneway.Stepped(figure.FromMillis(*a.ErrorMs + *b.ErrorMs))
	}
	var f, g oneway.Stream
	if len(there) > 0 && len(back) > 0 {
		f, g = there[0], back[0]
	}
	c, _ := oneway.Estimate(f, g)
	return c
}
