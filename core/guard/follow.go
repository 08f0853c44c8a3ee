package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/loss"
)

// follow holds a reading of a measure that is worse against both: that it still is, and
// that it is normal again.
func (j *Judge) follow(m *matter, measure baseline.Measure, t *track, s sample, w baseline.Weighed, changes []Change) []Change {
	e := m.measure[measure]
	if e.n == 0 {
		e.shift, e.readings = t.shift(m, measure)
	}
	e.n++
	var still float64
	worse := false
	enough, margin := recovered, doubtful
	if measure.Counted() {
		// A loss of some percent spares many readings: how many, the episode itself says.
		enough, margin = e.recoveredCounted(), 0
		still = negativeBinomial(int(s.lost), (float64(s.expected)+e.shift)*float64(s.sent))
		e.maybe++
		e.maybeShift += float64(s.shift)
		if s.lost == 0 {
			e.maybeSpared++
			const thought = 5 // readings that the assumption counts for
			still = math.Log((e.spared + thought*math.Exp(still)) / (e.readings + thought))
		}
	} else {
		center := w.At(e.shift)
		still = likely(float64(s.z), center, max(1, center/5))
		worse = float64(s.z) > stillWorse*center
	}
	d := max(-3, min(3, float64(s.normal)-still-margin))
	if worse {
		d = min(d, 0) // where the hour hides it, it is not over
	}
	if e.sum <= 0 {
		e.since = s.at
		e.normals = 0
	}
	e.sum = max(0, e.sum+d)
	if e.sum > 0 {
		e.normals++
	} else {
		// It is as it was, or worse: learn how it is now.
		const slow = 0.1
		if measure.Counted() {
			e.learn()
		} else {
			e.shift += slow * (float64(s.shift) - e.shift)
		}
		e.shift = max(e.shift, float64(s.tolerance)/2)
		m.note(measure, t)
		changes = j.noteCourse(m, measure, e, t, changes)
	}
	if e.sum < enough || e.normals < 2 {
		return changes
	}
	if measure.Counted() && t.fewer(e.since, e.shift) < enough {
		e.sum = enough // where the hour hides it, the losses themselves have to say it
		return changes
	}
	j.over(m, measure)
	t.forget()
	return changes
}

// recoveredCounted is the evidence at which a measure that is counted is normal again. What goes
// on for long has had many a chance to lose few by chance: how many, is added.
func (e *ending) recoveredCounted() float64 {
	const short = 60 // readings
	return recoveredCounted + math.Log(max(1, float64(e.n)/short))
}

// stillWorse is which part of what it was worse by it has to be still, to be no better.
const stillWorse = 0.6

const (
	// muchWorse is by what a measure has to be worse by for that to be told again, and eased what
	// it may be at the most for it to ease, as parts of what was told.
	muchWorse = 1.6
	eased     = 0.5
	// courseReadings have to say so, the last ones.
	courseReadings = 11
	courseCounted  = 45
)

// noteCourse tells when an episode gets much worse than was told, or eases.
func (j *Judge) noteCourse(m *matter, measure baseline.Measure, e *ending, t *track, changes []Change) []Change {
	n := courseReadings
	if measure.Counted() {
		n = courseCounted
	}
	if len(t.past) < n || e.n < n {
		return changes
	}
	var shifts []float64
	var tolerance, sent float64
	for _, s := range t.past[len(t.past)-n:] {
		shifts = append(shifts, float64(s.shift))
		tolerance = float64(s.tolerance)
		sent += float64(s.sent)
	}
	now := mean(shifts)
	if measure.Counted() {
		// No more than chance would make of the losses of so many probes.
		tolerance = max(tolerance, 2*math.Sqrt(max(now, e.told)/max(sent, 1))*math.Sqrt(3))
	} else {
		slices.Sort(shifts)
		now = middle(shifts)
	}
	what := Worse
	switch {
	case e.told == 0:
		e.told = now
		return changes
	case now > muchWorse*e.told && now > e.told+2*tolerance:
	case now < eased*e.told && now < e.told-tolerance && now >= tolerance/2:
		what = Easing
	default:
		return changes
	}
	e.told = now
	if !measure.Counted() { // what is told is what it is told for
		m.noteOf(measure, t, n)
	}
	return append(changes, j.change(what, m, time.Unix(t.past[len(t.past)-1].end, 0).UTC()))
}

// doubtful is by how much a reading has to speak for being normal.
const doubtful = 0.5

// shift is by how much the readings of an episode are worse than expected, in the measure's
// unit.
func (t *track) shift(m *matter, measure baseline.Measure) (shift, readings float64) {
	x, _ := m.Episode.Excess(measure)
	list := t.past[t.from(x.From.Unix()):]
	var shifts []float64
	var least float64
	for _, s := range list {
		shifts = append(shifts, float64(s.shift))
		least = float64(s.tolerance) / 2
	}
	if measure.Counted() {
		for _, s := range list {
			if s.lost == 0 {
				m.measure[measure].spared++
			}
		}
		return max(mean(shifts), least), float64(len(list))
	}
	slices.Sort(shifts)
	return max(middle(shifts), least), 0
}

// learn takes in the readings that have not been over after all: of a loss all of them count,
// for those that lost much alone would say too much.
func (e *ending) learn() {
	const longest = 240 // readings that are remembered
	if e.readings > longest {
		e.readings, e.spared = e.readings/2, e.spared/2
	}
	if n := e.readings + e.maybe; n > 0 {
		e.shift = (e.shift*e.readings + e.maybeShift) / n
	}
	e.readings, e.spared = e.readings+e.maybe, e.spared+e.maybeSpared
	e.maybe, e.maybeSpared, e.maybeShift = 0, 0, 0
}

// fewer is how surely fewer probes were lost since a time than an episode loses, which is so
// much more than expected: the logarithm of the chance against it, were losses at random.
func (t *track) fewer(since int64, shift float64) float64 {
	var lost, thought float64
	for _, s := range t.past[t.from(since):] {
		lost += float64(s.lost)
		thought += (float64(s.expected) + shift) * float64(s.sent)
	}
	if lost >= thought {
		return 0
	}
	if lost == 0 {
		return thought
	}
	return thought - lost + lost*math.Log(lost/thought)
}

// negativeBinomial is the logarithm of the chance of k losses where a mean is lost, more
// unevenly than at random.
func negativeBinomial(k int, mean float64) float64 {
	const r = 2
	q := mean / (mean + r)
	a, _ := math.Lgamma(float64(k) + r)
	b, _ := math.Lgamma(float64(k) + 1)
	return a - b + r*math.Log(1-q) + float64(k)*math.Log(max(q, 1e-12))
}

// over notes that a measure is normal again.
func (j *Judge) over(m *matter, measure baseline.Measure) {
	at := time.Unix(m.measure[measure].since, 0).UTC()
	// What is normal again at the first reading after a gap may have been so all through it: it is
	// known to have been worse until the gap, and the gap is noted.
	if n := len(m.Unmeasured); n > 0 && !at.After(m.Unmeasured[n-1].To) {
		at = m.Unmeasured[n-1].From
	}
	for i := range m.Excesses {
		if m.Excesses[i].Measure == measure {
			m.Excesses[i].To = at
		}
	}
	delete(m.measure, measure)
}

// noted is of how many readings, the last ones, it is said how a measure is.
const noted = 15

// note takes in how a measure is over the last readings.
func (m *matter) note(measure baseline.Measure, t *track) { m.noteOf(measure, t, noted) }

func (m *matter) noteOf(measure baseline.Measure, t *track, last int) {
	for i := range m.Excesses {
		x := &m.Excesses[i]
		if x.Measure != measure {
			continue
		}
		list := t.past[max(t.from(x.From.Unix()), len(t.past)-last):]
		now := t.now(measure, list)
		x.Now, x.NowLow, x.NowHigh, x.Readings, x.Sent, x.Lost = now.Now, now.NowLow, now.NowHigh, now.Readings, now.Sent, now.Lost
		if measure.LessIsWorse() {
			x.Worst = min(x.Worst, x.Now)
		} else {
			x.Worst = max(x.Worst, x.Now)
		}
	}
}

// excess describes a change that begins at a time.
func (t *track) excess(m baseline.Measure, detector int, at int64, b *baseline.Baseline) Excess {
	list := t.past[t.from(at):]
	x := t.now(m, list)
	x.From = time.Unix(at, 0).UTC()
	x.Evidence = t.sum[detector]
	x.Ragged = detector == ragged
	x.Worst = x.Now
	last := list[len(list)-1]
	x.Normal, x.Tolerance = float64(last.expected), float64(last.tolerance)
	if n, ok := b.At(m, time.Unix(last.at, 0)); ok {
		x.Low, x.High = n.Low, n.High
	}
	return x
}

// now is how a measure is over readings.
func (t *track) now(m baseline.Measure, list []sample) Excess {
	x := Excess{Measure: m, Readings: len(list)}
	values := make([]float64, 0, len(list))
	for _, s := range list {
		values = append(values, float64(s.value))
		x.Sent += int(s.sent)
		x.Lost += int(s.lost)
	}
	if m.Counted() {
		x.Now = float64(x.Lost) / float64(max(1, x.Sent))
		x.NowLow, x.NowHigh, _ = loss.Ratio{Lost: x.Lost, Sent: x.Sent}.Interval()
	} else {
		slices.Sort(values)
		x.Now = middle(values)
		// The interval of a median, by order statistics.
		n := float64(len(values))
		reach := 0.98 * math.Sqrt(n)
		low, high := int(n/2-reach), int(math.Ceil(n/2+reach))
		if len(values) > 0 {
			x.NowLow, x.NowHigh = values[max(0, low)], values[min(len(values)-1, high)]
		}
	}
	return x
}

// settle closes what is over in all its measures, and lets go of what was over for long.
func (j *Judge) settle(p baseline.Point, changes []Change) []Change {
	now := end(p)
	for _, m := range j.open {
		if m.closed || len(m.measure) > 0 || len(m.back) > 0 {
			continue
		}
		m.closed = true
		m.To = m.From
		for _, x := range m.Excesses {
			if x.To.After(m.To) {
				m.To = x.To
			}
		}
		m.OverToldAt = now
		changes = append(changes, j.change(Closed, m, now))
	}
	j.open = slices.DeleteFunc(j.open, func(m *matter) bool { return m.closed && now.Sub(m.To) >= pause })
	return changes
}
