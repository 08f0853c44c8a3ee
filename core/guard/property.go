package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// PropertyKind says what a path has for a property.
type PropertyKind string

// The kinds of properties: what is so, and no alarm.
const (
	Daily    PropertyKind = "daily"
	Weekly   PropertyKind = "weekly"
	Creeping PropertyKind = "crept"
	NewLevel PropertyKind = "new_level"
)

// Property is something that a path keeps to: told once, and again when it gets worse.
type Property struct {
	Kind    PropertyKind     `json:"kind"`
	Measure baseline.Measure `json:"measure"`
	Since   time.Time        `json:"since_at"`
	ToldAt  time.Time        `json:"told_at"`
	// What is expected otherwise, or was before, and how it is.
	Before float64 `json:"before"`
	Now    float64 `json:"now"`
	ADay   float64 `json:"a_day,omitempty"` // of what crept
	// Hours and days of what comes back.
	Weekdays uint8 `json:"weekdays,omitempty"`
	From     int   `json:"from_minute,omitempty"`
	To       int   `json:"to_minute,omitempty"`
	Days     int   `json:"days,omitempty"` // on how many days it was seen
	// AcceptedAt is when a new level was taken for normal, EndedAt when it was over.
	AcceptedAt time.Time `json:"accepted_at,omitzero"`
	EndedAt    time.Time `json:"ended_at,omitzero"`
	Episode    int       `json:"episode,omitempty"` // number of that which became the new level
	Step       bool      `json:"step,omitempty"`    // it ended because the path creeps on
	Sure       float64   `json:"confidence"`
	// Also are other measures that get worse at the same hours.
	Also []Beside `json:"also,omitempty"`
}

// Beside is another measure of a property.
type Beside struct {
	Measure baseline.Measure `json:"measure"`
	Before  float64          `json:"before"`
	Now     float64          `json:"now"`
}

// note takes in another measure.
func (p *Property) note(b Beside) {
	for i := range p.Also {
		if p.Also[i].Measure == b.Measure {
			p.Also[i] = b
			return
		}
	}
	p.Also = append(p.Also, b)
}

// Waits reports whether somebody has yet to say that it is normal.
func (p Property) Waits() bool {
	return (p.Kind == NewLevel || p.Kind == Creeping) && p.AcceptedAt.IsZero() && p.EndedAt.IsZero()
}

// AcceptsBy is when a new level is taken for normal by itself.
func (p Property) AcceptsBy() time.Time { return p.ToldAt.Add(accepts) }

const (
	// likeDays on which something came at the same hours make it daily, of the last lookedAt.
	likeDays  = 3
	lookedAt  = 6
	likeWeeks = 2
	// expectedFor is how long it is expected without being seen in the curves.
	expectedFor = 21 * 24 * time.Hour
	// margin around the hours of what comes back, in minutes.
	margin = 20
	// moreThan what it was is worse than it was.
	moreThan = 1.2
	// settles is for how long a change has to stay to be a new level.
	settles = 48 * time.Hour
	// accepts is after how long a new level is taken for normal by itself.
	accepts = 7 * 24 * time.Hour
)

// findProperties looks for what the path has come to be, after a training.
func (p *Path) findProperties(now time.Time) (changes []Change) {
	for _, m := range baseline.Measures() {
		for _, r := range p.judge.Baseline().Rhythms(m) {
			kind := Daily
			if r.Weekly() {
				kind = Weekly
			}
			p.tell(Property{Kind: kind, Measure: m, Since: p.first, ToldAt: now, Before: r.Quiet, Now: r.Worst, Weekdays: r.Weekdays, From: r.From, To: r.To, Days: r.Days, Sure: 0.95})
		}
		c, ok := p.memory.Crept(m, p.options.Tolerances)
		if ok {
			changes = append(changes, p.tell(Property{Kind: Creeping, Measure: m, Since: c.Since, ToldAt: now, Before: c.Before, Now: c.Now, ADay: c.ADay, Sure: c.Sure})...)
		}
	}
	return changes
}

// tell notes a property unless it is known already, and ends what it shows to be part of it.
func (p *Path) tell(n Property) (ended []Change) {
	if n.Kind == Creeping {
		ended = p.endSteps(n)
	}
	p.note(n)
	return ended
}

func (p *Path) note(n Property) {
	for i, old := range p.properties {
		if old.Kind != n.Kind || !old.EndedAt.IsZero() {
			continue
		}
		switch n.Kind {
		case Daily, Weekly:
			if old.Weekdays&n.Weekdays != 0 && p.sameHours(old, n) {
				if n.Measure == old.Measure {
					n.ToldAt, n.Since, n.Also = old.ToldAt, old.Since, old.Also
					p.properties[i] = n
				} else {
					p.properties[i].note(Beside{n.Measure, n.Before, n.Now})
				}
				return
			}
		case Creeping:
			if old.Measure == n.Measure || !old.AcceptedAt.IsZero() {
				// Told again when it got half as bad again.
				if math.Abs(n.Now-n.Before) < 1.5*math.Abs(old.Now-old.Before) || old.Measure != n.Measure {
					return
				}
				n.Since = old.Since
				p.properties[i].EndedAt = n.ToldAt
			}
		case NewLevel:
			if old.Measure == n.Measure && old.Episode == n.Episode {
				return
			}
		}
	}
	p.properties = append(p.properties, n)
}

// endSteps ends new levels that turn out to be steps of a creep: they are no levels that stay, and
// nobody is to take one for normal, nor does the path by itself. Their episodes end with them: the
// path did not come back, but it is judged by what it crept to.
func (p *Path) endSteps(creep Property) (changes []Change) {
	for i := range p.properties {
		x := &p.properties[i]
		if x.Kind != NewLevel || x.Measure != creep.Measure || !x.EndedAt.IsZero() || !x.AcceptedAt.IsZero() || x.Since.Before(creep.Since) {
			continue
		}
		x.EndedAt, x.Step = creep.ToldAt, true
		if c, ended := p.judge.endStep(x.Episode, x.Measure, creep.ToldAt); ended {
			p.keep([]Change{c})
			changes = append(changes, c)
		}
	}
	return changes
}

func (p *Path) sameHours(a, b Property) bool {
	at := func(x, minute int, r Property) bool {
		to := r.To
		if to <= r.From {
			to += 1440
		}
		return minute >= r.From-margin && minute < to+margin || minute+1440 < to+margin
	}
	return at(0, b.From, a) || at(0, a.From, b)
}

// span is an excess by the clock.
type span struct {
	day      int // of the civil calendar
	weekday  time.Weekday
	off      bool
	from, to int // minutes of that day; to may be beyond its end
	shift    float64
	severity float64
	at       time.Time
}

// spans are the closed excesses of a measure, of up to most of a day.
func (p *Path) spans(m baseline.Measure, since time.Time) (list []span) {
	for _, e := range p.episodes {
		if e.Open() || e.To.Before(since) || e.Kind == Lost {
			continue
		}
		x, ok := e.Excess(m)
		if !ok || x.To.IsZero() || x.To.Sub(x.From) > 18*time.Hour {
			continue
		}
		day, minute, weekday, off := p.options.Calendar.Moment(x.From)
		shift := math.Abs(x.Worst - x.Normal)
		list = append(list, span{day: day, weekday: weekday, off: off, from: minute, to: minute + int(x.To.Sub(x.From).Minutes()), shift: shift, severity: x.Severity(), at: x.From})
	}
	return list
}

// findRecurrences looks for episodes that came back at the same hours: they are expected
// from now on.
func (p *Path) findRecurrences(now time.Time) {
	for _, m := range baseline.Measures() {
		spans := p.spans(m, now.Add(-28*24*time.Hour))
		if len(spans) < likeWeeks {
			continue
		}
		p.findDaily(m, spans, now)
		for w := range time.Weekday(7) {
			p.findWeekly(m, w, spans, now)
		}
	}
}

func (p *Path) findDaily(m baseline.Measure, spans []span, now time.Time) {
	for _, off := range []bool{false, true} {
		var counts [2 * 1440]int
		byDay := map[int][]span{}
		newest := 0
		for _, s := range spans {
			if s.off == off {
				byDay[s.day] = append(byDay[s.day], s)
				newest = max(newest, s.day)
			}
		}
		if len(byDay) < likeDays {
			continue
		}
		n := 0
		for day, list := range byDay {
			if p.likeDaysBetween(day, newest, off) >= lookedAt {
				delete(byDay, day)
				continue
			}
			n++
			var hit [2 * 1440]bool
			for _, s := range list {
				for k := s.from; k < min(s.to, len(hit)); k++ {
					hit[k] = true
				}
			}
			for k, is := range hit {
				if is {
					counts[k]++
				}
			}
		}
		if n >= likeDays {
			p.expect(m, Daily, counts[:], likeDays, byDay, off, now)
		}
	}
}

// likeDaysBetween is how many days of a kind lie between two, the later one among them.
func (p *Path) likeDaysBetween(from, to int, off bool) (n int) {
	for d := from + 1; d <= to; d++ {
		if p.options.Calendar.DayOff(d) == off {
			n++
		}
	}
	return n
}

func (p *Path) findWeekly(m baseline.Measure, w time.Weekday, spans []span, now time.Time) {
	var counts [2 * 1440]int
	byDay := map[int][]span{}
	for _, s := range spans {
		if s.weekday == w {
			byDay[s.day] = append(byDay[s.day], s)
		}
	}
	newest := 0
	for d := range byDay {
		newest = max(newest, d)
	}
	for d, list := range byDay {
		if newest-d >= 7*likeWeeks {
			delete(byDay, d)
			continue
		}
		for _, s := range list {
			for k := s.from; k < min(s.to, len(counts)); k++ {
				counts[k]++
			}
		}
	}
	if len(byDay) >= likeWeeks {
		p.expect(m, Weekly, counts[:], likeWeeks, byDay, false, now)
	}
}

// expect notes the longest stretch of minutes that came on enough days.
func (p *Path) expect(m baseline.Measure, kind PropertyKind, counts []int, enough int, byDay map[int][]span, off bool, now time.Time) {
	from, best, length := 0, 0, 0
	for k, n := range counts {
		if n < enough {
			length = 0
			continue
		}
		if length++; length > best {
			best, from = length, k-length+1
		}
	}
	if best < 5 {
		return
	}
	// What touches that stretch is the same matter, with its own edges.
	first, last, worst := from, from+best, 0.0
	var since time.Time
	for _, list := range byDay {
		for _, s := range list {
			if s.from < from+best && s.to > from {
				first, last, worst = min(first, s.from), max(last, s.to), max(worst, s.shift)
				if since.IsZero() || s.at.Before(since) {
					since = s.at
				}
			}
		}
	}
	r := baseline.Recurrence{Measure: m, From: (first - margin + 1440) % 1440, To: (last + margin) % 1440, Shift: moreThan * worst}
	for _, list := range byDay {
		r.Weekdays |= 1 << list[0].weekday
	}
	if kind == Daily {
		r.Weekdays = p.options.Calendar.Mask(off)
		if !p.otherDays(byDay, off) {
			r.Weekdays = 1<<7 - 1 // nothing says that it stays away on the other days
		}
	}
	for i, old := range p.expected {
		if old.Measure == m && old.Weekdays&r.Weekdays == r.Weekdays && old.Meets(r) {
			if now.Sub(old.At) < time.Hour || old.Shift >= r.Shift && covers(old.Recurrence, r) {
				return
			}
			r.Weekdays |= old.Weekdays
			p.expected[i] = expected{r, now}
			return
		}
	}
	p.expected = append(p.expected, expected{r, now})
	p.expectBeside(r, byDay, now)
	normal := 0.0
	if n, ok := p.judge.Baseline().At(m, since); ok {
		normal = n.Expected
	}
	then := normal + worst
	if m.LessIsWorse() {
		then = normal - worst
	}
	p.tell(Property{Kind: kind, Measure: m, Since: since, ToldAt: now, Before: normal, Now: then, Weekdays: r.Weekdays, From: from % 1440, To: (from + best) % 1440, Days: len(byDay), Sure: 0.9})
}

// expectBeside expects of the other measures what they were at those times.
func (p *Path) expectBeside(r baseline.Recurrence, byDay map[int][]span, now time.Time) {
	for _, m := range []baseline.Measure{baseline.RTT, baseline.Jitter, baseline.Loss} {
		if m == r.Measure {
			continue
		}
		var shifts []float64
		for _, list := range byDay {
			for _, s := range list {
				shifts = append(shifts, p.history.Shifts(p.judge.Baseline(), m, s.at, s.at.Add(time.Duration(s.to-s.from)*time.Minute))...)
			}
		}
		if len(shifts) == 0 {
			continue
		}
		slices.Sort(shifts)
		if high := shifts[len(shifts)*19/20]; high > 0 {
			other := r
			other.Measure, other.Shift = m, moreThan*high
			p.expected = append(p.expected, expected{other, now})
		}
	}
}

// otherDays reports whether a day of the other kind lay between those on which it came.
func (p *Path) otherDays(byDay map[int][]span, off bool) bool {
	first, last := math.MaxInt, math.MinInt
	for d := range byDay {
		first, last = min(first, d), max(last, d)
	}
	for d := first; d <= last; d++ {
		if p.options.Calendar.DayOff(d) != off {
			return true
		}
	}
	return false
}

// expected is what comes back, since when that is known.
type expected struct {
	baseline.Recurrence
	At time.Time `json:"at"`
}

func covers(a, b baseline.Recurrence) bool {
	length := func(r baseline.Recurrence) int { return (r.To - r.From + 1440) % 1440 }
	return (b.From-a.From+1440)%1440+length(b) <= length(a)
}

// recurrences are what is expected now.
func (p *Path) recurrences(now time.Time) (list []baseline.Recurrence) {
	for _, e := range p.expected {
		if now.Sub(e.At) < expectedFor {
			list = append(list, e.Recurrence)
		}
	}
	return list
}
