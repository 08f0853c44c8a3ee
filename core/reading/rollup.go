package reading

import (
	"slices"
	"time"

	"woodlark.example/core/delay"
)

// Rollup is many readings of one path as one: counts, sums and a sketch, so
// that two rollups merge exactly, whatever their order.
type Rollup struct {
	At       time.Time
	Span     time.Duration
	Readings int
	Sent     int
	Answered int
	Lost     int
	Refused  int
	// Measured is for how long at least one probe was sent, and Answering for how long of that at
	// least one was answered.
	Measured, Answering time.Duration
	Min, Max            time.Duration // 0 when nothing was answered
	Sum                 time.Duration // of all answered round-trip times
	Sketch              Sketch

	values []time.Duration // as long as no rollup was merged in: then quantiles are exact
	merged bool
}

// Quantile is the q-quantile (0 to 1) of the answered round-trip times; false
// when there are none. It is exact for a rollup that was made of readings
// alone, and read from the sketch, within 0.5 %, for one that was merged.
func (u *Rollup) Quantile(q float64) (time.Duration, bool) {
	if u.Max == 0 {
		return 0, false
	}
	if !u.merged && len(u.values) == u.Answered {
		slices.Sort(u.values)
		return delay.Quantile(u.values, q), true
	}
	v, ok := u.Sketch.Quantile(q)
	// A sketch is coarse at its ends; what lies beyond min or max does not exist.
	return max(u.Min, min(u.Max, v)), ok
}

// Add counts one reading with its probes.
func (u *Rollup) Add(r Reading, probes []Probe) {
	u.Readings++
	u.Sent += r.Sent
	u.Answered += r.Answered
	u.Lost += r.Lost
	u.Refused += r.Refused
	if r.Sent > 0 {
		u.Measured += r.Span
	}
	if r.Answered > 0 {
		u.Answering += r.Span
	}
	seen := 0
	for _, p := range probes {
		if p.Outcome != Answered {
			continue
		}
		seen++
		u.extend(p.RTT, p.RTT)
		u.Sum += p.RTT
		u.values = append(u.values, p.RTT)
		u.Sketch.Add(p.RTT)
	}
	// Of answers of which only the reading's figures are known the mean is, and no more.
	if mean, known := r.RTT.Mean.Get(); known && seen < r.Answered {
		u.Sum += mean * time.Duration(r.Answered-seen)
	}
}

// Merge adds another rollup.
func (u *Rollup) Merge(o Rollup) {
	u.merged = true
	u.Readings += o.Readings
	u.Sent += o.Sent
	u.Answered += o.Answered
	u.Lost += o.Lost
	u.Refused += o.Refused
	u.Measured += o.Measured
	u.Answering += o.Answering
	if o.Max > 0 {
		u.extend(o.Min, o.Max)
	}
	u.Sum += o.Sum
	u.Sketch.Merge(o.Sketch)
}

func (u *Rollup) extend(low, high time.Duration) {
	if u.Max == 0 || low < u.Min {
		u.Min = low
	}
	u.Max = max(u.Max, high)
}
