package guard

import (
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// Record is what has to be kept of a path beside its readings and its baseline, so that it is
// guarded on after a restart as if there had been none.
type Record struct {
	First      time.Time        `json:"first_at"`
	Next       time.Time        `json:"next_training_at"`
	Answered   bool             `json:"answered"`
	Episodes   []Episode        `json:"episodes"` // of the last weeks
	Forgotten  int              `json:"forgotten"`
	Going      []Going          `json:"going"`
	Properties []Property       `json:"properties"`
	Expected   []expected       `json:"expected"`
	Levels     []baseline.Shift `json:"levels"`
	Routes     []routeSeen      `json:"routes"`
	Traced     time.Time        `json:"traced_at"`
	Memory     baseline.Memory  `json:"memory"`
}

// Going is an episode that is followed: one that goes on, or was over a moment ago.
type Going struct {
	Number int                          `json:"number"`
	Over   bool                         `json:"over"`
	Shifts map[baseline.Measure]float64 `json:"shifts"` // of the measures that are worse still
	Back   map[baseline.Measure]float64 `json:"back"`   // of a new level: by how much it is above the former
	// Readings of lossy measures, and how many of them lost nothing.
	Readings map[baseline.Measure]float64 `json:"readings"`
	Spared   map[baseline.Measure]float64 `json:"spared"`
}

// keptEpisodes is for how long episodes are kept in a record.
const keptEpisodes = 35 * 24 * time.Hour

// Record is what has to be kept of the path.
func (p *Path) Record() Record {
	s := Record{First: p.first, Next: p.next, Answered: p.judge.answered, Properties: slices.Clone(p.properties), Expected: slices.Clone(p.expected),
		Levels: slices.Clone(p.levels), Routes: slices.Clone(p.routes), Traced: p.traced, Memory: p.memory, Forgotten: p.forgotten}
	s.Episodes = slices.Clone(p.episodes)
	for len(s.Episodes) > 0 && !s.Episodes[0].Open() && p.judge.last.At.Sub(s.Episodes[0].To) > keptEpisodes {
		s.Episodes = s.Episodes[1:]
		s.Forgotten++
	}
	for _, m := range p.judge.open {
		g := Going{Number: m.number, Over: m.closed, Shifts: map[baseline.Measure]float64{}, Back: map[baseline.Measure]float64{},
			Readings: map[baseline.Measure]float64{}, Spared: map[baseline.Measure]float64{}}
		for k, e := range m.measure {
			g.Shifts[k] = e.shift
			if k.Counted() {
				g.Readings[k], g.Spared[k] = e.readings, e.spared
			}
		}
		for k, b := range m.back {
			g.Back[k] = b.by
		}
		s.Going = append(s.Going, g)
	}
	return s
}

// Resume returns a path as it was, with its baseline, nil when it had none, and its last
// readings, oldest first.
func Resume(o *Options, spread float64, s Record, b *baseline.Baseline, last []baseline.Point) *Path {
	p := NewPath(o, spread)
	p.first, p.next, p.episodes, p.properties, p.expected, p.levels = s.First, s.Next, s.Episodes, s.Properties, s.Expected, s.Levels
	p.routes, p.traced, p.memory, p.forgotten = s.Routes, s.Traced, s.Memory, s.Forgotten
	p.judge.baseline, p.judge.answered, p.judge.episodes = b, s.Answered, s.Forgotten+len(s.Episodes)
	for _, g := range s.Going {
		e, ok := p.Episode(g.Number)
		if !ok {
			continue
		}
		m := &matter{Episode: e, number: g.Number, closed: g.Over, measure: map[baseline.Measure]*ending{}}
		for k, shift := range g.Shifts {
			m.measure[k] = &ending{shift: shift, n: 1, told: shift, readings: g.Readings[k], spared: g.Spared[k]}
		}
		for k, by := range g.Back {
			if m.back == nil {
				m.back = map[baseline.Measure]*back{}
			}
			m.back[k] = &back{by: by}
		}
		p.judge.open = append(p.judge.open, m)
	}
	p.judge.warm(last, p.episodes)
	return p
}

// told reports whether a measure at a time is part of an episode.
func told(episodes []Episode, m baseline.Measure, at time.Time) bool {
	return slices.ContainsFunc(episodes, func(e Episode) bool {
		x, ok := e.Excess(m)
		return ok && baseline.Interval{From: x.From, To: x.To}.Covers(at)
	})
}

// warm takes in readings that were judged already; episodes are what was told of them.
func (j *Judge) warm(last []baseline.Point, episodes []Episode) {
	for _, p := range last {
		if !j.last.At.IsZero() && p.At.Sub(end(j.last)) >= max(gapLeast, gapReadings*j.last.Span) {
			for _, t := range j.tracks {
				t.reset(end(j.last).Unix())
			}
		}
		j.countSilence(p)
		if !p.Silent() {
			for _, m := range baseline.Measures() {
				t := j.track(m)
				s, _, ok := j.sample(m, t, &p)
				if !ok {
					continue
				}
				t.add(s, j.baseline.Limits(m), j.isCalm(m))
				if told(episodes, m, p.At) {
					t.forget() // that is no evidence of anything else
				}
			}
		}
		j.last = p
		if p.Answered > 0 {
			j.before = p
		}
	}
	for _, m := range j.open {
		for k := range m.measure {
			if t := j.tracks[k]; t != nil {
				t.forget()
				t.following.Hold = true
			}
		}
	}
}
