// Package schedule says when a standing measurement is made: without a pause, at the multiples
// of an interval, at random about it, or at the times of a cron expression in a time zone;
// between a first and a last day, and at hours that are allowed.
//
//	s, err := schedule.Times{Cron: "30 2 * * *", Zone: "Europe/Dublin"}.With(0, 0, 0)
//	next := s.Next(time.Now())
//
// Where clocks are changed, a time of day that does not exist comes at the moment of the change,
// and one that comes twice is kept the first time; what is asked for at each hour, or each few
// minutes of it, goes on by the hours that pass.
package schedule

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Times say when a measurement is made, beside how often. The zero value is always.
type Times struct {
	// Cron is a cron expression of five fields, or @daily and the like.
	Cron string `json:"cron,omitempty"`
	// Zone is whose hours Cron and Hours go by: a name of the IANA database; UTC when empty.
	Zone string `json:"zone,omitempty"`
	// Poisson spreads the runs at random, at the mean distance of the interval, so that they
	// see what goes by an interval of its own (RFC 2330, section 11.1.1).
	Poisson bool `json:"poisson,omitempty"`
	// StartAt and EndAt are the first moment and the one behind the last; without a limit when
	// zero.
	StartAt time.Time `json:"start_at,omitzero"`
	EndAt   time.Time `json:"end_at,omitzero"`
	// Hours are those that are allowed; all when empty. See ParseHours.
	Hours string `json:"hours,omitempty"`
}

// IsZero reports whether they say nothing.
func (t Times) IsZero() bool {
	return t.Cron == "" && t.Zone == "" && !t.Poisson && t.StartAt.IsZero() && t.EndAt.IsZero() && t.Hours == ""
}

// Equal reports whether both say the same.
func (t Times) Equal(o Times) bool {
	start, end := t.StartAt.Equal(o.StartAt), t.EndAt.Equal(o.EndAt)
	t.StartAt, t.EndAt, o.StartAt, o.EndAt = time.Time{}, time.Time{}, time.Time{}, time.Time{}
	return start && end && t == o
}

// Schedule is Times that were read, with how often.
type Schedule struct {
	times Times
	every time.Duration
	phase time.Duration
	seed  uint64
	zone  *time.Location
	cron  *expression
	hours Hours
}

// With reads the times of a measurement that is made at the multiples of an interval and phase
// after, or without a pause when every is 0. The seed is that of random times. The error says
// what of the times cannot be.
func (t Times) With(every, phase time.Duration, seed uint64) (*Schedule, error) {
	s := &Schedule{times: t, every: every, phase: phase, seed: seed, zone: time.UTC}
	var errs []error
	add := func(err error) {
		if err != nil {
			errs = append(errs, err)
		}
	}
	var err error
	if t.Zone != "" {
		if s.zone, err = Zone(t.Zone); err != nil {
			add(err)
			s.zone = time.UTC
		}
	}
	if t.Cron != "" {
		s.cron, err = parse(t.Cron)
		add(err)
		if every != 0 {
			add(errors.New("cron and repeat both say how often; leave one out"))
		}
		if t.Poisson {
			add(errors.New("poisson is about an interval; leave it out, or cron"))
		}
	}
	if t.Poisson && every == 0 && t.Cron == "" {
		add(errors.New("poisson spreads the runs of an interval; say which with repeat"))
	}
	if t.Hours != "" {
		s.hours, err = ParseHours(t.Hours)
		add(err)
	}
	if t.Zone != "" && t.Cron == "" && t.Hours == "" {
		add(fmt.Errorf("zone %s is of cron and hours, and there are none", t.Zone))
	}
	if !t.StartAt.IsZero() && !t.EndAt.IsZero() && !t.EndAt.After(t.StartAt) {
		add(fmt.Errorf("it ends at %s, before it starts at %s", t.EndAt.Format(time.RFC3339), t.StartAt.Format(time.RFC3339)))
	}
	if len(errs) == 0 && (s.cron != nil || every != 0) {
		from := time.Now()
		if t.StartAt.After(from) {
			from = t.StartAt
		}
		if !t.EndAt.IsZero() && t.EndAt.Before(from) {
			return s, nil // it is over, and was right once
		}
		if s.Next(from).IsZero() {
			add(fmt.Errorf("at no time that is allowed%s is it due within %d years", bounds(t), searchYears))
		}
	}
	return s, errors.Join(errs...)
}

func bounds(t Times) string {
	if t.EndAt.IsZero() {
		return ""
	}
	return " before " + t.EndAt.UTC().Format(time.RFC3339)
}

// searchYears is how far ahead a time is looked for: a 29 February may be eight years away.
const searchYears = 8

// Zone finds a time zone by its name in the IANA database.
func Zone(name string) (*time.Location, error) {
	if strings.EqualFold(name, "local") {
		return nil, errors.New(`the zone "local" is another at each machine; name one, such as Europe/Dublin`)
	}
	z, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("there is no time zone %q; they are named like Europe/Dublin or UTC", shorten(name))
	}
	return z, nil
}

func shorten(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// Zone is whose hours it goes by.
func (s *Schedule) Zone() *time.Location { return s.zone }

// AtOnce reports whether a first run may be made at a time, whatever it is: where an interval
// says how often, and it is allowed then.
func (s *Schedule) AtOnce(at time.Time) bool { return s.cron == nil && s.every > 0 && s.Open(at) }

// Open reports whether it may be measured at a time: between its first and last moment, and at
// hours that are allowed.
func (s *Schedule) Open(at time.Time) bool {
	return !at.Before(s.times.StartAt) && (s.times.EndAt.IsZero() || at.Before(s.times.EndAt)) && s.hours.Open(at.In(s.zone))
}

// Change is the first moment after a time at which Open may become another; zero when there is
// none.
func (s *Schedule) Change(at time.Time) time.Time {
	var best time.Time
	offer := func(t time.Time) {
		if t.After(at) && (best.IsZero() || t.Before(best)) {
			best = t
		}
	}
	offer(s.times.StartAt)
	offer(s.times.EndAt)
	if s.times.EndAt.IsZero() || at.Before(s.times.EndAt) {
		offer(s.hours.change(at.In(s.zone)))
	}
	return best
}

// Next is the first time after another at which a run is due; zero when there is none any more.
func (s *Schedule) Next(after time.Time) time.Time {
	if s.times.StartAt.After(after) {
		after = s.times.StartAt.Add(-1)
	}
	limit := after.AddDate(searchYears, 0, 1)
	for {
		at := s.due(after)
		switch {
		case at.IsZero(), at.After(limit), !s.times.EndAt.IsZero() && !at.Before(s.times.EndAt):
			return time.Time{}
		case s.hours.Open(at.In(s.zone)):
			return at
		}
		// At no hour that is closed is anything due: the search goes on where the next opens.
		after = s.hours.opens(at.In(s.zone))
		if after.IsZero() {
			return time.Time{}
		}
		after = after.Add(-1)
	}
}

// Opens is the first moment from one on at which it may be measured; zero when there is none.
func (s *Schedule) Opens(at time.Time) time.Time {
	for range 64 {
		if at.IsZero() || s.Open(at) {
			return at
		}
		at = s.Change(at)
	}
	return time.Time{}
}

// Shortest is the least distance of so many times behind a moment; 0 when there are not two.
func (s *Schedule) Shortest(from time.Time, times int) (least time.Duration) {
	at := s.Next(from)
	for range times {
		next := s.Next(at)
		if at.IsZero() || next.IsZero() {
			break
		}
		if d := next.Sub(at); least == 0 || d < least {
			least = d
		}
		at = next
	}
	return least
}

// PerDay is how many runs are due a day, in the mean of some weeks behind a moment.
func (s *Schedule) PerDay(from time.Time) float64 {
	const days, most = 28, 5000
	end := from.AddDate(0, 0, days)
	at, n := s.Next(from), 0
	for ; !at.IsZero() && at.Before(end); n++ {
		if n == most { // so often that less of the time tells
			return most / (at.Sub(from).Hours() / 24)
		}
		at = s.Next(at)
	}
	return float64(n) / days
}

// Share is the share of the time that is allowed, over the week behind a moment.
func (s *Schedule) Share(from time.Time) float64 {
	const week = 7 * 24 * time.Hour
	end, open := from.Add(week), time.Duration(0)
	for at := from; at.Before(end); {
		next := s.Change(at)
		if next.IsZero() || next.After(end) {
			next = end
		}
		if s.Open(at) {
			open += next.Sub(at)
		}
		at = next
	}
	return float64(open) / float64(week)
}

// Last is the last time up to a moment, that moment included, at which a run was due; zero when
// there was none within some years.
func (s *Schedule) Last(upTo time.Time) time.Time {
	for back := time.Minute; back < 2*searchYears*366*24*time.Hour; back *= 4 {
		at := s.Next(upTo.Add(-back))
		if at.IsZero() || at.After(upTo) {
			continue
		}
		for next := s.Next(at); !next.IsZero() && !next.After(upTo); next = s.Next(at) {
			at = next
		}
		return at
	}
	return time.Time{}
}

// Since is since when Open has been as it is at a moment: the last change up to it; zero when
// there was none within a year.
func (s *Schedule) Since(at time.Time) (since time.Time) {
	for back := time.Hour; since.IsZero() && back < 366*24*time.Hour; back *= 4 {
		for c := s.Change(at.Add(-back)); !c.IsZero() && !c.After(at); c = s.Change(c) {
			if s.Open(c) != s.Open(c.Add(-1)) {
				since = c
			}
		}
	}
	return since
}

// due is the first time after another, whatever is allowed.
func (s *Schedule) due(after time.Time) time.Time {
	switch {
	case s.cron != nil:
		at := s.cron.next(after.Add(-s.phase), s.zone)
		if at.IsZero() {
			return at
		}
		return at.Add(s.phase)
	case s.every <= 0:
		return time.Time{}
	case s.times.Poisson:
		return s.poisson(after)
	}
	next := after.Add(-s.phase).Truncate(s.every).Add(s.every + s.phase)
	if !next.After(after) {
		next = next.Add(s.every)
	}
	return next
}

// poisson is the next time of a Poisson process that is the same whenever it is asked for: the
// time is cut into blocks, of which each has its own number of runs at their own times.
func (s *Schedule) poisson(after time.Time) time.Time {
	const perBlock = 16
	block := perBlock * s.every
	for n := after.UnixNano() / int64(block); ; n++ {
		r := rand.New(rand.NewPCG(s.seed, uint64(n)))
		best := int64(math.MaxInt64)
		// The number of a block is Poisson's: as many exponential distances as fit.
		for at := r.ExpFloat64() * float64(s.every); at < float64(block); at += r.ExpFloat64() * float64(s.every) {
			if t := n*int64(block) + int64(at); t > after.UnixNano() && t < best {
				best = t
			}
		}
		if best < math.MaxInt64 {
			return time.Unix(0, best).UTC()
		}
	}
}

// expression is a cron expression.
type expression struct {
	spec *cron.SpecSchedule
	// byHour says that it asks for each hour, so that it goes by the hours that pass.
	byHour bool
}

func parse(text string) (*expression, error) {
	trimmed := strings.TrimSpace(text)
	if strings.Contains(strings.ToUpper(trimmed), "TZ=") {
		return nil, fmt.Errorf("cron %q: say whose hours it goes by with zone", shorten(text))
	}
	if strings.HasPrefix(trimmed, "@every") {
		return nil, fmt.Errorf("cron %q: an interval is said with repeat", shorten(text))
	}
	parsed, err := cron.ParseStandard(trimmed)
	if err != nil {
		return nil, fmt.Errorf("cron %q: %w; it has five fields: minute, hour, day of the month, month, day of the week", shorten(text), err)
	}
	spec, ok := parsed.(*cron.SpecSchedule)
	if !ok {
		return nil, fmt.Errorf("cron %q is not a time of day", shorten(text))
	}
	const allHours = 1<<24 - 1
	e := &expression{spec: spec, byHour: spec.Hour&allHours == allHours}
	e.spec.Location = time.UTC
	if e.spec.Next(time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return nil, fmt.Errorf("cron %q names a day that does not exist", shorten(text))
	}
	return e, nil
}

// next is the first time after another that the expression names in a zone.
func (e *expression) next(after time.Time, zone *time.Location) time.Time {
	if e.byHour {
		return e.nextByHour(after, zone)
	}
	// The times of day are those of a clock that nobody changes; then each is looked up in
	// the zone.
	wall := asUTC(after.In(zone))
	for from := wall.Add(-3 * time.Hour); ; {
		w := e.spec.Next(from)
		if w.IsZero() {
			return w
		}
		if t := inZone(w, zone); t.After(after) {
			return t
		}
		from = w
	}
}

// nextByHour goes minute by minute of the hours that pass: the hour that comes twice is one of
// them each time, and none is made up for one that is left out.
func (e *expression) nextByHour(after time.Time, zone *time.Location) time.Time {
	wall := asUTC(after.In(zone))
	t := after
	for range 4 * 366 * 24 { // each step is an hour or lands on a time
		w := e.spec.Next(wall)
		if w.IsZero() {
			return w
		}
		jump := w.Sub(wall)
		candidate := t.Add(jump)
		if asUTC(candidate.In(zone)).Equal(w) {
			return candidate
		}
		// Clocks are changed in between: up to there nothing was due, and behind it the
		// search goes on by the new time.
		change := changeOf(t, candidate, zone)
		t, wall = change.Add(-1), asUTC(change.In(zone)).Add(-1)
	}
	return time.Time{}
}

// asUTC is the time of day of a clock as if it were UTC's.
func asUTC(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// inZone is when a clock of a zone shows a time of day first, or the moment at which it is put
// on over it.
func inZone(wall time.Time, zone *time.Location) time.Time {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	if !asUTC(t).Equal(wall) {
		return changeOf(t.Add(-24*time.Hour), t.Add(24*time.Hour), zone)
	}
	// Of a time that comes twice it may be the second.
	_, offset := t.Zone()
	_, before := t.Add(-12 * time.Hour).Zone()
	if before > offset {
		if earlier := t.Add(-time.Duration(before-offset) * time.Second); asUTC(earlier.In(zone)).Equal(wall) {
			return earlier
		}
	}
	return t
}

// changeOf is the first moment of a new offset between two times that have others.
func changeOf(from, to time.Time, zone *time.Location) time.Time {
	_, was := from.In(zone).Zone()
	for to.Sub(from) > time.Second {
		middle := from.Add(to.Sub(from) / 2)
		if _, is := middle.In(zone).Zone(); is == was {
			from = middle
		} else {
			to = middle
		}
	}
	return to.Truncate(time.Second)
}
