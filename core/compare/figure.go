package compare

import (
	"math"
	"slices"

	"woodlark.example/core/loss"
)

// Figure is one figure of a side, with the interval in which it surely lies (95 %). Figures of two
// sides are compared by their key and way.
type Figure struct {
	Key  string   `json:"key"`
	Name string   `json:"name"`
	Way  string   `json:"way,omitempty"` // there or back; empty for both
	Unit string   `json:"unit"`          // ms, ratio, bit/s, mos, bytes or nothing
	At   *float64 `json:"value"`
	Low  *float64 `json:"low"`
	High *float64 `json:"high"`
	// Of is how many readings, probes or packets it rests on.
	Of int `json:"of,omitempty"`
	// MoreIsBetter says which way is better.
	MoreIsBetter bool `json:"more_is_better,omitempty"`
	// Worth is which difference is worth speaking of, in its unit.
	Worth float64 `json:"worth"`
	// Part is the same as a part of the smaller of both.
	Part float64 `json:"worth_ratio"`
}

// z is that of an interval of 95 %.
const z = 1.96

// Median is the median of values, with the interval of it by their order: the ranks between which
// it lies whatever the distribution is (sign test). It is nothing of fewer than six values.
func Median(values []float64) (at, low, high *float64) {
	n := len(values)
	if n == 0 {
		return nil, nil, nil
	}
	sorted := slices.Sorted(slices.Values(values))
	m := sorted[n/2]
	if n%2 == 0 {
		m = (sorted[n/2-1] + sorted[n/2]) / 2
	}
	if n < 6 {
		return &m, nil, nil
	}
	half := z * math.Sqrt(float64(n)) / 2
	i := max(0, int(math.Floor(float64(n)/2-half)))
	j := min(n-1, int(math.Ceil(float64(n)/2+half))-1)
	return &m, &sorted[i], &sorted[max(i, j)]
}

// Mean is the mean of values, with its interval; of values that follow each other in time, such as
// seconds of a transfer, what one has in common with the next makes it wider.
func Mean(values []float64) (at, low, high *float64) {
	n := float64(len(values))
	if n == 0 {
		return nil, nil, nil
	}
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	m := sum / n
	if n < 3 {
		return &m, nil, nil
	}
	var square, next float64
	for i, v := range values {
		square += (v - m) * (v - m)
		if i > 0 {
			next += (v - m) * (values[i-1] - m)
		}
	}
	if square == 0 {
		return &m, &m, &m
	}
	// As many values as stand by themselves, where each resembles the one before (a first-order
	// autoregression).
	r := max(0, min(0.95, next/square))
	alone := max(2, n*(1-r)/(1+r))
	half := student(int(alone)-1) * math.Sqrt(square/(n-1)/alone)
	a, b := m-half, m+half
	return &m, &a, &b
}

// student is the 97.5 % quantile of Student's distribution, as a table and then as the normal one.
func student(freedom int) float64 {
	table := []float64{12.71, 12.71, 4.30, 3.18, 2.78, 2.57, 2.45, 2.36, 2.31, 2.26, 2.23, 2.20, 2.18, 2.16, 2.14, 2.13, 2.12, 2.11, 2.10, 2.09, 2.09}
	if freedom < len(table) {
		return table[max(1, freedom)]
	}
	return 1.96 + 2.5/float64(freedom)
}

// Ratio is a part of a number, with Wilson's interval.
func Ratio(of, all int) (at, low, high *float64) {
	if all <= 0 {
		return nil, nil, nil
	}
	p := float64(of) / float64(all)
	a, b, _ := loss.Ratio{Lost: of, Sent: all}.Interval()
	return &p, &a, &b
}
