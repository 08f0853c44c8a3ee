package schedule

import (
	"fmt"
	"strings"
	"time"
)

// Hours are hours of days of the week. The zero value are all.
type Hours []span

// span are hours of some days; until may lie behind midnight.
type span struct {
	days        [7]bool
	from, until time.Duration // since midnight
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseHours reads hours of days, with commas between: "08:00-18:00" of each day,
// "mon-fri 08:00-18:00, sat 09:00-12:00", "fri 22:00-06:00" into the next morning.
func ParseHours(text string) (Hours, error) {
	var list Hours
	for _, part := range strings.Split(text, ",") {
		s, err := parseSpan(strings.Fields(strings.ToLower(part)))
		if err != nil {
			return nil, fmt.Errorf("hours %q: %w; they are said like mon-fri 08:00-18:00, sat 09:00-12:00", shorten(text), err)
		}
		list = append(list, s)
	}
	return list, nil
}

func parseSpan(words []string) (s span, err error) {
	switch len(words) {
	case 1:
		for i := range s.days {
			s.days[i] = true
		}
	case 2:
		if err := s.parseDays(words[0]); err != nil {
			return s, err
		}
	default:
		return s, fmt.Errorf("%q is no hours of days", strings.Join(words, " "))
	}
	from, until, ok := strings.Cut(words[len(words)-1], "-")
	if !ok {
		return s, fmt.Errorf("%q has no end", words[len(words)-1])
	}
	if s.from, err = parseClock(from); err != nil {
		return s, err
	}
	if s.until, err = parseClock(until); err != nil {
		return s, err
	}
	if s.from == 24*time.Hour {
		return s, fmt.Errorf("nothing begins at 24:00")
	}
	if s.until <= s.from {
		if s.until == s.from {
			return s, fmt.Errorf("%s to %s is no time at all; leave the hours out for all day", from, until)
		}
		s.until += 24 * time.Hour
	}
	return s, nil
}

func (s *span) parseDays(text string) error {
	day := func(name string) (int, error) {
		for i, n := range dayNames {
			if len(name) >= 3 && strings.HasPrefix([]string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}[i], name) && strings.HasPrefix(name, n) {
				return i, nil
			}
		}
		return 0, fmt.Errorf("%q is no day of the week", shorten(name))
	}
	first, last, several := strings.Cut(text, "-")
	from, err := day(first)
	if err != nil {
		return err
	}
	to := from
	if several {
		if to, err = day(last); err != nil {
			return err
		}
	}
	for d := from; ; d = (d + 1) % 7 {
		s.days[d] = true
		if d == to {
			return nil
		}
	}
}

// parseClock reads a time of day, 24:00 included.
func parseClock(text string) (time.Duration, error) {
	if text == "24:00" {
		return 24 * time.Hour, nil
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day", shorten(text))
	}
	return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute, nil
}

// Open reports whether a time, in the zone that it has, is of these hours. It goes by the time
// that clocks show.
func (h Hours) Open(t time.Time) bool {
	if len(h) == 0 {
		return true
	}
	clock := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute + time.Duration(t.Second())*time.Second + time.Duration(t.Nanosecond())
	today := t.Weekday()
	for _, s := range h {
		if s.days[today] && clock >= s.from && clock < s.until || s.days[(today+6)%7] && clock+24*time.Hour < s.until {
			return true
		}
	}
	return false
}

// change is the first moment after a time at which Open may become another; zero when there is
// none.
func (h Hours) change(t time.Time) (best time.Time) {
	offer := func(day time.Time, clock time.Duration) {
		wall := asUTC(day).Add(clock)
		if at := inZone(wall, t.Location()); at.After(t) && (best.IsZero() || at.Before(best)) {
			best = at
		}
	}
	for _, s := range h {
		for back := -1; back <= 8; back++ {
			day := time.Date(t.Year(), t.Month(), t.Day()+back, 0, 0, 0, 0, time.UTC)
			if s.days[day.Weekday()] {
				offer(day, s.from)
				offer(day, s.until)
			}
		}
	}
	return best
}

// opens is the first moment from a closed one on at which it is open; zero when there is none.
func (h Hours) opens(t time.Time) time.Time {
	for range 64 {
		if h.Open(t) {
			return t
		}
		next := h.change(t)
		if next.IsZero() {
			return next
		}
		t = next.In(t.Location())
	}
	return time.Time{}
}
