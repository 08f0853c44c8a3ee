package delay

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Memory is for how long delays stay near what they were: after For the correlation of what lasts of
// their variation has fallen to 1/e. Share is the part of the variance that lasts; the rest is each
// packet's own. Both are of normal scores, so that a few long delays do not decide.
type Memory struct {
	For   time.Duration
	Share float64
}

// leastForMemory is how many delays show a memory.
const leastForMemory = 60

// mostNumbers bounds the span of numbers, which come from outside.
const mostNumbers = 4 << 20

// fades is how the correlation of what lasts falls, by eighths of the memory: that of a delay that
// runs from one score to the next, over all phases between two.
var fades = [...]float64{1, 0.984, 0.938, 0.868, 0.779, 0.679, 0.574, 0.469, 0.368, 0.276, 0.195, 0.128, 0.077, 0.041, 0.019, 0.007, 0.002, 0}

func fading(x float64) float64 {
	at := x * 8
	i := int(at)
	if i >= len(fades)-1 {
		return 0
	}
	return fades[i] + (at-float64(i))*(fades[i+1]-fades[i])
}

// MemoryOf finds how long delays last, of probes that are numbered in sending order, one every so
// often; false when nothing of it shows: what lasts for less than about half the time between two
// probes cannot be seen.
func MemoryOf(samples []Sample, every time.Duration) (Memory, bool) {
	n := len(samples)
	if n < leastForMemory || every <= 0 {
		return Memory{}, false
	}
	if samples[n-1].Number-samples[0].Number > mostNumbers {
		return Memory{}, false
	}
	at := scores(samples)
	var lags []int
	var seen []float64
	for lag := 1; lag <= n/4; lag = max(lag+1, lag*5/4) {
		if r, pairs := at.correlation(lag); pairs >= n/4 {
			lags, seen = append(lags, lag), append(seen, r)
		}
	}
	if len(seen) == 0 || seen[0] < 3/math.Sqrt(float64(n)) {
		return Memory{}, false
	}
	best, least := Memory{}, math.Inf(1)
	for t := 0.6; t <= float64(n)/8; t *= 1.04 {
		over, by := 0.0, 0.0
		for i, lag := range lags {
			c := fading(float64(lag) / t)
			over, by = over+seen[i]*c/float64(lag), by+c*c/float64(lag)
		}
		if by == 0 {
			continue
		}
		share := max(0, min(1, over/by))
		off := 0.0
		for i, lag := range lags {
			d := seen[i] - share*fading(float64(lag)/t)
			off += d * d / float64(lag) // what follows at once matters most
		}
		if off < least {
			best, least = Memory{For: time.Duration(t * float64(every)), Share: share}, off
		}
	}
	return best, best.Share > 0.02
}

// scored are the normal scores of delays by number; NaN where none is known.
type scored []float64

func (s scored) correlation(lag int) (r float64, pairs int) {
	sum := 0.0
	for i := 0; i+lag < len(s); i++ {
		if product := s[i] * s[i+lag]; !math.IsNaN(product) {
			sum += product
			pairs++
		}
	}
	return sum / float64(max(1, pairs)), pairs
}

// scores gives equal delays the score of the middle of their ranks.
func scores(samples []Sample) scored {
	order := slices.Clone(samples)
	slices.SortFunc(order, func(a, b Sample) int { return cmp.Or(cmp.Compare(a.RTT, b.RTT), cmp.Compare(a.Number, b.Number)) })
	first := slices.MinFunc(samples, func(a, b Sample) int { return cmp.Compare(a.Number, b.Number) }).Number
	last := slices.MaxFunc(samples, func(a, b Sample) int { return cmp.Compare(a.Number, b.Number) }).Number
	s := make(scored, last-first+1)
	for i := range s {
		s[i] = math.NaN()
	}
	square := 0.0
	for i := 0; i < len(order); {
		j := i
		for j < len(order) && order[j].RTT == order[i].RTT {
			j++
		}
		z := math.Sqrt2 * math.Erfinv(float64(i+j)/float64(len(order))-1)
		for ; i < j; i++ {
			s[order[i].Number-first] = z
			square += z * z
		}
	}
	if square > 0 {
		scale := math.Sqrt(float64(len(samples)) / square)
		for i := range s {
			s[i] *= scale
		}
	}
	return s
}
