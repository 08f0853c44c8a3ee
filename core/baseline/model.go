package baseline

import (
	"math"
	"time"
)

// Model is what is normal of one measure of a path: a level, a curve over the day for
// working days and one for days off, how far days lie apart by the hour, and how readings
// are distributed around that.
type Model struct {
	Measure  Measure `json:"measure"`
	Readings int     `json:"readings"`
	Days     int     `json:"days"`
	First    int     `json:"first_day"` // that it was made from, of the civil calendar
	Trusted  bool    `json:"trusted,omitempty"`
	Scale    scale   `json:"scale"`
	Minutes  int     `json:"bin_minutes"`
	// By kind of day (working, off) and bin of the day: the middle and the spread of readings
	// around it and the slack of days, in the scale (of a ratio: as ratios); and on how many days.
	Middle [dayKinds][]float32 `json:"middle"`
	Spread [dayKinds][]float32 `json:"spread"`
	Slack  [dayKinds][]float32 `json:"slack"`
	Step   [dayKinds][]float32 `json:"step"` // the slack beyond what the hour before foretold
	Top    [dayKinds][]float32 `json:"top"`  // by how much the worst day that was no episode lay above the middle
	Seen   [dayKinds][]float32 `json:"seen"`
	Drift  drift               `json:"drift"`
	Level  float64             `json:"level"`          // of the next day, above the curves
	Gap    float64             `json:"gap,omitempty"`  // of a second level above the first
	Around []float32           `json:"around"`         // density of the deviations, or of counts, as counted
	Of     int                 `json:"of,omitempty"`   // probes that counts are scaled to
	Base   float64             `json:"base,omitempty"` // the ratio of the readings that were counted
	Low    float64             `json:"low"`            // 5 % and 95 % of the deviations, in spreads
	High   float64             `json:"high"`
	Limits [Detectors]float64  `json:"limits"` // of the evidence at which a detector is surely right
	Recurs []Recurrence        `json:"recurs,omitempty"`
	Weekly []Rhythm            `json:"weekly,omitempty"` // what comes on one day of the week

	tolerances Tolerances
	density    *density
	counts     *counts
}

// ready makes what is not stored.
func (m *Model) ready() {
	if m.Measure.Counted() {
		if m.counts == nil {
			seen := make([]float64, len(lattice))
			for i := range min(len(seen), len(m.Around)) {
				seen[i] = float64(m.Around[i])
			}
			m.counts = countsOf(seen, max(m.Of, 1), m.tolerances.Of(m.Measure, 0))
		}
		return
	}
	if m.density == nil {
		var h histogram
		for i := range min(len(h), len(m.Around)) {
			h[i] = float64(m.Around[i])
		}
		m.density = densityOf(&h)
	}
}

// place is where on the curves a moment lies.
type place struct {
	kind    int
	a, b    int     // bins
	share   float32 // of b
	nearest int
}

func (m *Model) place(t moment) place {
	p := place{kind: working, nearest: t.minute / m.Minutes}
	if t.off {
		p.kind = offDay
	}
	x := (float32(t.minute)+0.5)/float32(m.Minutes) - 0.5
	n := len(m.Middle[p.kind])
	if x < 0 {
		x += float32(n)
	}
	p.a = min(int(x), n-1)
	p.b = p.a + 1
	if p.b == n {
		p.b = 0
	}
	p.share = x - float32(p.a)
	return p
}

func (p place) on(curve []float32) float64 {
	return float64(curve[p.a] + p.share*(curve[p.b]-curve[p.a]))
}

// above is how far above the curve there the higher of two bins reaches with what it may lie above
// itself.
func (p place) above(middle, slack []float32) float64 {
	if len(slack) == 0 { // of a baseline that was stored before there was one
		return 0
	}
	return float64(max(middle[p.a]+slack[p.a], middle[p.b]+slack[p.b])) - p.on(middle)
}

// needed is on how many days of its kind an hour has to have been seen before it is judged:
// one working day foretells the next, of a weekend both days have to be seen.
var needed = [dayKinds]float32{1, 2}

// knows reports whether enough like days were seen at a place.
func (m *Model) knows(p place) bool { return m.Trusted || m.Seen[p.kind][p.nearest] >= needed[p.kind] }

// Weighed is a reading held against what is normal.
type Weighed struct {
	// Evidence for each detector, as natural logarithms of how much likelier the reading is
	// if the detector is right.
	Evidence [Detectors]float32
	// Z is by how many spreads the value is worse than expected; of a ratio, the ratio above
	// the expected one.
	Z float64
	// Expected is the middle that is normal then, in the measure's unit, and Tolerable what
	// may be at the most without being worth caring about.
	Expected, Tolerable float64
	// Shift is by how much the value is worse than expected, in the measure's unit.
	Shift float64
	// Young: the hour of the week was not seen in a week before, so that what comes weekly is
	// not known.
	Young bool
	// Normal is the logarithm of how likely the reading is when nothing is wrong.
	Normal float32

	scale          scale
	middle, spread float64
}

// At is how many spreads a value worse than expected by so much, in the measure's unit, is
// off at that time.
func (w Weighed) At(shift float64) float64 {
	v := w.Expected + shift
	if w.scale.Less {
		v = w.Expected - shift
	}
	return (w.scale.to(v) - w.middle) / w.spread
}

// allowed is how far above what was foretold beyond the curve a path may lie: a step; and what
// is better than usual so far may still come to be what it was at that hour on its worst day, top
// above the curve. Losses lie no further above the curve than those of a day, for the most part.
func (m Measure) allowed(foretold, step, slack, top float64) float64 {
	switch {
	case foretold < 0:
		return max(step, min(step, top)-foretold)
	case m.Counted():
		return max(0.6*step, min(step, slack-foretold))
	}
	return step
}

// Recurrence is what comes back at the same hours: it is expected there.
type Recurrence struct {
	Measure  Measure `json:"measure"`
	Weekdays uint8   `json:"weekdays"` // a bit for each, Sunday the lowest
	From     int     `json:"from_minute"`
	To       int     `json:"to_minute"` // below From when it runs past midnight
	Shift    float64 `json:"shift"`     // how much worse it gets then, in the measure's unit
}

func (r Recurrence) covers(t moment) bool {
	from, to, minute, weekday := r.From, r.To, t.minute, int(t.weekday)
	if to <= from {
		if minute < to {
			weekday = (weekday + 6) % 7 // it began the day before
			minute += minutesADay
		}
		to += minutesADay
	}
	return r.Weekdays&(1<<weekday) != 0 && minute >= from && minute < to
}

// weigh holds a value against what is normal at a moment; false where that is not known.
func (m *Model) weigh(v float64, lost, sent int, t moment, unix int64, follow *Following) (w Weighed, ok bool) {
	p := m.place(t)
	foretold := follow.take(m, unix, t)
	ok = m.knows(p)
	w.Young = !m.Trusted && t.day-m.First < 8
	slack := m.Measure.allowed(foretold, p.above(m.Middle[p.kind], m.Step[p.kind]), p.above(m.Middle[p.kind], m.Slack[p.kind]), p.above(m.Middle[p.kind], m.Top[p.kind]))
	if m.Measure.Counted() {
		follow.add(0, lost, sent)
		w.Expected = max(0, p.on(m.Middle[p.kind])+m.Level+foretold)
		tolerance := m.tolerances.Of(m.Measure, w.Expected)
		w.Tolerable = w.Expected + tolerance
		w.Shift, w.Z = v-w.Expected, v-w.Expected
		for _, r := range m.Recurs {
			if r.covers(t) {
				slack = max(slack, r.Shift)
			}
		}
		w.Evidence, w.Normal = m.counts.weigh(lost, sent, w.Expected+slack-m.Base)
		return w, ok
	}
	middle := p.on(m.Middle[p.kind]) + m.Level
	y := m.Scale.to(v)
	above := y - middle
	if m.Gap > 0 && above > m.Gap/2 {
		above -= m.Gap
	}
	follow.add(above, lost, sent)
	middle += foretold
	spread := p.on(m.Spread[p.kind])
	w.Expected = m.Scale.from(middle)
	tolerance := m.tolerances.Of(m.Measure, w.Expected)
	if m.Scale.Less {
		w.Tolerable, w.Shift = w.Expected-tolerance, w.Expected-v
	} else {
		w.Tolerable, w.Shift = w.Expected+tolerance, v-w.Expected
	}
	// What is not worth caring about is no evidence.
	slack = max(slack, tolerated*m.Scale.worse(w.Expected, tolerance))
	for _, r := range m.Recurs {
		if r.covers(t) {
			slack = max(slack, m.Scale.worse(w.Expected, r.Shift))
		}
	}
	w.Z = (y - middle) / spread
	w.scale, w.middle, w.spread = m.Scale, middle, spread
	w.Evidence, w.Normal = m.density.weigh(w.Z, slack/spread, m.Gap/spread)
	return w, ok
}

// tolerated is which part of the tolerance counts as no change at all.
const tolerated = 0.4

// Normal is what is normal of a measure at a time, in its unit.
type Normal struct {
	Expected float64 `json:"expected"`
	Low      float64 `json:"low"`  // the band: nine of ten readings lie in it
	High     float64 `json:"high"` //
	Spread   float64 `json:"spread"`
	Days     int     `json:"days"` // like days that it rests on
}

// normal is the band at a moment.
func (m *Model) normal(t moment) Normal {
	p := m.place(t)
	n := Normal{Days: int(m.Seen[p.kind][p.nearest])}
	slack := p.on(m.Slack[p.kind]) / 2
	if m.Measure.Counted() {
		n.Expected = min(1, max(0, p.on(m.Middle[p.kind])+m.Level))
		n.High = min(1, n.Expected+max(slack, 2*math.Sqrt(n.Expected*(1-n.Expected)/float64(max(m.Of, 1)))))
		return n
	}
	middle, spread := p.on(m.Middle[p.kind])+m.Level, p.on(m.Spread[p.kind])
	low, high := m.Scale.from(middle+m.Low*spread-slack), m.Scale.from(middle+m.High*spread+slack)
	n.Expected, n.Low, n.High = m.Scale.from(middle), max(0, min(low, high)), max(low, high)
	n.Spread = (n.High - n.Low) / 3.29
	return n
}

// Meets reports whether two recurrences have minutes in common, whatever their days.
func (r Recurrence) Meets(o Recurrence) bool {
	within := func(r Recurrence, minute int) bool {
		length := (r.To - r.From + minutesADay) % minutesADay
		return (minute-r.From+minutesADay)%minutesADay < length
	}
	return within(r, o.From) || within(o, r.From)
}

// Hours are what is normal by the hour of the week, from Sunday 00:00 on, in the middle of
// each hour; nil where the measure is not known.
func (b *Baseline) Hours(m Measure) []Normal {
	if b == nil || b.list[m] == nil {
		return nil
	}
	list := make([]Normal, 0, 7*24)
	for d := range time.Weekday(7) {
		for h := range 24 {
			list = append(list, b.list[m].normal(moment{minute: h*60 + 30, weekday: d, off: b.clock.off[d]}))
		}
	}
	return list
}
