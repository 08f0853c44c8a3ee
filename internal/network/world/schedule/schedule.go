// Package schedule says when something in a simulated network holds: between two
// times, at hours of days of the week, or for a while after each time of a cron
// expression.
package schedule

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Window is when something holds. The zero value holds always.
type Window struct {
	From, Until time.Time // zero is without limit
	Zone        *time.Location

	recurring  bool
	weekdays   [7]bool
	start, end time.Duration // since local midnight; end may lie beyond 24 h

	cron cron.Schedule
	hold time.Duration
}

// Open reports whether it holds at t.
func (w *Window) Open(t time.Time) bool {
	if !w.From.IsZero() && t.Before(w.From) || !w.Until.IsZero() && !t.Before(w.Until) {
		return false
	}
	return (!w.recurring || w.inHours(t)) && (w.cron == nil || w.afterCron(t))
}

func (w *Window) inHours(t time.Time) bool {
	for _, back := range []int{0, -1} { // today's, or yesterday's past midnight
		day := midnight(t.In(w.Zone), back)
		if w.weekdays[day.Weekday()] && !t.Before(day.Add(w.start)) && t.Before(day.Add(w.end)) {
			return true
		}
	}
	return false
}

func (w *Window) afterCron(t time.Time) bool {
	next := w.cron.Next(t.In(w.Zone).Add(-w.hold))
	return !next.IsZero() && !next.After(t)
}

// Next is the first instant after t at which the window may open or close;
// false when there is none.
func (w *Window) Next(t time.Time) (time.Time, bool) {
	var best time.Time
	offer := func(c time.Time) {
		if c.After(t) && (best.IsZero() || c.Before(best)) {
			best = c
		}
	}
	if !w.From.IsZero() {
		offer(w.From)
	}
	if !w.Until.IsZero() {
		offer(w.Until)
	}
	if w.recurring {
		for day := -1; day <= 1; day++ {
			d := midnight(t.In(w.Zone), day)
			offer(d.Add(w.start))
			offer(d.Add(w.end))
		}
	}
	if w.cron != nil {
		offer(w.cron.Next(t.In(w.Zone)))
		if began := w.cron.Next(t.In(w.Zone).Add(-w.hold)); !began.IsZero() {
			offer(began.Add(w.hold))
		}
	}
	return best, !best.IsZero()
}

func midnight(t time.Time, days int) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day()+days, 0, 0, 0, 0, t.Location())
}

var (
	dayTime   = regexp.MustCompile(`^day([+-]\d{1,5})? (\d{1,2}:\d{2})$`)
	sinceTime = regexp.MustCompile(`^start ?([+-]) ?(\S+)$`)
)

// Instant reads "day-3 09:40" (that many days from the day of the reference),
// "start+90s" (so long after the reference) or an RFC 3339 time.
func Instant(text string, reference time.Time, zone *time.Location) (time.Time, error) {
	if m := dayTime.FindStringSubmatch(text); m != nil {
		days, _ := strconv.Atoi(m[1])
		clock, err := clockOf(m[2])
		if err != nil {
			return time.Time{}, err
		}
		return midnight(reference.In(zone), days).Add(clock), nil
	}
	if m := sinceTime.FindStringSubmatch(text); m != nil {
		if d, err := time.ParseDuration(m[1] + m[2]); err == nil {
			return reference.Add(d), nil
		}
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return time.Time{}, fmt.Errorf("time %q is not like \"day-3 09:40\", \"start+90s\" or \"2026-11-20T09:40:00Z\"", text)
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

// Daily makes the window hold at hours such as "16:00-18:30" of every day.
func (w *Window) Daily(text string) error {
	w.weekdays = [7]bool{true, true, true, true, true, true, true}
	return w.hours(text)
}

func (w *Window) hours(text string) error {
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

// Weekly makes the window hold at hours of days of the week, such as "mon-fri
// 16:00-18:30" or "sat,sun 10:00-12:00".
func (w *Window) Weekly(text string) error {
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

// Cron makes the window hold so long after each time of a cron expression of
// five fields, such as "30 2 * * mon-fri".
func (w *Window) Cron(expression string, hold time.Duration) error {
	parsed, err := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(expression)
	if err != nil {
		return fmt.Errorf("cron expression %q is not like \"30 2 * * mon-fri\": %w", expression, err)
	}
	if hold <= 0 {
		return errors.New("a cron expression says when it begins; how long it lasts is for \"for\" to say, such as \"for: 20m\"")
	}
	w.cron, w.hold = parsed, hold
	return nil
}
