package baseline

import "math"

// series is one measure of a history, ready to be modelled.
type series struct {
	measure Measure
	at      []int64
	moments []moment
	v       []float64 // in the measure's unit
	y       []float64 // scaled, more is worse
	n       []int32   // probes that a ratio rests on
	weight  []float64 // 1, less for what was an episode
}

// cells are a series by day and by bin of the day.
type cells struct {
	bins   int
	length int   // minutes of a bin
	days   []day // in the order of time
	middle [][]float64
	count  [][]float64
	weight [][]float64
	index  []int32 // of each point of the series: day·bins + bin
}

type day struct {
	number  int
	off     bool
	weekday int
}

// binMinutes are the lengths a bin may have: the shortest that holds some readings.
var binMinutes = [...]int{15, 30, 60, 120}

func binsFor(points, days int) int {
	for _, length := range binMinutes {
		if float64(points)/float64(max(days, 1))/float64(minutesADay/length) >= 5 {
			return length
		}
	}
	return binMinutes[len(binMinutes)-1]
}

// lay lays the points of a series into cells.
func (s *series) lay(length int) *cells {
	c := &cells{bins: minutesADay / length, length: length, index: make([]int32, len(s.y))}
	last := -1 << 30
	for i, m := range s.moments {
		if m.day != last {
			// A clock that is set back begins no new day.
			if len(c.days) == 0 || m.day > c.days[len(c.days)-1].number {
				c.days = append(c.days, day{m.day, m.off, int(m.weekday)})
			}
			last = m.day
		}
		c.index[i] = int32((len(c.days)-1)*c.bins + m.minute/length)
	}
	c.fill(s)
	return c
}

// fill computes the middle of each cell: the median, or the mean of a ratio, whose median
// hides what is seldom.
func (c *cells) fill(s *series) {
	n := len(c.days) * c.bins
	flat := func() [][]float64 {
		all := make([]float64, n)
		rows := make([][]float64, len(c.days))
		for d := range rows {
			rows[d] = all[d*c.bins : (d+1)*c.bins]
		}
		return rows
	}
	c.middle, c.count, c.weight = flat(), flat(), flat()
	var buffer []float64
	for from := 0; from < len(c.index); {
		to := from
		var sum, probes, weight float64
		buffer = buffer[:0]
		for ; to < len(c.index) && c.index[to] == c.index[from]; to++ {
			buffer = append(buffer, s.y[to])
			weight += s.weight[to]
			sum += s.v[to] * float64(s.n[to])
			probes += float64(s.n[to])
		}
		d, b := int(c.index[from])/c.bins, int(c.index[from])%c.bins
		k := float64(to - from)
		if c.count[d][b] > 0 { // the hour that a clock goes through twice
			from = to
			continue
		}
		c.count[d][b], c.weight[d][b] = k, weight/k
		if s.measure.Counted() {
			c.middle[d][b] = sum / max(probes, 1)
		} else {
			c.middle[d][b] = median(buffer)
		}
		from = to
	}
}

// around calls f for the bins up to reach away from b, round the clock.
func around(bins, b, reach int, f func(b, distance int)) {
	for k := -reach; k <= reach; k++ {
		f((b+k+bins)%bins, max(k, -k))
	}
}

// smooth evens a curve over neighbouring bins, past midnight too. NaN is filled.
func smooth(curve []float64, reach int) []float64 {
	out := make([]float64, len(curve))
	for b := range curve {
		var sum, weight float64
		around(len(curve), b, reach, func(k, distance int) {
			if math.IsNaN(curve[k]) {
				return
			}
			w := float64(reach + 1 - distance)
			sum += w * curve[k]
			weight += w
		})
		out[b] = math.NaN()
		if weight > 0 {
			out[b] = sum / weight
		}
	}
	return out
}

// fillGaps gives the bins of a curve that nothing is known of a value between their
// neighbours'.
func fillGaps(curve []float64, otherwise float64) {
	n := len(curve)
	for b := range curve {
		if !math.IsNaN(curve[b]) {
			continue
		}
		left, right := -1, -1
		for k := 1; k < n && left < 0; k++ {
			if v := curve[(b-k+n)%n]; !math.IsNaN(v) {
				left = k
			}
		}
		for k := 1; k < n && right < 0; k++ {
			if v := curve[(b+k)%n]; !math.IsNaN(v) {
				right = k
			}
		}
		if left < 0 {
			for k := range curve {
				curve[k] = otherwise
			}
			return
		}
		x, z := curve[(b-left+n)%n], curve[(b+right)%n]
		curve[b] = x + (z-x)*float64(left)/float64(left+right)
	}
}

func meanOf(list []float64) float64 {
	var sum float64
	for _, v := range list {
		sum += v
	}
	return sum / max(float64(len(list)), 1)
}
