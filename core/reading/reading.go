package reading

import (
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Reading is what one run, or one minute, produced for one path.
//
// Sent = Answered + Lost + Refused. Late probes are among the lost.
type Reading struct {
	At         time.Time     // when it began
	Span       time.Duration // how long it lasted
	Expected   int           // probes that were due; 0 when that is not known
	Sent       int
	Answered   int
	Lost       int
	Late       int
	Refused    int
	Unsent     int
	Duplicates int
	LateSent   int
	RTT        delay.Summary
	// Reordered is how many answers were overtaken by the answer to a later probe
	// (RFC 4737 §4.1.1), Damaged how many came with another payload than was
	// sent. Absent where they were not looked at.
	Reordered, Damaged figure.Opt[int]
	Stamp              Stamp  // the weakest of the stamps it rests on
	Cause              string // the last refusal's or failed sending's cause
	As                 string // how the last answer came where that was otherwise than asked; see Probe
	Other              string // the address that answered in the target's place, if one did
}

// Loss is the loss of the reading.
func (r Reading) Loss() loss.Ratio { return loss.Ratio{Lost: r.Lost, Sent: r.Sent} }

// Short reports whether fewer probes were sent than were due.
func (r Reading) Short() bool { return r.Sent < r.Expected }

// Builder gathers probes, in sending order, into a Reading.
type Builder struct {
	at       time.Time
	span     time.Duration
	interval time.Duration
	expected int
	probes   []Probe
}

// NewBuilder begins a reading at a time, over a span in which expected probes
// are due. Span or expected may be 0 when they are not known beforehand.
func NewBuilder(at time.Time, span time.Duration, expected int) *Builder {
	b := &Builder{at: at, span: span, expected: expected}
	if expected > 0 {
		b.interval = span / time.Duration(expected)
		b.probes = make([]Probe, 0, expected)
	}
	return b
}

// Add appends the next probe in sending order.
func (b *Builder) Add(p Probe) { b.probes = append(b.probes, p) }

// Reset begins anew at another time and keeps the memory.
func (b *Builder) Reset(at time.Time) {
	b.at = at
	b.probes = b.probes[:0]
}

// At is when the reading begins.
func (b *Builder) At() time.Time { return b.at }

// Len is the number of probes so far.
func (b *Builder) Len() int { return len(b.probes) }

// Probes are the probes so far, in sending order; the slice is the builder's own.
func (b *Builder) Probes() []Probe { return b.probes }

// Reading computes the figures of the probes so far.
func (b *Builder) Reading() Reading {
	return Of(b.at, b.span, b.expected, b.interval, b.probes)
}

// Of computes the figures of probes, which are in sending order. interval, when
// known, tightens what counts as late-sent.
func Of(at time.Time, span time.Duration, expected int, interval time.Duration, probes []Probe) Reading {
	r := Reading{At: at, Span: span, Expected: expected}
	samples := make([]delay.Sample, 0, len(probes))
	overtaken, damaged := 0, 0
	for i, p := range probes {
		if p.Outcome == Unsent {
			r.Unsent++
			r.Cause = p.Cause
			continue
		}
		r.Sent++
		r.Duplicates += p.Copies
		if p.Overtaken {
			overtaken++
		}
		if p.Damaged {
			damaged++
		}
		if p.As != "" {
			r.As = p.As
		}
		if p.Peer.IsValid() {
			r.Other = p.Peer.String()
		}
		if LateSent(p.SentLate, interval) {
			r.LateSent++
		}
		switch p.Outcome {
		case Answered:
			r.Answered++
			samples = append(samples, delay.Sample{Number: i, RTT: p.RTT})
			if r.Stamp == StampNone || p.Stamp < r.Stamp {
				r.Stamp = p.Stamp
			}
		case Refused:
			r.Refused++
			r.Cause = p.Cause
		case Late:
			r.Late++
			r.Lost++
		default:
			r.Lost++
		}
	}
	r.RTT = delay.Summarise(samples)
	r.Reordered, r.Damaged = figure.Of(overtaken), figure.Of(damaged)
	return r
}
