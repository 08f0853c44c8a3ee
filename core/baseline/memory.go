package baseline

import (
	"math"
	"slices"
	"time"
)

// Memory is how a path was, day by day, for longer than a baseline looks back: it is asked
// whether the path crept away from how it was in its first settled fortnight. The zero value
// remembers nothing.
type Memory struct {
	Days []DayFigures `json:"days"`
	// Since is from which day on the path is how it is taken to be: its first, or that of the
	// new level that was accepted.
	Since int `json:"since"`
}

// DayFigures are the middles of one day.
type DayFigures struct {
	Number int                 `json:"day"` // of the civil calendar
	At     time.Time           `json:"at"`  // its first reading
	Off    bool                `json:"off,omitempty"`
	Middle map[Measure]float64 `json:"middle"`
}

const (
	settledDays = 14
	memoryDays  = 400
	// leastReadings a day has to have to be remembered.
	leastReadings = 12
)

// Take takes in the days of a history that are over at a time. Weighed stretches that count
// less than half are left out.
func (y *Memory) Take(h *History, c Calendar, weigh []Weight, now time.Time) {
	clock := c.clockwork()
	last := math.MinInt
	if n := len(y.Days); n > 0 {
		last = y.Days[n-1].Number
	}
	today := clock.at(now.Unix()).day
	skip := make([]bool, h.Len())
	for _, w := range weigh {
		if w.Weight >= 0.5 {
			continue
		}
		for i := h.index(w.From); i < len(h.at) && (w.To.IsZero() || h.at[i] < w.To.Unix()); i++ {
			skip[i] = true
		}
	}
	for i := 0; i < h.Len(); {
		m := clock.at(h.at[i])
		first := i
		values := map[Measure][]float64{}
		var lost, sent [measures]float64
		for ; i < h.Len() && clock.at(h.at[i]).day == m.day; i++ {
			if m.day <= last || m.day >= today || skip[i] || h.sent[i] > 0 && h.answered[i] == 0 {
				continue
			}
			for k := range measures {
				v, ok := h.value(k, i)
				switch {
				case !ok:
				case k.Counted():
					of := float64(h.sentOf(k, i))
					lost[k] += v * of
					sent[k] += of
				default:
					values[k] = append(values[k], v)
				}
			}
		}
		if m.day <= last || m.day >= today {
			continue
		}
		d := DayFigures{Number: m.day, At: time.Unix(h.at[first], 0).UTC(), Off: m.off, Middle: map[Measure]float64{}}
		for k, list := range values {
			if len(list) >= leastReadings {
				d.Middle[k] = median(list)
			}
		}
		for k, n := range sent {
			if n > 0 {
				d.Middle[Measure(k)] = lost[k] / n
			}
		}
		y.Days = append(y.Days, d)
	}
	if over := len(y.Days) - memoryDays; over > 0 {
		y.Days = slices.Delete(y.Days, 0, over)
	}
}

// Crept says that a measure got slowly worse.
type Crept struct {
	Measure Measure   `json:"measure"`
	Since   time.Time `json:"since_at"`
	Before  float64   `json:"before"` // how it was, in the measure's unit
	Now     float64   `json:"now"`
	ADay    float64   `json:"a_day"` // by how much it gets worse
	Sure    float64   `json:"sure"`  // 0 to 1
}

// Crept reports whether a measure is surely and noticeably worse than it was in the settled
// days, and came there step by step.
func (y *Memory) Crept(m Measure, t Tolerances) (Crept, bool) {
	var list []float64 // by how much each day is worse than its like were
	var at []time.Time
	before, spread, ok := y.settled(m)
	if !ok {
		return Crept{}, false
	}
	for _, d := range y.Days {
		v, has := d.Middle[m]
		if !has || d.Number < y.Since {
			continue
		}
		list = append(list, worseBy(m, v, before[kindOf(d.Off)]))
		at = append(at, d.At)
	}
	n := len(list)
	if n < 7 {
		return Crept{}, false
	}
	rise := median(slices.Clone(list[n-3:]))
	level := before[working]
	if rise < max(t.Of(m, level), 4*spread) {
		return Crept{}, false
	}
	since, slope := hinge(list)
	recent := list[max(0, min(since, n-6)):]
	jump := 0.0
	for i := 1; i < len(recent); i++ {
		jump = max(jump, recent[i]-recent[i-1])
	}
	tau := rising(recent)
	if slope <= 0 || n-since < 4 || tau < 0.6 || jump > 0.55*rise {
		return Crept{}, false
	}
	c := Crept{Measure: m, Since: at[since], Before: level, ADay: slope, Now: level + rise, Sure: min(0.999, 1-math.Exp(-float64(len(recent))*tau))}
	if m.LessIsWorse() {
		c.Now = level - rise
	}
	return c, true
}

func kindOf(off bool) int {
	if off {
		return offDay
	}
	return working
}

func worseBy(m Measure, v, before float64) float64 {
	if m.LessIsWorse() {
		return before - v
	}
	return v - before
}

// settled is how the path was in its first settled days, by kind of day, and how far those
// lay apart.
func (y *Memory) settled(m Measure) (before [dayKinds]float64, spread float64, ok bool) {
	var by [dayKinds][]float64
	var all []float64
	for _, d := range y.Days {
		v, has := d.Middle[m]
		if !has || d.Number < y.Since || len(all) >= settledDays {
			continue
		}
		all = append(all, v)
		by[kindOf(d.Off)] = append(by[kindOf(d.Off)], v)
	}
	if len(all) < 4 {
		return before, 0, false
	}
	var off []float64
	for k := range by {
		before[k] = median(slices.Clone(all))
		if len(by[k]) >= 2 {
			before[k] = median(slices.Clone(by[k]))
		}
		for _, v := range by[k] {
			off = append(off, math.Abs(v-before[k]))
		}
	}
	return before, madScale * median(off), true
}

// hinge finds the day from which on a series that was level rises in a straight line, by
// least squares, and by how much a day.
func hinge(list []float64) (at int, slope float64) {
	best := math.Inf(1)
	n := len(list)
	for k := range n - 2 {
		var xx, xy float64
		for i := k + 1; i < n; i++ {
			x := float64(i - k)
			xx += x * x
			xy += x * list[i]
		}
		s := xy / xx
		var wrong float64
		for i, v := range list {
			if i > k {
				v -= s * float64(i-k)
			}
			wrong += v * v
		}
		if wrong < best {
			best, at, slope = wrong, k, s
		}
	}
	return at, slope
}

// rising is Kendall's rank correlation of a series with time.
func rising(list []float64) float64 {
	n := len(list)
	if n < 2 {
		return 0
	}
	s := 0
	for i := range list {
		for j := i + 1; j < n; j++ {
			switch {
			case list[j] > list[i]:
				s++
			case list[j] < list[i]:
				s--
			}
		}
	}
	return float64(s) / (float64(n) * float64(n-1) / 2)
}

// Restart takes the path as it is from the day of a time on for how it is to be.
func (y *Memory) Restart(now time.Time, c Calendar) {
	y.Since, _, _, _ = c.Moment(now)
}
