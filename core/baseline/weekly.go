package baseline

import (
	"math"
	"slices"
	"time"
)

const (
	// likeWeeks on which it has to have come.
	likeWeeks = 2
	// weeklyLeast and weeklyMost are how long it goes on.
	weeklyLeast = 30 * time.Minute
	weeklyMost  = 12 * time.Hour
)

// weeklies are the stretches in which a path is worse on one day of the week, each time, than
// at the same hours of any other day: by more than is worth caring about, and by more than the
// other days lie apart.
func (f *fitter) weeklies(m *Model) (list []Rhythm) {
	for w := range 7 {
		var mine, others []int
		for d, x := range f.c.days {
			if x.weekday == w {
				mine = append(mine, d)
			} else {
				others = append(others, d)
			}
		}
		if len(mine) < likeWeeks || len(others) < 6 {
			continue
		}
		r, ok := f.weekly(m, mine, others)
		if !ok {
			continue
		}
		r.Weekdays = 1 << w
		if i := slices.IndexFunc(list, func(x Rhythm) bool { return overlap(x, r) }); i >= 0 {
			list[i].Weekdays |= r.Weekdays
			continue
		}
		list = append(list, r)
	}
	return list
}

func (f *fitter) weekly(m *Model, mine, others []int) (Rhythm, bool) {
	value := func(y float64) float64 {
		if m.Measure.Counted() {
			return y
		}
		return m.Scale.from(y)
	}
	best, from, length := 0, 0, 0
	quiet, worst := make([]float64, f.c.bins), make([]float64, f.c.bins)
	for b := range f.c.bins {
		least, low, high := math.Inf(1), math.Inf(1), math.Inf(-1)
		seen := 0
		for _, d := range mine {
			if f.c.count[d][b] > 0 {
				least = min(least, f.c.middle[d][b])
				seen++
			}
		}
		n := 0
		for _, d := range others {
			if f.c.count[d][b] > 0 {
				low, high = min(low, f.c.middle[d][b]), max(high, f.c.middle[d][b])
				n++
			}
		}
		quiet[b], worst[b] = value(low), value(least)
		tolerance := m.tolerances.Of(m.Measure, value(high))
		if m.Measure.Counted() { // what is seldom wavers by itself
			tolerance = max(2*tolerance, 6*math.Sqrt(max(high, 0.001)/max(1, f.c.count[mine[0]][b]*float64(m.probes()))))
		}
		is := seen >= likeWeeks && n >= 6 && least-high > high-low && math.Abs(value(least)-value(high)) > tolerance
		if !is {
			length = 0
			continue
		}
		if length++; length > best {
			best, from = length, b-length+1
		}
	}
	if best > 0 && f.elsewhere(from, best, mine, others) {
		return Rhythm{}, false
	}
	took := time.Duration(best*f.c.length) * time.Minute
	if took < weeklyLeast || took > weeklyMost {
		return Rhythm{}, false
	}
	r := Rhythm{Measure: m.Measure, From: from * f.c.length, To: (from + best) * f.c.length % minutesADay, Days: len(mine), Quiet: quiet[from], Worst: worst[from]}
	for b := from; b < from+best; b++ {
		if math.Abs(worst[b]-quiet[b]) > math.Abs(r.Worst-r.Quiet) {
			r.Quiet, r.Worst = quiet[b], worst[b]
		}
	}
	return r, true
}

// elsewhere reports whether the path is as bad now and then at other hours too: then it is no
// matter of that day. What comes on another day of the week each time is a matter of that one.
func (f *fitter) elsewhere(from, length int, mine, others []int) bool {
	least := math.Inf(1)
	for b := from; b < from+length; b++ {
		for _, d := range mine {
			if f.c.count[d][b] > 0 {
				least = min(least, f.c.middle[d][b])
			}
		}
	}
	n, bad := 0, 0
	for _, d := range others {
		for b := range f.c.bins {
			if f.c.count[d][b] > 0 {
				n++
				if f.c.middle[d][b] >= least && !f.eachWeek(d, b, least) {
					bad++
				}
			}
		}
	}
	return float64(bad) > seldomShare*float64(n)
}

// eachWeek reports whether the path is as bad at an hour of a day on all days of that name, and
// there are several.
func (f *fitter) eachWeek(d, b int, least float64) bool {
	n := 0
	for i, x := range f.c.days {
		if x.weekday != f.c.days[d].weekday || f.c.count[i][b] == 0 {
			continue
		}
		if f.c.middle[i][b] < least {
			return false
		}
		n++
	}
	return n >= likeWeeks
}

// seldomShare of the hours of other days may be as bad.
const seldomShare = 0.01

// probes of a reading, at the least.
func (m *Model) probes() int { return max(m.Of, 1) }
