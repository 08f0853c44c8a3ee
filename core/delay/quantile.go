package delay

import (
	"math"
	"slices"
	"time"
)

// Quantile returns the q-quantile (0 to 1) of values sorted in ascending
// order, interpolated linearly between order statistics at position (n−1)·q.
// It panics when sorted is empty.
func Quantile(sorted []time.Duration, q float64) time.Duration {
	position := float64(len(sorted)-1) * q
	below := int(math.Floor(position))
	if below >= len(sorted)-1 {
		return sorted[len(sorted)-1]
	}
	part := position - float64(below)
	return sorted[below] + time.Duration(math.Round(part*float64(sorted[below+1]-sorted[below])))
}

// MedianInterval is the 95 % interval of the median of sorted values, by order
// statistics: no shape of the distribution is assumed. Of fewer than six values it
// is their whole span, which tells less.
func MedianInterval(sorted []time.Duration) (low, high time.Duration) {
	n := len(sorted)
	if n == 0 {
		return 0, 0
	}
	reach := int(math.Ceil(0.98 * math.Sqrt(float64(n))))
	return sorted[max(0, n/2-reach)], sorted[min(n-1, n/2+reach)]
}

// Median returns the middle of values, which it does not change; false when
// there are none.
func Median(values []time.Duration) (time.Duration, bool) {
	if len(values) == 0 {
		return 0, false
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	return Quantile(sorted, 0.5), true
}
