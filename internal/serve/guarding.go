package serve

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/settings"
)

// judging is how the settings say that paths are judged.
type judging struct {
	zone        *time.Location
	holidays    []time.Time
	tolerances  baseline.Tolerances
	maintenance []baseline.Interval
}

func judgingOf(set settings.Settings) (j judging, err error) {
	j.zone = named(set.Zone)
	for _, text := range parts(set.Holidays, ",") {
		day, err := time.ParseInLocation(time.DateOnly, text, j.zone)
		if err != nil {
			return j, fmt.Errorf("holidays: %q is not a day such as 2026-12-25", text)
		}
		j.holidays = append(j.holidays, day)
	}
	for _, text := range parts(set.Tolerance, ";") {
		m, t, err := baseline.ParseTolerance(text)
		if err != nil {
			return j, fmt.Errorf("tolerance: %w", err)
		}
		if j.tolerances == nil {
			j.tolerances = baseline.Tolerances{}
		}
		j.tolerances[m] = t
	}
	for _, text := range parts(set.Maintenance, ",") {
		w, err := interval(text, j.zone)
		if err != nil {
			return j, fmt.Errorf("maintenance: %w", err)
		}
		j.maintenance = append(j.maintenance, w)
	}
	return j, nil
}

func parts(text, between string) (list []string) {
	for _, s := range strings.Split(text, between) {
		if s = strings.TrimSpace(s); s != "" {
			list = append(list, s)
		}
	}
	return list
}

// interval reads a stretch of time (ISO 8601, start and end), in a zone where it names none.
func interval(text string, zone *time.Location) (w baseline.Interval, err error) {
	a, b, _ := strings.Cut(text, "/")
	for s, at := range map[string]*time.Time{a: &w.From, b: &w.To} {
		t, err := time.Parse(time.RFC3339, s)
		if err != nil {
			t, err = time.ParseInLocation("2006-01-02T15:04", s, zone)
		}
		if err != nil {
			return w, fmt.Errorf("%q is not a stretch such as 2026-12-01T02:00/2026-12-01T04:00", text)
		}
		*at = t
	}
	if !w.To.After(w.From) {
		return w, fmt.Errorf("%q ends before it begins", text)
	}
	return w, nil
}

// named gives this machine's zone its name, so that a baseline says whose hours it goes by
// wherever it is read; where that is not to be found the zone stays as it is.
func named(zone *time.Location) *time.Location {
	if zone != time.Local {
		return zone
	}
	name, set := os.LookupEnv("TZ")
	name = strings.TrimPrefix(name, ":")
	if !set {
		link, err := filepath.EvalSymlinks("/etc/localtime")
		if err != nil {
			return time.UTC // as the standard library takes it then
		}
		if _, after, ok := strings.Cut(link, "zoneinfo/"); ok {
			name = after
		}
	}
	if set && name == "" {
		return time.UTC
	}
	if name == "Etc/UTC" || name == "Etc/GMT" {
		return time.UTC
	}
	if z, err := time.LoadLocation(name); err == nil && name != "" && name != "Local" {
		return z
	}
	return zone
}
