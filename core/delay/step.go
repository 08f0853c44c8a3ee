package delay

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Step is a level of delay that became another and stayed.
type Step struct {
	At            int // place of the first delay of the new level
	Before, After time.Duration
	// Chance is how likely delays of one level would part so by their order, at most.
	Chance float64
}

const (
	// leastSide is how many delays each level must have.
	leastSide = 10
	// sideApart is the part of the delays on either side that lie on their own side of
	// the middle between the levels.
	sideApart = 0.9
	// leastStep and leastStepPart are the least difference of levels that is worth a
	// word, by itself and of the lower one.
	leastStep     = time.Millisecond
	leastStepPart = 0.05
	mostByChance  = 1e-3
)

// StepOf finds whether a series of delays has two levels, one until a moment and another
// from it to the end: by ranks, whatever their distribution, and only if
// nearly all delays lie on their side, so that a slow drift, a stretch that passes and
// turns between two ways are none.
func StepOf(series []time.Duration) (Step, bool) {
	at, chance := parting(series)
	if at < leastSide || len(series)-at < leastSide || chance > mostByChance {
		return Step{}, false
	}
	s := Step{At: at, Chance: chance}
	s.Before, _ = Median(series[:at])
	s.After, _ = Median(series[at:])
	apart := s.After - s.Before
	if apart < 0 {
		apart = -apart
	}
	if apart < leastStep || float64(apart) < leastStepPart*float64(min(s.Before, s.After)) {
		return Step{}, false
	}
	middle := (s.Before + s.After) / 2
	for _, side := range [][]time.Duration{series[:at], series[at:]} {
		own, _ := Median(side)
		on := 0
		for _, v := range side {
			if (v > middle) == (own > middle) {
				on++
			}
		}
		if float64(on) < sideApart*float64(len(side)) || drifts(side, apart) {
			return Step{}, false
		}
	}
	return s, true
}

// drifts reports whether one side moves by itself, by a third of the step.
func drifts(side []time.Duration, step time.Duration) bool {
	third := max(1, len(side)/3)
	early, _ := Median(side[:third])
	late, _ := Median(side[len(side)-third:])
	return early-late > step/3 || late-early > step/3
}

// parting is where ranks part most, and how likely that is by chance.
func parting(series []time.Duration) (at int, chance float64) {
	n := len(series)
	if n < 2*leastSide {
		return 0, 1
	}
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(series[a], series[b]) })
	rank := make([]float64, n)
	for i := 0; i < n; {
		k := i
		for k < n && series[order[k]] == series[order[i]] {
			k++
		}
		for j := i; j < k; j++ { // ties share their mean rank
			rank[order[j]] = float64(i+k+1) / 2
		}
		i = k
	}
	// The sum of ranks before a moment, against what it is where the order says nothing, in
	// its standard deviations (Mann and Whitney); the largest over all moments.
	sum, most := 0.0, 0.0
	f := float64(n)
	for i := range n - leastSide {
		sum += rank[i] - (f+1)/2
		k := float64(i + 1)
		if z := math.Abs(sum) / math.Sqrt(k*(f-k)*(f+1)/12); i+1 >= leastSide && z > most {
			most, at = z, i+1
		}
	}
	return at, min(1, f*math.Erfc(most/math.Sqrt2))
}
