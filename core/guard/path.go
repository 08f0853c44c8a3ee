package guard

import (
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// Options say how paths are guarded.
type Options struct {
	Calendar   baseline.Calendar
	Tolerances baseline.Tolerances
	// Training is how far back a baseline looks; 14 days when 0.
	Training time.Duration
	// Maintenance are stretches that are neither judged nor learnt.
	Maintenance []baseline.Interval
	// Same gives hops of routes that are one device one name; each is its own when nil.
	Same func(hop string) string
	// Elsewhere: the readings are kept elsewhere; paths are trained by Train when they are Due,
	// and not by themselves.
	Elsewhere bool
}

func (o *Options) training() time.Duration {
	if o.Training == 0 {
		return 14 * 24 * time.Hour
	}
	return o.Training
}

// Path is one path with what is known of it.
type Path struct {
	options    *Options
	judge      *Judge
	history    baseline.History
	memory     baseline.Memory
	episodes   []Episode // oldest first
	forgotten  int       // episodes before those
	properties []Property
	expected   []expected
	levels     []baseline.Shift // that the path moved by
	routes     []routeSeen      // oldest first
	traced     time.Time        // last
	next       time.Time        // training
	first      time.Time
	offset     time.Duration       // of the training in the day
	windows    []baseline.Interval // of maintenance that are its own
}

// NewPath returns a path that nothing is known of. spread, from 0 to 1, says when in the
// day it is trained.
func NewPath(o *Options, spread float64) *Path {
	return &Path{options: o, judge: NewJudge(), offset: time.Duration(spread * 24 * float64(time.Hour))}
}

// Add takes the next reading.
func (p *Path) Add(point baseline.Point) []Change {
	if p.first.IsZero() {
		p.first = point.At
		p.next = point.At.Add(time.Hour)
	}
	if p.maintained(point.At) {
		return nil
	}
	var changes []Change
	if !p.options.Elsewhere {
		if p.Due(point.At) {
			changes = p.Train(&p.history, point.At)
		}
		p.history.Add(point)
	}
	judged := p.judge.Add(point)
	changes = append(changes, judged...)
	if p.keep(judged) {
		p.noteReturns(changes, point.At)
		p.findRecurrences(point.At)
		p.judge.Baseline().Expect(p.recurrences(point.At))
	}
	return changes
}

// AddLoaded takes a reading beside which load runs went on: the path is judged by whether it answers at
// all, and nothing is learnt. How late and how much is lost is what the load did.
func (p *Path) AddLoaded(point baseline.Point) []Change {
	if p.first.IsZero() || p.maintained(point.At) {
		return nil
	}
	changes := p.judge.AddLoaded(point)
	if p.keep(changes) {
		p.noteReturns(changes, point.At)
	}
	return changes
}

// SetMaintenance says which stretches of the path are neither judged nor learnt, beside those
// of all paths.
func (p *Path) SetMaintenance(list []baseline.Interval) { p.windows = list }

// maintained reports whether a time is of maintenance.
func (p *Path) maintained(at time.Time) bool {
	covers := func(w baseline.Interval) bool { return w.Covers(at) }
	return slices.ContainsFunc(p.options.Maintenance, covers) || slices.ContainsFunc(p.windows, covers)
}

// Beside judges a reading that lies in the time of another, which comes as well.
func (p *Path) Beside(point baseline.Point) []Change {
	if p.maintained(point.At) {
		return nil
	}
	changes := p.judge.Beside(point)
	if p.keep(changes) {
		p.noteReturns(changes, point.At)
	}
	return changes
}

// Suspects reports whether there is some evidence that the path got worse, which does not
// suffice yet.
func (p *Path) Suspects(now time.Time) bool { return !p.maintained(now) && p.judge.Suspects() }

// Traced is when the route was last found; zero when it never was.
func (p *Path) Traced() time.Time { return p.traced }

// keep takes in what happened to the episodes; it reports whether one is over.
func (p *Path) keep(changes []Change) (closed bool) {
	for _, c := range changes {
		closed = closed || c.What == Closed
		if i := c.Number - 1 - p.forgotten; i >= len(p.episodes) {
			p.episodes = append(p.episodes, c.Episode)
		} else {
			p.episodes[i] = c.Episode
		}
	}
	return closed
}

// Episode is the one of a number; false when there is none, or it is long past.
func (p *Path) Episode(number int) (Episode, bool) {
	i := number - 1 - p.forgotten
	if i < 0 || i >= len(p.episodes) {
		return Episode{}, false
	}
	return p.episodes[i], true
}

// Due reports whether the path is to be trained.
func (p *Path) Due(now time.Time) bool { return !p.first.IsZero() && !now.Before(p.next) }

// noteReturns ends the new levels whose episodes are over.
func (p *Path) noteReturns(changes []Change, now time.Time) {
	for _, c := range changes {
		if c.What != Closed || c.Episode.NewLevel.IsZero() {
			continue
		}
		for i := range p.properties {
			if x := &p.properties[i]; x.Kind == NewLevel && x.Episode == c.Number {
				x.EndedAt = c.Episode.To
			}
		}
		// The old level is normal again, and what was between is as if it had been there.
		for i := range p.levels {
			if p.levels[i].From.Equal(c.Episode.From) {
				p.levels[i].To = c.Episode.To
			}
		}
		p.next = now
	}
}

// learns is how long a path is at least measured before it is judged.
const learns = 24 * time.Hour

// Learning reports whether too little is known of the path yet to judge it, and until when.
func (p *Path) Learning(now time.Time) (until time.Time, is bool) {
	until = p.first.Add(learns)
	return until, now.Before(until) && !p.judge.baseline.Trusted()
}

// Episodes are the episodes so far, oldest first.
func (p *Path) Episodes() []Episode { return p.episodes }

// Properties are what the path keeps to, in the order in which they were told.
func (p *Path) Properties() []Property { return p.properties }

// Judge is the path's judge.
func (p *Path) Judge() *Judge { return p.judge }

// Train makes a new baseline from a history, of which the training window counts, and asks
// what the path has come to be.
func (p *Path) Train(h *baseline.History, now time.Time) (changes []Change) {
	h.Forget(now.Add(-p.options.training()))
	weights := p.Weights(now)
	p.memory.Take(h, p.options.Calendar, weights, now)
	if changes = p.judge.settleLevels(now); len(changes) > 0 {
		for i := range changes {
			p.judge.measureLevel(&changes[i], h, now)
		}
		p.keep(changes)
		p.noteLevels(changes, now)
		weights = p.Weights(now)
	}
	changes = append(changes, p.acceptOld(now)...)
	t := baseline.Training{Calendar: p.options.Calendar, Tolerances: p.options.Tolerances, Weigh: weights, Recur: p.recurrences(now), Shifts: p.levels}
	if b, err := baseline.Build(h, t); err == nil {
		p.judge.SetBaseline(b)
		if now.Sub(p.first) >= 24*time.Hour {
			changes = append(changes, p.findProperties(now)...)
		}
	}
	if now.Sub(p.first) < 24*time.Hour {
		p.next = now.Add(2 * time.Hour)
		return changes
	}
	day := now.Truncate(24 * time.Hour).Add(p.offset)
	for !day.After(now) {
		day = day.Add(24 * time.Hour)
	}
	p.next = day
	return changes
}

// noteLevels notes the new levels, from which on the path is judged by them.
func (p *Path) noteLevels(changes []Change, now time.Time) {
	for _, c := range changes {
		for _, x := range c.Episode.Excesses {
			if !x.Open() {
				continue
			}
			by := x.Now - x.Normal
			p.levels = append(p.levels, baseline.Shift{Measure: x.Measure, Interval: baseline.Interval{From: c.Episode.From}, By: by})
			p.tell(Property{Kind: NewLevel, Measure: x.Measure, Since: c.Episode.From, ToldAt: now, Before: x.Normal, Now: x.Now, Episode: c.Number, Sure: 0.99})
			p.judge.expectReturn(c.Number, x.Measure, by)
		}
	}
}

const (
	// oddWeight is what an episode weighs in training.
	oddWeight = 0.02
	// knownTimes on knownDays different days, what comes and goes is how the path is.
	knownTimes = 4
	knownDays  = 3
)

// Weights are how much the episodes count in training: little, because they are not how the
// path usually is; but what came so often is.
func (p *Path) Weights(now time.Time) (list []baseline.Weight) {
	from := now.Add(-p.options.training())
	for _, w := range slices.Concat(p.options.Maintenance, p.windows) {
		list = append(list, baseline.Weight{Interval: w})
	}
	for i, e := range p.episodes {
		if !e.Open() && e.To.Before(from) || !e.NewLevel.IsZero() {
			continue
		}
		w := oddWeight
		if p.usual(i, from) {
			w = 1
		}
		list = append(list, baseline.Weight{Interval: baseline.Interval{From: e.From, To: e.To}, Weight: w})
	}
	return list
}

// usual reports whether as much as in an episode came back so often that it is no news.
func (p *Path) usual(i int, from time.Time) bool {
	x, ok := p.episodes[i].Headline()
	if !ok || p.episodes[i].Kind == Lost {
		return false
	}
	times, days := 0, map[int64]bool{}
	for _, e := range p.episodes {
		if e.Open() || e.To.Before(from) || e.To.Sub(e.From) > 12*time.Hour {
			continue
		}
		if y, ok := e.Excess(x.Measure); ok && y.Severity() >= 0.7*x.Severity() {
			times++
			days[e.From.Unix()/86400] = true
		}
	}
	if p.episodes[i].To.Sub(p.episodes[i].From) < time.Hour && !p.episodes[i].Open() {
		return times >= knownTimes-1 && len(days) >= knownDays-1
	}
	return times >= knownTimes && len(days) >= knownDays
}
