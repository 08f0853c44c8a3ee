package baseline

import (
	"math"
	"slices"
)

var nan = float32(math.NaN())

// scale maps a measure's values to one in which the spread is about even and in which
// more is worse: the logarithm of a delay above its floor, a straight line for the rest.
type scale struct {
	Floor float64 `json:"floor"`
	Soft  float64 `json:"soft"` // in the measure's unit: where the logarithm begins to bend
	Log   bool    `json:"log,omitempty"`
	Less  bool    `json:"less,omitempty"`
}

func (s scale) to(v float64) float64 {
	x := (v - s.Floor) / s.Soft
	if s.Less {
		return -x
	}
	if s.Log && x > 0 {
		return math.Log1p(x)
	}
	return x
}

func (s scale) from(y float64) float64 {
	if s.Less {
		return s.Floor - y*s.Soft
	}
	if s.Log && y > 0 {
		return s.Floor + s.Soft*math.Expm1(y)
	}
	return s.Floor + s.Soft*y
}

// worse is by how much y grows when a value gets worse by so much from where it is v.
func (s scale) worse(v, by float64) float64 {
	if s.Less {
		return s.to(v-by) - s.to(v)
	}
	return s.to(v+by) - s.to(v)
}

// scaleOf chooses the scale of a measure by its values in a quiet state: noise is the
// spread from one reading to the next.
func scaleOf(m Measure, values []float64, noise float64) scale {
	step := 1 + len(values)/4000
	sorted := make([]float64, 0, len(values)/step+1)
	for i := 0; i < len(values); i += step {
		sorted = append(sorted, values[i])
	}
	slices.Sort(sorted)
	noise = max(noise, kinds[m].grains)
	switch kinds[m].unit {
	case Milliseconds:
		return scale{Floor: quantile(sorted, 0.01), Soft: max(3*noise, 0.01*quantile(sorted, 0.5)), Log: true}
	default:
		return scale{Floor: quantile(sorted, 0.5), Soft: max(noise, 1e-6), Less: kinds[m].less}
	}
}

// quantile interpolates between the order statistics of sorted values.
func quantile(sorted []float64, q float64) float64 {
	position := float64(len(sorted)-1) * q
	below := int(position)
	if below >= len(sorted)-1 {
		return sorted[len(sorted)-1]
	}
	return sorted[below] + (position-float64(below))*(sorted[below+1]-sorted[below])
}

// median of values, whose order it changes; 0 when there are none.
func median(values []float64) float64 {
	n := len(values)
	if n == 0 {
		return 0
	}
	k := (n - 1) / 2
	pick(values, k)
	if n%2 == 1 {
		return values[k]
	}
	return (values[k] + slices.Min(values[k+1:])) / 2
}

// pick puts the value that would be at k were they sorted to k, lower ones before it and higher
// ones behind (Hoare's selection).
func pick(values []float64, k int) {
	low, high := 0, len(values)-1
	for low < high {
		pivot := values[(low+high)/2]
		if a, c := values[low], values[high]; a > pivot != (a > c) { // the middle one of three
			pivot = a
		} else if c > pivot != (c > a) {
			pivot = c
		}
		i, j := low, high
		for i <= j {
			for values[i] < pivot {
				i++
			}
			for values[j] > pivot {
				j--
			}
			if i <= j {
				values[i], values[j] = values[j], values[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			high = j
		case k >= i:
			low = i
		default:
			return
		}
	}
}

// madScale makes a median absolute deviation the standard deviation of a normal
// distribution.
const madScale = 1.4826

// robustMean is a mean in which no single value counts as further away from the median
// than three spreads. floor is the least spread.
func robustMean(values, weights []float64, floor float64) float64 {
	var sum, weight float64
	if len(values) < 3 {
		for i, v := range values {
			sum += v * weights[i]
			weight += weights[i]
		}
		return sum / max(weight, 1e-9)
	}
	sorted := slices.Clone(values)
	middle := weightedMedian(values, weights)
	for i, v := range values {
		sorted[i] = math.Abs(v - middle)
	}
	reach := 3 * max(madScale*median(sorted), floor)
	for i, v := range values {
		sum += weights[i] * min(middle+reach, max(middle-reach, v))
		weight += weights[i]
	}
	return sum / max(weight, 1e-9)
}

func weightedMedian(values, weights []float64) float64 {
	order := make([]int, len(values))
	var all float64
	for i := range order {
		order[i] = i
		all += weights[i]
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
	var sum float64
	for k, i := range order {
		sum += weights[i]
		if sum > all/2 || k == len(order)-1 {
			return values[i]
		}
		if sum == all/2 {
			return (values[i] + values[order[k+1]]) / 2
		}
	}
	return 0
}
