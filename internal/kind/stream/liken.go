package stream

import (
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/likeness"
)

// Liken gives what the stream met each way.
func (r *Result) Liken(m *likeness.Measured) {
	for _, d := range r.Directions {
		w := wayOf(d, figure.FromMillis(r.IntervalMs))
		if d.Shape != nil && d.Shape.Offset {
			m.Offset = true
		}
		if d.There {
			m.There = w
		} else {
			m.Back = w
		}
	}
}

func wayOf(d finding.StreamDirection, every time.Duration) *likeness.Way {
	w := &likeness.Way{Every: every, Sent: d.Sent, Lost: -1, Runs: d.Runs, Received: d.Received, Duplicates: d.Duplicates, Reordered: d.Reordered}
	if d.Lost != nil {
		w.Lost = *d.Lost
	}
	s := d.Shape
	if s == nil {
		return w
	}
	at := make([]time.Duration, len(s.QuantilesMs))
	for i, v := range s.QuantilesMs {
		at[i] = figure.FromMillis(v)
	}
	w.Quantiles = likeness.Quantiles(at)
	w.Memory = delay.Memory{For: figure.FromMillis(s.MemoryMs), Share: s.MemoryShare}
	if s.HeldMs != nil {
		w.Held = figure.FromMillis(*s.HeldMs)
	}
	return w
}
