package guardbench

import (
	"math"
	"math/rand/v2"
	"time"
)

// fault is a kind of change, at a size of 0 to 3.
type fault struct {
	name string
	// long is for how long it goes on; 0: for good.
	long func(r *rand.Rand) time.Duration
	// bend changes a state; x is how far in the fault is, spread the robust spread of the path's
	// readings, tolerance what is worth caring about, size in spreads.
	bend func(r *rand.Rand, s *state, in time.Duration, f made)
}

// made is a fault in one path.
type made struct {
	kind   fault
	size   int
	shift  float64 // ms: the larger of spreads and what is worth caring about
	loss   float64 // ratio
	base   float64 // ms
	at, to time.Time
	// asked says that it is as large as a change has to be to be asked for: three robust spreads of
	// the readings of the same hours on other days, and worth caring about.
	asked bool
}

// sizes are in robust spreads of a path's readings, losses in shares of its probes.
var sizes = [4]float64{3.5, 6, 12, 30}
var losses = [4]float64{0.012, 0.03, 0.08, 0.25}

// beyond is how many tolerances a change is at the least.
var beyond = [4]float64{1.3, 1.8, 3, 8}

const creep, newLevel = "creep", "new level"

func some(low, high time.Duration) func(*rand.Rand) time.Duration {
	return func(r *rand.Rand) time.Duration {
		return time.Duration(between(r, float64(low), float64(high))).Truncate(time.Second)
	}
}

var faults = []fault{
	{"delay step", some(40*time.Minute, 10*time.Hour), func(_ *rand.Rand, s *state, _ time.Duration, f made) { s.delay += f.shift }},
	{newLevel, func(*rand.Rand) time.Duration { return 0 }, func(_ *rand.Rand, s *state, _ time.Duration, f made) { s.delay += f.shift }},
	{"loss", some(40*time.Minute, 8*time.Hour), func(_ *rand.Rand, s *state, _ time.Duration, f made) { s.loss += f.loss }},
	{"loss in bursts", some(time.Hour, 8*time.Hour), func(r *rand.Rand, s *state, _ time.Duration, f made) {
		if r.Float64() < 0.4 {
			s.burst += f.loss / 0.4 * 60 * (0.5 + r.Float64())
		}
	}},
	{"saturation", some(time.Hour, 6*time.Hour), func(r *rand.Rand, s *state, _ time.Duration, f made) {
		s.delay += f.shift * (1 + 0.15*r.NormFloat64())
		s.jitter += f.shift * 0.4
		s.loss += f.loss
	}},
	{"outage", some(5*time.Minute, 5*time.Hour), func(_ *rand.Rand, s *state, _ time.Duration, _ made) { s.down = true }},
	{"comes and goes", some(2*time.Hour, 8*time.Hour), func(_ *rand.Rand, s *state, in time.Duration, f made) {
		if in%(20*time.Minute) < 12*time.Minute {
			s.delay += f.shift * 1.5
			s.loss += f.loss
		}
	}},
	{"ramp", some(3*time.Hour, 10*time.Hour), func(_ *rand.Rand, s *state, in time.Duration, f made) {
		s.delay += 1.5 * f.shift * min(1, in.Minutes()/20)
	}},
	{"route change", some(2*time.Hour, 30*time.Hour), func(_ *rand.Rand, s *state, _ time.Duration, f made) {
		s.delay += f.shift
		s.noise *= 1.3
	}},
	{"jitter", some(time.Hour, 8*time.Hour), func(r *rand.Rand, s *state, _ time.Duration, f made) {
		more := max(f.shift, 4+2*s.jitter)
		s.jitter += more
		s.delay += 0.3 * f.shift
		s.noise += more / 12
	}},
	{creep, func(*rand.Rand) time.Duration { return 0 }, func(_ *rand.Rand, s *state, in time.Duration, f made) {
		s.delay += f.base * []float64{0.01, 0.02, 0.035, 0.05}[f.size] * in.Hours() / 24
	}},
}

// apply bends a state while the fault goes on.
func (f *made) apply(r *rand.Rand, s *state, t time.Time) {
	if f == nil || t.Before(f.at) || !f.to.IsZero() && !t.Before(f.to) {
		return
	}
	f.kind.bend(r, s, t.Sub(f.at), *f)
}

func poisson(r *rand.Rand, mean float64) int {
	if mean > 30 {
		return max(0, int(math.Round(mean+math.Sqrt(mean)*r.NormFloat64())))
	}
	limit, k, p := math.Exp(-mean), 0, 1.0
	for {
		if p *= r.Float64(); p <= limit {
			return k
		}
		k++
	}
}
