package baseline

import (
	"math"
	"slices"
)

// split looks for a second level, as of traffic that is hashed over two ways: readings lie
// about one of two values and hardly between, they go to and fro, and the hours of the day do
// not say which it is. sh is the curve that they are held against; a flat line when nil.
func (f *fitter) split(sh *shape) bool {
	values := f.flat(sh)
	return f.splitBy(sh, len(values), func(i int) float64 { return values[i] }) ||
		f.splitBy(sh, len(values), func(i int) float64 { return calmed(values, i) })
}

// calmed is a value with its neighbours on both sides, as their middle: levels that lie close
// stand out where a path stays at each for a while.
func calmed(values []float64, i int) float64 {
	const near = 5
	if len(values) < near {
		return values[i]
	}
	from := min(max(0, i-near/2), len(values)-near)
	a, b, c, d, e := values[from], values[from+1], values[from+2], values[from+3], values[from+4]
	// Of the lower ones of two pairs the lower is below the middle, of the higher ones the higher
	// above it.
	if a > b {
		a, b = b, a
	}
	if c > d {
		c, d = d, c
	}
	low, high := max(a, c), min(b, d)
	if low > high {
		low, high = high, low
	}
	return min(max(low, e), high)
}

// splitBy looks for it in so many values.
func (f *fitter) splitBy(sh *shape, n int, value func(i int) float64) bool {
	sorted := make([]float64, 0, 2100)
	step := 1 + n/2000
	for i := 0; i < n; i += step {
		if f.s.weight[i] > 0.5 {
			sorted = append(sorted, value(i))
		}
	}
	slices.Sort(sorted)
	low, high, ok := twoGroups(sorted)
	if !ok {
		return false
	}
	cut := (low + high) / 2
	visits, above, up := 0, value(0) > cut, 0
	for i := range n {
		v := value(i)
		if v > cut {
			up++
		}
		// A change of sides counts where it is clear.
		if side := v > cut; side != above && f.s.weight[i] > 0.5 && math.Abs(v-cut) > (high-low)/4 {
			above = side
			visits++
		}
	}
	// Single readings that lie far off are a tail, and no level.
	if visits < 6 || up < 4*visits/2 {
		return false
	}
	upper := make([][]bool, len(f.c.days))
	for d, x := range f.c.days {
		upper[d] = make([]bool, f.c.bins)
		for b := range upper[d] {
			v := f.c.middle[d][b]
			if sh != nil {
				v -= sh.middle[x.kind()][b]
			}
			upper[d][b] = f.c.count[d][b] > 0 && v > cut
		}
	}
	if f.byTheHour(upper) > 0.3 {
		return false
	}
	f.gap, f.upper = high-low, upper
	return true
}

func (f *fitter) flat(sh *shape) []float64 {
	if sh == nil {
		return f.s.y
	}
	out := make([]float64, len(f.s.y))
	for i, y := range f.s.y {
		d, b := int(f.c.index[i])/f.c.bins, int(f.c.index[i])%f.c.bins
		out[i] = y - sh.middle[f.c.days[d].kind()][b]
	}
	return out
}

// twoGroups finds the middles of two groups of sorted values that have as good as nothing
// between them.
func twoGroups(sorted []float64) (low, high float64, ok bool) {
	n := len(sorted)
	if n < 100 {
		return 0, 0, false
	}
	// The split that leaves the least variance within (Otsu's), its sides being robust.
	var sum, all float64
	for _, v := range sorted {
		all += v
	}
	best, at := 0.0, 0
	for i, v := range sorted[:n-1] {
		sum += v
		k := float64(i + 1)
		d := sum/k - (all-sum)/(float64(n)-k)
		if gain := k * (float64(n) - k) * d * d; gain > best {
			best, at = gain, i+1
		}
	}
	if at < n/60 || n-at < n/60 {
		return 0, 0, false
	}
	lower, upper := sorted[:at], sorted[at:]
	low, high = quantile(lower, 0.5), quantile(upper, 0.5)
	gap := high - low
	ls, us := quantile(lower, 0.84)-low, high-quantile(upper, 0.16)
	if gap < 5*max(ls, us, 1e-9) {
		return 0, 0, false
	}
	between := 0
	for _, v := range sorted {
		if v > low+0.3*gap && v < high-0.3*gap {
			between++
		}
	}
	return low, high, between <= min(at, n-at)/12
}

// byTheHour is which part of the variance of being at the upper level the time of the day
// explains.
func (f *fitter) byTheHour(upper [][]bool) float64 {
	var p, n float64
	for d := range upper {
		for b := range upper[d] {
			if f.c.count[d][b] > 0 {
				n++
				if upper[d][b] {
					p++
				}
			}
		}
	}
	p /= max(n, 1)
	var explained, cells float64
	for k := range dayKinds {
		for b := range f.c.bins {
			var up, days float64
			for d, x := range f.c.days {
				if x.kind() == k && f.c.count[d][b] > 0 {
					days++
					if upper[d][b] {
						up++
					}
				}
			}
			if days < 2 {
				continue
			}
			share := up / days
			explained += days * ((share-p)*(share-p) - p*(1-p)/days)
			cells += days
		}
	}
	if cells == 0 || p == 0 || p == 1 {
		return 0
	}
	return explained / cells / (p * (1 - p))
}
