package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// parseWhen reads a time as people write it: RFC 3339, a date with or without a time of day, a
// time of day alone (the last one that is past), one of yesterday, or of the last such weekday.
func parseWhen(text string, now time.Time, zone *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	now = now.In(zone)
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, zone); err == nil {
			return t, nil
		}
	}
	day, clock, _ := strings.Cut(text, " ")
	if clock == "" && strings.Contains(day, ":") {
		day, clock = "", day
	}
	minute := 0
	if clock = strings.TrimSpace(clock); clock != "" {
		t, err := time.Parse("15:04", clock)
		if err != nil {
			return time.Time{}, wrongWhen(text)
		}
		minute = t.Hour()*60 + t.Minute()
	}
	at := func(back int) time.Time {
		return time.Date(now.Year(), now.Month(), now.Day()-back, minute/60, minute%60, 0, 0, zone)
	}
	switch day = strings.ToLower(day); day {
	case "":
		if clock == "" {
			return time.Time{}, wrongWhen(text)
		}
		if t := at(0); !t.After(now) {
			return t, nil
		}
		return at(1), nil
	case "today":
		return at(0), nil
	case "yesterday":
		return at(1), nil
	}
	for back := range 8 {
		t := at(back)
		name := strings.ToLower(t.Weekday().String())
		if len(day) >= 3 && strings.HasPrefix(name, day) && !t.After(now) {
			return t, nil
		}
	}
	return time.Time{}, wrongWhen(text)
}

func wrongWhen(text string) error {
	return fmt.Errorf("%q is not a time; write one such as 14:20, 'yesterday 14:20', 'Fri 14:20' or '2026-11-02 14:20'", short(text))
}

// readSpan reads a length of time; beside Go's units d and w are days and weeks.
func readSpan(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	for unit, each := range map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour} {
		if n, found := strings.CutSuffix(text, unit); found {
			v, err := strconv.ParseFloat(n, 64)
			if err != nil || !(v > 0) || v > 36_500 {
				return 0, fmt.Errorf("%q is not a span of time above zero, such as 12h or 7d", short(text))
			}
			return time.Duration(v * float64(each)), nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%q is not a span of time above zero, such as 12h or 7d", short(text))
	}
	return d, nil
}

// readWhen reads a time, or how long ago it was.
func readWhen(text string, now time.Time) (time.Time, error) {
	if d, err := readSpan(text); err == nil {
		return now.Add(-d), nil
	}
	return parseWhen(text, now, zone())
}

// readAhead reads a time that may be to come: RFC 3339, a date with or without a time of day,
// or one of today or tomorrow. One that clocks of the zone leave out is refused.
func readAhead(text string, now time.Time, zone *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	if day, clock, ok := strings.Cut(strings.ToLower(text), " "); ok && (day == "today" || day == "tomorrow") {
		text = now.In(zone).AddDate(0, 0, map[string]int{"today": 0, "tomorrow": 1}[day]).Format(time.DateOnly) + " " + strings.TrimSpace(clock)
	}
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		wall, err := time.Parse(layout, text)
		if err != nil {
			continue
		}
		t, _ := time.ParseInLocation(layout, text, zone)
		if t.Format(time.DateTime) != wall.Format(time.DateTime) {
			return t, fmt.Errorf("%q does not exist in %s: clocks are put on over it", short(text), zone)
		}
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write one such as '2026-12-01 08:00', 'tomorrow 08:00' or 2026-12-01T08:00:00Z", short(text))
}
