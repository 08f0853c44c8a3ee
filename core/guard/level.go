package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// back is a former level that a path may return to.
type back struct {
	by    float64 // by how much the new level is above it, in the measure's unit
	since int64   // from when on readings lie near it
	n     int     // how many
	sum   float64 // of a loss: evidence that it is lost as little as before
}

// settleLevels takes what has gone on evenly for long for a new level: it is no longer
// followed, and waits to be accepted.
func (j *Judge) settleLevels(now time.Time) (changes []Change) {
	for _, m := range j.open {
		if m.closed || m.Kind == Lost || !m.NewLevel.IsZero() || now.Sub(m.From) < settles {
			continue
		}
		if n := len(m.Pauses); n > 0 && now.Sub(m.Pauses[n-1].To) < settles/2 {
			continue
		}
		m.NewLevel = now
		for measure := range m.measure {
			delete(m.measure, measure)
			if t := j.tracks[measure]; t != nil {
				t.reset(0)
			}
		}
		m.back = map[baseline.Measure]*back{}
		changes = append(changes, j.change(Settled, m, now))
	}
	return changes
}

// measureLevel says of a new level what it is over all of its readings, not over the last ones
// alone.
func (j *Judge) measureLevel(c *Change, h *baseline.History, now time.Time) {
	m := j.find(func(x *matter) bool { return x.number == c.Number })
	if m == nil {
		return
	}
	for i := range m.Excesses {
		x := &m.Excesses[i]
		shifts := h.Shifts(j.baseline, x.Measure, x.From, now)
		if !x.Open() || len(shifts) < 2 {
			continue
		}
		var list []sample
		for p := range h.Between(x.From, now) {
			if v, ok := p.Value(x.Measure); ok && !p.Silent() {
				lost, of := p.Counts(x.Measure)
				list = append(list, sample{value: float32(v), sent: int32(of), lost: int32(lost)})
			}
		}
		whole := (&track{}).now(x.Measure, list)
		shift := mean(shifts)
		if !x.Measure.Counted() {
			slices.Sort(shifts)
			shift = middle(shifts)
		}
		if x.Measure.LessIsWorse() {
			shift = -shift
		}
		normal := whole.Now - shift
		if x.Measure.Counted() {
			normal = max(0, normal)
		}
		x.Low, x.High, x.Normal = max(0, x.Low+normal-x.Normal), x.High+normal-x.Normal, normal
		x.Now, x.NowLow, x.NowHigh, x.Readings, x.Sent, x.Lost = whole.Now, whole.NowLow, whole.NowHigh, whole.Readings, whole.Sent, whole.Lost
	}
	c.Episode = m.clone()
}

// expectReturn notes by how much a new level is above the former one.
func (j *Judge) expectReturn(number int, m baseline.Measure, by float64) {
	if x := j.find(func(x *matter) bool { return x.number == number }); x != nil {
		x.back[m] = &back{by: by}
	}
}

// returned holds a reading against the former levels of the path.
func (j *Judge) returned(measure baseline.Measure, s sample) {
	for _, m := range j.open {
		b := m.back[measure]
		if b == nil || !b.near(measure, s) {
			continue
		}
		for i := range m.Excesses {
			if m.Excesses[i].Measure == measure {
				m.Excesses[i].To = time.Unix(b.since, 0).UTC()
			}
		}
		delete(m.back, measure)
	}
}

// near reports whether the path is surely back at the former level, with a reading more.
func (b *back) near(measure baseline.Measure, s sample) bool {
	if measure.Counted() {
		const least = 0.0005 // a path that loses nothing loses something
		now := max(float64(s.expected), least)
		before := min(now/2, max(now-b.by, least))
		if b.sum <= 0 {
			b.since = s.at
		}
		b.sum = max(0, b.sum+float64(s.lost)*math.Log(before/now)+float64(s.sent)*(now-before))
		return b.sum >= recoveredCounted
	}
	by := b.by
	if measure.LessIsWorse() {
		by = -by
	}
	if float64(s.shift) > -0.6*by {
		b.n = 0
		return false
	}
	if b.n == 0 {
		b.since = s.at
	}
	b.n++
	return b.n >= 4
}

// Accept takes the new level of an episode for normal: the episode ends.
func (j *Judge) Accept(number int, now time.Time) (Change, bool) {
	return j.endLevel(number, Accepted, now, func(baseline.Measure) bool { return true })
}

// endStep ends what an episode that has become a new level holds of a measure, since that creeps
// on: there is no former level that the path is expected back at. The episode ends with the last of
// its measures.
func (j *Judge) endStep(number int, measure baseline.Measure, now time.Time) (Change, bool) {
	return j.endLevel(number, Crept, now, func(m baseline.Measure) bool { return m == measure })
}

func (j *Judge) endLevel(number int, what Happening, now time.Time, of func(baseline.Measure) bool) (Change, bool) {
	i := slices.IndexFunc(j.open, func(m *matter) bool { return m.number == number && !m.closed && !m.NewLevel.IsZero() })
	if i < 0 {
		return Change{}, false
	}
	m, goesOn := j.open[i], false
	for k := range m.Excesses {
		if x := &m.Excesses[k]; x.Open() && of(x.Measure) {
			x.To = now
			delete(m.back, x.Measure)
		} else {
			goesOn = goesOn || x.Open()
		}
	}
	if goesOn {
		return Change{}, false
	}
	m.closed, m.To, m.OverToldAt = true, now, now
	j.open = slices.Delete(j.open, i, i+1)
	return j.change(what, m, now), true
}

// Accept takes what a path has come to for normal: a new level, or that to which it crept. It
// reports whether there was something to accept.
func (p *Path) Accept(kind PropertyKind, m baseline.Measure, now time.Time) (changes []Change, ok bool) {
	for i := range p.properties {
		x := &p.properties[i]
		if x.Kind != kind || x.Measure != m || !x.Waits() {
			continue
		}
		ok = true
		x.AcceptedAt = now
		p.memory.Restart(now, p.options.Calendar)
		if kind != NewLevel {
			continue
		}
		if c, done := p.judge.Accept(x.Episode, now); done {
			p.keep([]Change{c})
			changes = append(changes, c)
		}
	}
	return changes, ok
}

// acceptOld accepts the new levels that nobody said anything of for long.
func (p *Path) acceptOld(now time.Time) (changes []Change) {
	for _, x := range p.properties {
		if x.Kind == NewLevel && x.Waits() && now.Sub(x.ToldAt) >= accepts {
			c, _ := p.Accept(x.Kind, x.Measure, now)
			changes = append(changes, c...)
		}
	}
	return changes
}
