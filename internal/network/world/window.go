package world

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// window is when a change holds: between two times, and, when days are given,
// only at those hours of those days of the week.
type window struct {
	from, to   time.Time // zero is without limit
	recurring  bool
	weekdays   [7]bool
	start, end time.Duration // since local midnight; end may lie beyond 24 h
	zone       *time.Location
}

func (w window) open(t time.Time) bool {
	if !w.from.IsZero() && t.Before(w.from) || !w.to.IsZero() && !t.Before(w.to) {
		return false
	}
	if !w.recurring {
		return true
	}
	for _, back := range []int{0, -1} { // today's, or yesterday's past midnight
		day := midnight(t.In(w.zone), back)
		if w.weekdays[day.Weekday()] && !t.Before(day.Add(w.start)) && t.Before(day.Add(w.end)) {
			return true
		}
	}
	return false
}

// next is the first instant after t at which the window may open or close;
// false when there is none.
func (w window) next(t time.Time) (time.Time, bool) {
	var best time.Time
	offer := func(c time.Time) {
		if c.After(t) && (best.IsZero() || c.Before(best)) {
			best = c
		}
	}
	if !w.from.IsZero() {
		offer(w.from)
	}
	if !w.to.IsZero() {
		offer(w.to)
	}
	if w.recurring {
		for day := -1; day <= 1; day++ {
			d := midnight(t.In(w.zone), day)
			offer(d.Add(w.start))
			offer(d.Add(w.end))
		}
	}
	return best, !best.IsZero()
}

func midnight(t time.Time, days int) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day()+days, 0, 0, 0, 0, t.Location())
}

var dayTime = regexp.MustCompile(`^day([+-]\d+)? (\d{1,2}:\d{2})$`)

// instant reads "day-3 09:40" (that many days from the day of the reference)
// or an RFC 3339 time.
func instant(text string, reference time.Time, zone *time.Location) (time.Time, error) {
	if m := dayTime.FindStringSubmatch(text); m != nil {
		days, _ := strconv.Atoi(m[1])
		clock, err := clockOf(m[2])
		if err != nil {
			return time.Time{}, err
		}
		return midnight(reference.In(zone), days).Add(clock), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return time.Time{}, fmt.Errorf("time %q is neither like \"day-3 09:40\" nor like \"2026-11-20T09:40:00Z\"", text)
	}
	return t, nil
}

func clockOf(text string) (time.Duration, error) {
	hours, minutes, ok := strings.Cut(text, ":")
	h, err1 := strconv.Atoi(hours)
	m, err2 := strconv.Atoi(minutes)
	if !ok || err1 != nil || err2 != nil || h < 0 || h > 24 || m < 0 || m > 59 {
		return 0, fmt.Errorf("time of day %q is not like \"16:30\"", text)
	}
	return time.Duration(h)*time.Hour + time.Duration(m)*time.Minute, nil
}

// hours reads "16:00-18:30" into the window.
func (w *window) hours(text string) error {
	from, to, ok := strings.Cut(text, "-")
	if !ok {
		return fmt.Errorf("hours %q are not like \"16:00-18:30\"", text)
	}
	var err error
	if w.start, err = clockOf(strings.TrimSpace(from)); err != nil {
		return err
	}
	if w.end, err = clockOf(strings.TrimSpace(to)); err != nil {
		return err
	}
	if w.end <= w.start {
		w.end += 24 * time.Hour
	}
	w.recurring = true
	return nil
}

var weekdayNames = map[string]time.Weekday{"sun": 0, "mon": 1, "tue": 2, "wed": 3, "thu": 4, "fri": 5, "sat": 6}

// weekly reads "mon-fri 16:00-18:30" into the window.
func (w *window) weekly(text string) error {
	days, hours, ok := strings.Cut(text, " ")
	if !ok {
		return fmt.Errorf("%q is not like \"mon-fri 16:00-18:30\"", text)
	}
	for _, part := range strings.Split(days, ",") {
		first, last, isRange := strings.Cut(strings.ToLower(part), "-")
		if !isRange {
			last = first
		}
		a, ok1 := weekdayNames[first]
		b, ok2 := weekdayNames[last]
		if !ok1 || !ok2 {
			return fmt.Errorf("days %q are not like \"mon-fri\" or \"sat,sun\"", part)
		}
		for d := a; ; d = (d + 1) % 7 {
			w.weekdays[d] = true
			if d == b {
				break
			}
		}
	}
	return w.hours(hours)
}
