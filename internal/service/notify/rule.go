package notify

import (
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/selection"
)

// Rule says who is told of what.
type Rule struct {
	ID   ident.ID `json:"-"`
	Name string   `json:"-"`
	// Channel is the name of the one that leads there.
	Channel string `json:"channel"`
	// States are degraded and lost; both when empty.
	States []string `json:"states,omitempty"`
	// Selection says of which paths.
	selection.Selection
	// Severity is how many times more than what is worth caring about something must be worse at
	// the least; what is lost always is. Told later of one that was less is that it got worse.
	Severity float64 `json:"severity,omitempty"`
	// IncidentsOnly leaves out what is of one path alone.
	IncidentsOnly bool `json:"incidents_only,omitempty"`
	// Hours are those in which it is told; what comes at others is held back, and told at their
	// end as one. Zone is whose hours they are.
	Hours string `json:"hours,omitempty"`
	Zone  string `json:"zone,omitempty"`
	// Remind is after how long it is told again that something goes on; not at all when 0.
	Remind time.Duration `json:"remind,omitempty"`
	// Holidays is quiet or only: nothing is told on days off, or only then; as on other days
	// when empty. Days off are those of the settings.
	Holidays string `json:"holidays,omitempty"`
	// Report, where it is set, is what is told: a report now and then, and nothing else.
	Report *ReportOrder `json:"report,omitempty"`
	// SavedAt is when the rule was last saved.
	SavedAt time.Time `json:"saved_at"`
	// Most is how many messages a minute are told one by one; UsualMost when 0.
	Most int `json:"most,omitempty"`
}

const (
	// UsualMost is how many messages a minute are told one by one, where a rule says nothing.
	UsualMost   = 20
	leastRemind = 5 * time.Minute
)

func (r Rule) check() error {
	for _, s := range r.States {
		if s != string(guard.Degraded) && s != string(guard.Lost) {
			return fmt.Errorf("%w: the state %q is none of degraded, lost", kind.ErrInvalid, kind.Shorten(s))
		}
	}
	if err := r.Selection.Check(); err != nil {
		return err
	}
	if _, err := time.LoadLocation(r.Zone); err != nil {
		return fmt.Errorf("%w: %q is not a known time zone such as Europe/Oslo", kind.ErrInvalid, kind.Shorten(r.Zone))
	}
	if r.Zone != "" && r.Hours == "" && r.Holidays == "" && r.Report == nil {
		return fmt.Errorf("%w: zone %s is of hours, holidays and reports, and there are none", kind.ErrInvalid, r.Zone)
	}
	if _, err := r.hours(); err != nil {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	if r.Report != nil {
		if err := r.Report.check(); err != nil {
			return err
		}
		if r.IncidentsOnly || len(r.States) > 0 || r.Severity > 0 || r.Remind > 0 || r.Most > 0 || r.Hours != "" || r.Holidays != "" {
			return fmt.Errorf("%w: of a rule for reports only the channel, the paths and the zone may be said beside the report", kind.ErrInvalid)
		}
	}
	switch {
	case r.Holidays != "" && r.Holidays != "quiet" && r.Holidays != "only":
		return fmt.Errorf("%w: holidays are quiet or only, not %q", kind.ErrInvalid, kind.Shorten(r.Holidays))
	case r.Remind < 0 || r.Remind > 0 && r.Remind < leastRemind:
		return fmt.Errorf("%w: a reminder after %v is sooner than %v", kind.ErrInvalid, r.Remind, leastRemind)
	case r.Severity < 0 || r.Severity > 1e6:
		return fmt.Errorf("%w: a severity of %g is not within 0 and a million", kind.ErrInvalid, r.Severity)
	case r.Most < 0:
		return fmt.Errorf("%w: %d messages a minute are below zero", kind.ErrInvalid, r.Most)
	}
	return nil
}

// quiet reports whether it is not told at a time.
func (x *Notify) quiet(r Rule, now time.Time) bool {
	if r.Holidays != "" {
		y, m, d := now.In(x.zoneOf(r)).Date()
		off := slices.ContainsFunc(x.Holidays, func(h time.Time) bool {
			hy, hm, hd := h.Date()
			return hy == y && hm == m && hd == d
		})
		if off != (r.Holidays == "only") {
			return true
		}
	}
	when, err := r.hours()
	return err == nil && r.Hours != "" && !when.Open(now)
}

func (r Rule) hours() (*schedule.Schedule, error) {
	if r.Hours == "" {
		return nil, nil
	}
	return schedule.Times{Hours: r.Hours, Zone: r.Zone}.With(0, 0, 0)
}

// about is what rules look at: of an incident that of all its paths.
type about struct {
	states   []string
	severity float64 // of what goes on, or was; infinite when nothing comes through
	selection.About
}

// takes reports whether a rule is of something.
func (r Rule) takes(a about) bool {
	return (len(r.States) == 0 || slices.ContainsFunc(r.States, func(s string) bool { return slices.Contains(a.states, s) })) && r.Selection.Takes(a.About)
}
