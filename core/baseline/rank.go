package baseline

import (
	"math"
	"slices"
)

// ranksOf gives each value its rank, from 1, ties sharing their mean rank; and
// the sum of t³−t over groups of t equal values.
func ranksOf(values []float64) (ranks []float64, ties float64) {
	order := make([]int, len(values))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		switch {
		case values[a] < values[b]:
			return -1
		case values[a] > values[b]:
			return 1
		}
		return 0
	})
	ranks = make([]float64, len(values))
	for i := 0; i < len(order); {
		j := i + 1
		for j < len(order) && values[order[j]] == values[order[i]] {
			j++
		}
		mean := float64(i+1+j) / 2
		for _, k := range order[i:j] {
			ranks[k] = mean
		}
		t := float64(j - i)
		ties += t*t*t - t
		i = j
	}
	return ranks, ties
}

// greater is the one-sided p-value of the rank test of Mann and Whitney that
// sample tends to be greater than reference, by the normal approximation with
// ties and continuity corrected. 1 when either is empty or all are equal.
func greater(sample, reference []float64) float64 {
	n, m := float64(len(sample)), float64(len(reference))
	if n == 0 || m == 0 {
		return 1
	}
	ranks, ties := ranksOf(append(slices.Clone(sample), reference...))
	var sum float64
	for _, r := range ranks[:len(sample)] {
		sum += r
	}
	u := sum - n*(n+1)/2
	total := n + m
	variance := n * m / 12 * (total + 1 - ties/(total*(total-1)))
	if variance <= 0 {
		return 1
	}
	return math.Erfc((u-n*m/2-0.5)/math.Sqrt(variance)/math.Sqrt2) / 2
}

// changeIndex is the index at which values rise to another level, or fall to one
// when rise is false: the split that explains most of their variance, once the two at either end are drawn
// in, so that single outliers do not decide. 0 when there are fewer than two.
func changeIndex(values []float64, rise bool) int {
	if len(values) < 2 {
		return 0
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	outliers := min(2, (len(sorted)-1)/4)
	low, high := sorted[outliers], sorted[len(sorted)-1-outliers]
	clipped := make([]float64, len(values))
	var mean float64
	for i, v := range values {
		clipped[i] = max(low, min(high, v))
		mean += clipped[i] / float64(len(values))
	}
	n := float64(len(values))
	var best, left float64
	at := 0
	for i := 1; i < len(clipped); i++ {
		left += clipped[i-1] - mean
		k := float64(i)
		if gain := left * left * n / (k * (n - k)); left < 0 == rise && gain > best {
			best, at = gain, i
		}
	}
	return at
}
