package route

import (
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Carried is what of a hop's loss carries on.
type Carried struct {
	// Ratio is the part of the hop's loss that all hops behind it, to the target,
	// also show; absent when the hop was not asked. It never falls along a route.
	Ratio figure.Number
	// Begins says that carried loss surely rises at this hop; where the hop spares
	// its answers too, it may rise at the next only.
	Begins bool
	// Spares says that the hop surely loses more than it carries on: it spares its
	// own answers, and forwards. A hop that never answers while one behind it does
	// is such a hop too.
	Spares bool
}

// level is an interval that a carried ratio lies in, and the hop whose loss it is.
type level struct {
	ratio, low, high float64
	set              bool
}

// Carry tells carried loss from spared answers, hop by hop: from here to the
// target, which is the last. Two ratios differ only if their 95 % intervals do.
func Carry(hops []loss.Ratio) []Carried {
	out := make([]Carried, len(hops))
	levels := make([]level, len(hops))
	least := level{}
	for i := len(hops) - 1; i >= 0; i-- {
		if v, ok := hops[i].Value().Get(); ok {
			low, high, _ := hops[i].Interval()
			if !least.set || v < least.ratio {
				least.ratio = v
			}
			// What is carried is no more than any hop behind shows: the least of
			// the limits bounds it, as each of the hops carries at least as much.
			if !least.set || low < least.low {
				least.low = low
			}
			if !least.set || high < least.high {
				least.high = high
			}
			least.set = true
			out[i].Spares = low > least.high
		}
		levels[i] = least
		if least.set && hops[i].Sent > 0 {
			out[i].Ratio = figure.Of(least.ratio)
		}
	}
	before := level{set: true}
	for i, l := range levels {
		if !l.set || hops[i].Sent == 0 {
			continue
		}
		out[i].Begins = l.low > before.high
		if out[i].Begins || l.ratio >= before.ratio {
			before = l
		}
	}
	return out
}
