package baseline

import (
	"math"
	"slices"
	"time"
)

// Rhythm is a stretch of the day in which a path is worse than in its quiet hours, on like
// days: so it is, and that is no fault.
type Rhythm struct {
	Measure  Measure `json:"measure"`
	Weekdays uint8   `json:"weekdays"` // a bit for each, Sunday the lowest
	From     int     `json:"from_minute"`
	To       int     `json:"to_minute"` // exclusive; not above From when it runs past midnight
	Quiet    float64 `json:"quiet"`     // expected in the quiet hours, in the measure's unit
	Worst    float64 `json:"worst"`     // expected at the worst of the stretch
	Days     int     `json:"days"`      // seen on
}

// Weekly reports whether it comes on some days of the week only that are not the working days.
func (r Rhythm) Weekly() bool { return r.Weekdays != 1<<7-1 && r.Weekdays&0b0111110 != 0b0111110 }

// Weekdays make a set of days of the week.
func Weekdays(days ...time.Weekday) (set uint8) {
	for _, d := range days {
		set |= 1 << d
	}
	return set
}

// rhythmDays are the days on which it has to have been seen; days off that are as working
// days are may be half as many.
var rhythmDays = [dayKinds]int{3, 4}

// Rhythms are the stretches in which the path is expected to be worse by more than is worth
// caring about.
func (b *Baseline) Rhythms(m Measure) []Rhythm {
	if b == nil || b.list[m] == nil {
		return nil
	}
	x := b.list[m]
	var list []Rhythm
	for k := range dayKinds {
		if r, ok := x.stretch(k); ok {
			for d, off := range b.clock.off {
				if off == (k == offDay) {
					r.Weekdays |= 1 << d
				}
			}
			list = append(list, r)
		}
	}
	if len(list) == 2 && overlap(list[0], list[1]) {
		// The same hours on all days.
		list[0].Weekdays |= list[1].Weekdays
		return list[:1]
	}
	off := b.clock.off
	list = slices.DeleteFunc(list, func(r Rhythm) bool {
		weekend := r.Weekdays == maskOf(off)
		return weekend && r.Days < rhythmDays[offDay]
	})
	for _, r := range x.Weekly {
		if !slices.ContainsFunc(list, func(o Rhythm) bool { return o.Weekdays&r.Weekdays != 0 && overlap(o, r) }) {
			list = append(list, r)
		}
	}
	return list
}

func maskOf(days [7]bool) (set uint8) {
	for d, is := range days {
		if is {
			set |= 1 << d
		}
	}
	return set
}

func overlap(a, b Rhythm) bool {
	in := func(r Rhythm, minute int) bool {
		to := r.To
		if to <= r.From { // past midnight
			to += minutesADay
		}
		return minute >= r.From && minute < to || minute+minutesADay < to
	}
	return in(a, b.From) || in(b, a.From)
}

// stretch is the longest stretch of a kind of day in which the curve is high.
func (m *Model) stretch(k int) (Rhythm, bool) {
	var all []float64
	for i := range m.Middle {
		for b, v := range m.Middle[i] {
			if m.Seen[i][b] > 0 {
				all = append(all, float64(v))
			}
		}
	}
	if len(all) == 0 {
		return Rhythm{}, false
	}
	slices.Sort(all)
	quiet := quantile(all, 0.25)
	value := func(y float64) float64 {
		if m.Measure.Counted() {
			return y + m.Level
		}
		return m.Scale.from(y + m.Level)
	}
	low := value(quiet)
	tolerance := m.tolerances.Of(m.Measure, low)
	n := len(m.Middle[k])
	if m.Measure.Counted() {
		// A curve of what is seldom wavers by itself.
		probes := float64(m.Of) * float64(m.Readings) / float64(n)
		tolerance = max(2*tolerance, 4*math.Sqrt(max(low, m.Base)/max(probes, 1)))
	}
	high := make([]bool, n)
	for b, y := range m.Middle[k] {
		off := math.Abs(value(float64(y)) - low)
		high[b] = float64(y) > quiet && off >= tolerance && int(m.Seen[k][b]) >= rhythmDays[k]/(1+k) &&
			(m.Measure.Counted() || float64(y)-quiet >= 2*float64(m.Spread[k][b]))
	}
	best, from, length, gap := 0, 0, 0, 0
	for i := range 2 * n {
		switch {
		case high[i%n]:
			length += gap + 1
			gap = 0
		case length > 0 && gap*m.Minutes < 30:
			gap++
			continue
		default:
			length, gap = 0, 0
		}
		if length > best && length <= n {
			best, from = length, i-length+1
		}
	}
	if best*m.Minutes < 30 || best*m.Minutes > 20*60 {
		return Rhythm{}, false
	}
	r := Rhythm{Measure: m.Measure, From: from % n * m.Minutes, To: (from + best) % n * m.Minutes, Quiet: low, Worst: low, Days: int(m.Seen[k][from%n])}
	for i := range best {
		if v := value(float64(m.Middle[k][(from+i)%n])); math.Abs(v-low) > math.Abs(r.Worst-low) {
			r.Worst = v
		}
	}
	return r, true
}
