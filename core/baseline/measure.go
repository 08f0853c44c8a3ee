package baseline

import (
	"slices"
	"time"

	"woodlark.example/core/loss"
)

// last are the newest n readings that may be tested.
func (j *Judge) last(n int) []Point {
	n = min(n, j.fresh, len(j.past))
	return j.past[len(j.past)-n:]
}

func valuesOf(points []Point, m Measure) []float64 {
	values := make([]float64, 0, len(points))
	for _, p := range points {
		if v, ok := p.Value(m); ok {
			values = append(values, v)
		}
	}
	return values
}

func countsOf(points []Point) loss.Ratio {
	var r loss.Ratio
	for _, p := range points {
		r.Lost += p.Lost
		r.Sent += p.Sent
	}
	return r
}

func median(values []float64) float64 {
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	return quantile(sorted, 0.5)
}

// test compares the last readings with what is normal at that time. It reports
// whether they are surely different and worth caring about.
func (j *Judge) test(m Measure, at time.Time) (Excess, bool) {
	n, resolution, ok := j.baseline.At(m, at)
	if !ok {
		return Excess{}, false
	}
	window := j.last(openWindow)
	values := valuesOf(window, m)
	if len(values) < openLeast {
		return Excess{}, false
	}
	x := Excess{Measure: m, Normal: n.Expected(m), Low: n.Low, High: n.High, Readings: len(values), Resolution: resolution}
	if m == Loss {
		return j.testLoss(x, n, window)
	}
	x.Now = median(values)
	x.Worst = x.Now
	if x.Now <= n.High+m.tolerance(n) {
		return x, false
	}
	x.Chance = greater(values, n.Quantiles)
	return x, x.Chance < j.options.alpha()
}

// testLoss asks whether the lost probes of the window are more than the path
// could normally lose, and spread over several readings: one short gap is not
// a lossy path.
func (j *Judge) testLoss(x Excess, n Normal, window []Point) (Excess, bool) {
	counts := countsOf(window)
	ceiling := n.lossCeiling()
	tolerance := Loss.tolerance(n)
	x.Now = counts.Value().Or(0)
	x.Worst = x.Now
	x.Sent, x.Lost = counts.Sent, counts.Lost
	if x.Now <= ceiling+tolerance {
		return x, false
	}
	bad := 0
	for _, p := range window {
		if v, ok := p.Value(Loss); ok && v > ceiling+tolerance {
			bad++
		}
	}
	if bad < max(3, len(window)/4) {
		return x, false
	}
	x.Chance = counts.AtLeast(ceiling)
	return x, x.Chance < j.options.alpha()
}

// began dates the opening of an episode back to the change in the measure.
func (j *Judge) began(m Measure) time.Time {
	// The window that opened it and as much again before it: a longer past
	// would only offer older changes.
	return j.changed(j.last(4*openWindow), m, true)
}

// ended dates the closing back to the change to normal of the measure that
// came back last.
func (j *Judge) ended() time.Time {
	var at time.Time
	for _, x := range j.degraded.Excesses {
		if t := j.changed(j.last(3*closeWindow), x.Measure, false); t.After(at) {
			at = t
		}
	}
	if at.Before(j.degraded.From) {
		at = j.past[len(j.past)-1].At
	}
	return at
}

func (j *Judge) changed(points []Point, m Measure, rise bool) time.Time {
	points = slices.DeleteFunc(slices.Clone(points), func(p Point) bool {
		_, ok := p.Value(m)
		return !ok
	})
	return points[changeIndex(valuesOf(points, m), rise)].At
}

// recovered reports whether every measure of the open episode has been normal,
// by a stricter limit than that which opened it, for closeWindow readings.
func (j *Judge) recovered(at time.Time) bool {
	window := j.last(closeWindow)
	if len(window) < closeWindow {
		return false
	}
	for _, x := range j.degraded.Excesses {
		n, _, ok := j.baseline.At(x.Measure, at)
		if !ok {
			continue
		}
		half := x.Measure.tolerance(n) / 2
		values := valuesOf(window, x.Measure)
		switch {
		case len(values) == 0:
			return false
		case x.Measure == Loss:
			if countsOf(window).Value().Or(0) > n.lossCeiling()+half {
				return false
			}
		default:
			slices.Sort(values)
			if quantile(values, 0.75) > n.High+half {
				return false
			}
		}
	}
	return true
}
