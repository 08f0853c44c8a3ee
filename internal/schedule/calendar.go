package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

const (
	mostCalendar    = 1 << 20 // bytes
	mostEvents      = 2000
	mostRecurrences = 5000 // of an event that are looked at
	longestEvent    = 31 * 24 * time.Hour
)

// Calendar are the events of an iCalendar file (RFC 5545), each with its recurrences.
type Calendar struct{ events []event }

type event struct {
	name  string
	start time.Time
	lasts time.Duration
	set   *rrule.Set // nil for one that happens once
}

// Span is a stretch of time with a name.
type Span struct {
	Name        string
	From, Until time.Time
}

// ReadCalendar reads the events of a calendar. Times that name no zone are those of zone. The
// error says what cannot be read, and of which event.
func ReadCalendar(text string, zone *time.Location) (c Calendar, err error) {
	if len(text) > mostCalendar {
		return c, fmt.Errorf("the calendar has %d bytes; %d are the most that is read", len(text), mostCalendar)
	}
	read, err := ics.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return c, fmt.Errorf("this is no calendar (RFC 5545): %w", err)
	}
	all := read.Events()
	switch {
	case len(all) == 0:
		return c, errors.New("the calendar has no events")
	case len(all) > mostEvents:
		return c, fmt.Errorf("the calendar has %d events; %d are the most that are read", len(all), mostEvents)
	}
	moved := map[string][]time.Time{} // occurrences that other events stand for, by UID
	for _, e := range all {
		if p := e.GetProperty(ics.ComponentPropertyRecurrenceId); p != nil {
			at, _, err := timesOf(p, zone)
			if err != nil {
				return c, named(e, err)
			}
			moved[uid(e)] = append(moved[uid(e)], at...)
		}
	}
	for _, e := range all {
		if p := e.GetProperty(ics.ComponentPropertyStatus); p != nil && strings.EqualFold(p.Value, "CANCELLED") {
			continue
		}
		x, err := eventOf(e, zone, moved[uid(e)])
		if err != nil {
			return c, named(e, err)
		}
		c.events = append(c.events, x)
	}
	return c, nil
}

func uid(e *ics.VEvent) string {
	if p := e.GetProperty(ics.ComponentPropertyUniqueId); p != nil {
		return p.Value
	}
	return ""
}

func summary(e *ics.VEvent) string {
	if p := e.GetProperty(ics.ComponentPropertySummary); p != nil {
		return shorten(p.Value)
	}
	return ""
}

func named(e *ics.VEvent, err error) error { return fmt.Errorf("event %q: %w", summary(e), err) }

func eventOf(e *ics.VEvent, zone *time.Location, moved []time.Time) (x event, err error) {
	x.name = summary(e)
	p := e.GetProperty(ics.ComponentPropertyDtStart)
	if p == nil {
		return x, errors.New("it has no start")
	}
	starts, wholeDay, err := timesOf(p, zone)
	if err != nil {
		return x, err
	}
	x.start = starts[0]
	if x.lasts, err = lasts(e, x.start, wholeDay, zone); err != nil {
		return x, err
	}
	rule := e.GetProperty(ics.ComponentPropertyRrule)
	dates := e.GetProperties(ics.ComponentPropertyRdate)
	if rule == nil && len(dates) == 0 || e.GetProperty(ics.ComponentPropertyRecurrenceId) != nil {
		return x, nil
	}
	x.set = &rrule.Set{}
	x.set.DTStart(x.start)
	if rule != nil {
		o, err := rrule.StrToROptionInLocation(rule.Value, x.start.Location())
		if err != nil {
			return x, fmt.Errorf("its rule %q: %w", shorten(rule.Value), err)
		}
		if o.Freq > rrule.DAILY {
			return x, fmt.Errorf("its rule %q comes back more than daily, which no maintenance does", shorten(rule.Value))
		}
		o.Dtstart = x.start
		r, err := rrule.NewRRule(*o)
		if err != nil {
			return x, fmt.Errorf("its rule %q: %w", shorten(rule.Value), err)
		}
		x.set.RRule(r)
	} else {
		x.set.RDate(x.start)
	}
	for _, d := range dates {
		list, _, err := timesOf(d, zone)
		if err != nil {
			return x, err
		}
		for _, t := range list {
			x.set.RDate(t)
		}
	}
	for _, d := range e.GetProperties(ics.ComponentPropertyExdate) {
		list, _, err := timesOf(d, zone)
		if err != nil {
			return x, err
		}
		moved = append(moved, list...)
	}
	for _, t := range moved {
		x.set.ExDate(t.In(x.start.Location()))
	}
	return x, nil
}

// lasts is how long an event lasts: a whole day that has no end is one.
func lasts(e *ics.VEvent, start time.Time, wholeDay bool, zone *time.Location) (d time.Duration, err error) {
	if p := e.GetProperty(ics.ComponentPropertyDtEnd); p != nil {
		ends, _, err := timesOf(p, zone)
		if err != nil {
			return 0, err
		}
		d = ends[0].Sub(start)
	} else if p := e.GetProperty(ics.ComponentPropertyDuration); p != nil {
		if d, err = parseDuration(p.Value); err != nil {
			return 0, err
		}
	} else if wholeDay {
		d = start.AddDate(0, 0, 1).Sub(start)
	}
	switch {
	case d <= 0:
		return 0, errors.New("it ends where it starts, or before")
	case d > longestEvent:
		return 0, fmt.Errorf("it lasts %v, longer than %v", d, longestEvent)
	}
	return d, nil
}

// timesOf are the times of a property.
func timesOf(p *ics.IANAProperty, zone *time.Location) (list []time.Time, wholeDay bool, err error) {
	if names := p.ICalParameters["TZID"]; len(names) == 1 {
		if zone, err = Zone(strings.Trim(names[0], `"/`)); err != nil {
			return nil, false, err
		}
	}
	for _, text := range strings.Split(p.Value, ",") {
		var t time.Time
		switch {
		case strings.HasSuffix(text, "Z"):
			t, err = time.Parse("20060102T150405Z", text)
		case strings.Contains(text, "T"):
			t, err = time.ParseInLocation("20060102T150405", text, zone)
		default:
			t, err = time.ParseInLocation("20060102", text, zone)
			wholeDay = true
		}
		if err != nil {
			return nil, false, fmt.Errorf("%q is no time", shorten(text))
		}
		list = append(list, t)
	}
	return list, wholeDay, nil
}

// parseDuration reads a duration (RFC 5545, section 3.3.6), such as PT2H or P1D.
func parseDuration(text string) (d time.Duration, err error) {
	wrong := fmt.Errorf("%q is no duration", shorten(text))
	rest, ok := strings.CutPrefix(strings.TrimPrefix(text, "+"), "P")
	if !ok || rest == "" {
		return 0, wrong
	}
	clock, n, digits := false, 0, false
	for _, r := range rest {
		switch {
		case r >= '0' && r <= '9' && n < 1_000_000:
			n, digits = 10*n+int(r-'0'), true
			continue
		case r == 'T' && !clock && !digits:
			clock = true
			continue
		}
		unit, known := map[rune]time.Duration{'W': 7 * 24 * time.Hour, 'D': 24 * time.Hour}[r]
		if clock {
			unit, known = map[rune]time.Duration{'H': time.Hour, 'M': time.Minute, 'S': time.Second}[r]
		}
		if !known || !digits {
			return 0, wrong
		}
		d += time.Duration(n) * unit
		n, digits = 0, false
	}
	if digits {
		return 0, wrong
	}
	return d, nil
}

// Between are the events that touch a stretch of time, with their recurrences, in the order of
// time.
func (c Calendar) Between(from, until time.Time) (list []Span) {
	add := func(e event, start time.Time) {
		if end := start.Add(e.lasts); start.Before(until) && end.After(from) {
			list = append(list, Span{e.name, start.UTC(), end.UTC()})
		}
	}
	for _, e := range c.events {
		if e.set == nil {
			add(e, e.start)
			continue
		}
		for n, next := 0, e.set.Iterator(); n < mostRecurrences; n++ {
			at, ok := next()
			if !ok || !at.Before(until) {
				break
			}
			add(e, at)
		}
	}
	slices.SortFunc(list, func(a, b Span) int { return a.From.Compare(b.From) })
	return list
}
