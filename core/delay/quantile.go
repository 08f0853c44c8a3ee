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

// Parts are the parts of the packets at which Quantiles are taken: close together where delays
// are long.
var Parts = []float64{0, 0.005, 0.01, 0.02, 0.05, 0.1, 0.15, 0.2, 0.25, 0.3, 0.35, 0.4, 0.45, 0.5, 0.55, 0.6, 0.65, 0.7, 0.75, 0.8, 0.85,
	0.9, 0.925, 0.95, 0.97, 0.98, 0.99, 0.995, 0.999, 1}

// Quantiles are those of sorted values at Parts; none of none.
func Quantiles(sorted []time.Duration) []time.Duration {
	if len(sorted) == 0 {
		return nil
	}
	list := make([]time.Duration, len(Parts))
	for i, p := range Parts {
		list[i] = Quantile(sorted, p)
	}
	return list
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
