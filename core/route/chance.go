package route

import (
	"math"
	"math/rand/v2"
	"slices"

	"woodlark.example/core/loss"
)

// FlowFigures are what one flow met from end to end. Probes of a flow share the way there and
// the way back, each of which routers choose by the flow: so flows, not probes, are what
// is drawn at random.
type FlowFigures struct {
	Flow int
	Loss loss.Ratio
	// RTT is the median, ms; not a number when none came back. Low and High are its 95 %
	// interval.
	RTT, Low, High float64
}

// Unlikely is the chance below which what flows of one way show more than those of others
// is laid to that way, and not to how they happen to be spread over ways back. The
// chance is that of all ways that were compared together.
const Unlikely = 0.02

// Chance is how likely flows drawn at random from all of them would show a mean as high as
// the first ones do, or higher: a permutation test, one-sided, 0 to 1. Where there are
// more than some ten thousand ways to draw them a sample of as many is taken, always the same.
// It is 1 when one of the two is empty.
func Chance(mine, others []float64) float64 {
	n, k := len(mine)+len(others), len(mine)
	if k == 0 || k == n {
		return 1
	}
	all := slices.Concat(mine, others)
	bar := 0.0
	for _, v := range mine {
		bar += v
	}
	bar -= 1e-9 * (1 + math.Abs(bar)) // sums of the same in another order differ by a hair
	const most = 20000
	if ways(n, k) <= most {
		as, of := drawAll(all, k, bar)
		return float64(as) / float64(of)
	}
	r := rand.New(rand.NewPCG(uint64(n), uint64(k)))
	as := 1 // what was seen is one of the draws
	for range most {
		sum := 0.0
		for i := range k { // the first k of a shuffle
			j := i + r.IntN(n-i)
			all[i], all[j] = all[j], all[i]
			sum += all[i]
		}
		if sum >= bar {
			as++
		}
	}
	return float64(as) / (most + 1)
}

// ways is in how many ways k of n can be drawn.
func ways(n, k int) float64 {
	out := 1.0
	for i := range min(k, n-k) {
		out *= float64(n-i) / float64(i+1)
	}
	return math.Round(out)
}

// drawAll draws k of all in every way, and counts those whose sum is at least the bar.
func drawAll(all []float64, k int, bar float64) (as, of int) {
	var draw func(from, left int, sum float64)
	draw = func(from, left int, sum float64) {
		if left == 0 {
			of++
			if sum >= bar {
				as++
			}
			return
		}
		for i := from; i <= len(all)-left; i++ {
			draw(i+1, left-1, sum+all[i])
		}
	}
	draw(0, k, 0)
	return as, of
}

// Shift is by how much flows of one way lie above others: the median of all differences
// between one of them and one of the others. Not a number when one of the two is empty.
func Shift(mine, others []float64) float64 {
	var all []float64
	for _, a := range mine {
		for _, b := range others {
			all = append(all, a-b)
		}
	}
	if len(all) == 0 {
		return math.NaN()
	}
	slices.Sort(all)
	return (all[(len(all)-1)/2] + all[len(all)/2]) / 2
}

// Uneven is how likely the losses of flows would differ as much as they do, or more, if all
// lost alike: the chi-square test of their counts, 0 to 1 (by Wilson and Hilferty's cube
// root). It is 1 where less than one lost probe a flow is to be expected, of which that test
// tells nothing.
func Uneven(flows []FlowFigures) float64 {
	lost, sent := 0.0, 0.0
	for _, f := range flows {
		lost, sent = lost+float64(f.Loss.Lost), sent+float64(f.Loss.Sent)
	}
	degrees := float64(len(flows) - 1)
	if degrees < 1 || lost < float64(len(flows)) || lost == sent {
		return 1
	}
	p, chi := lost/sent, 0.0
	for _, f := range flows {
		n := float64(f.Loss.Sent)
		if n > 0 {
			chi += (float64(f.Loss.Lost) - n*p) * (float64(f.Loss.Lost) - n*p) / (n * p * (1 - p))
		}
	}
	spread := 2 / (9 * degrees)
	return math.Erfc((math.Cbrt(chi/degrees)-1+spread)/math.Sqrt(2*spread)) / 2
}
