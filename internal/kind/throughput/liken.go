package throughput

import (
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/likeness"
)

// Liken gives the rates that came through each way.
func (r *Result) Liken(m *likeness.Measured) {
	for _, d := range r.Directions {
		if d.ReceivedBps == nil || d.IPBps == nil || *d.ReceivedBps <= 0 {
			continue
		}
		c := &likeness.Carried{IP: capacity.Rate(*d.IPBps), Held: capacity.Cause(d.HeldBy), Rest: duration(d.RTTRestMs), Load: duration(d.RTTLoadMs)}
		c.Whole = d.Resent != nil && *d.Resent == 0
		for _, s := range d.Spans {
			c.Most = max(c.Most, duration(s.RTTMs))
			if !s.WarmUp {
				c.Spans = append(c.Spans, capacity.Rate(s.ReceivedBps**d.IPBps / *d.ReceivedBps))
			}
		}
		if d.There {
			m.CarriedThere = c
		} else {
			m.CarriedBack = c
		}
	}
}

func duration(ms *float64) time.Duration {
	if ms == nil {
		return 0
	}
	return figure.FromMillis(*ms)
}
