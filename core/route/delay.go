package route

import (
	"slices"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
)

// Added is what a hop adds to the delay.
type Added struct {
	Median figure.Duration // round trip to the hop; absent when it did not answer
	// Delay is the hop's median less that of the last hop before it that answered;
	// it is below 0 where a hop before answers slowly.
	Delay figure.Duration
	// Carried is the part of it that carries on to the target: what each hop
	// behind takes at least.
	Carried figure.Duration
	// Slow says that the hop surely takes longer to answer than hops behind it: it
	// answers slowly, and forwards as fast as others.
	Slow bool
}

// spanOf is a median with its 95 % interval, by order statistics.
type spanOf struct {
	median, low, high time.Duration
	set               bool
}

func medianOf(rtts []time.Duration) spanOf {
	if len(rtts) == 0 {
		return spanOf{}
	}
	sorted := slices.Clone(rtts)
	slices.Sort(sorted)
	low, high := delay.MedianInterval(sorted)
	return spanOf{delay.Quantile(sorted, 0.5), low, high, true}
}

// Add tells the delay that hops add from slow answers, hop by hop from here to
// the target, by the round trips to each.
func Add(hops [][]time.Duration) []Added {
	out := make([]Added, len(hops))
	medians := make([]spanOf, len(hops))
	carried := make([]spanOf, len(hops))
	least := spanOf{}
	for i := len(hops) - 1; i >= 0; i-- {
		m := medianOf(hops[i])
		medians[i] = m
		if m.set {
			out[i].Median = figure.Of(m.median)
			out[i].Slow = least.set && m.low > least.high
			if !least.set || m.median < least.median {
				least = m
			}
		}
		carried[i] = least
	}
	var before, carriedBefore time.Duration
	for i := range hops {
		if !medians[i].set {
			continue
		}
		out[i].Delay = figure.Of(medians[i].median - before)
		out[i].Carried = figure.Of(carried[i].median - carriedBefore)
		before, carriedBefore = medians[i].median, carried[i].median
	}
	return out
}
