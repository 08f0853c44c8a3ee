package notify

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
)

// Rule says who is told of what.
type Rule struct {
	ID   ident.ID `json:"-"`
	Name string   `json:"-"`
	// Channel is the name of the one that leads there.
	Channel string `json:"channel"`
	// States are degraded and lost; both when empty.
	States []string `json:"states,omitempty"`
	// Sites, Agents, Targets and Tags say of which paths: each that is given must fit.
	Sites   []string `json:"sites,omitempty"`
	Agents  []string `json:"agents,omitempty"`
	Targets []string `json:"targets,omitempty"`
	Tags    []string `json:"tags,omitempty"`
	// IncidentsOnly leaves out what is of one path alone.
	IncidentsOnly bool `json:"incidents_only,omitempty"`
	// Hours are those in which it is told; what comes at others is held back, and told at their
	// end as one. Zone is whose hours they are.
	Hours string `json:"hours,omitempty"`
	Zone  string `json:"zone,omitempty"`
	// Remind is after how long it is told again that something goes on; not at all when 0.
	Remind time.Duration `json:"remind,omitempty"`
	// Most is how many messages a minute are told one by one; UsualMost when 0.
	Most int `json:"most,omitempty"`
}

const (
	// UsualMost is how many messages a minute are told one by one, where a rule says nothing.
	UsualMost   = 20
	leastRemind = 5 * time.Minute
	mostWords   = 200
)

func (r Rule) check() error {
	for _, s := range r.States {
		if s != string(guard.Degraded) && s != string(guard.Lost) {
			return fmt.Errorf("%w: the state %q is none of degraded, lost", kind.ErrInvalid, kind.Shorten(s))
		}
	}
	for name, list := range map[string][]string{"sites": r.Sites, "agents": r.Agents, "targets": r.Targets, "tags": r.Tags} {
		if len(list) > mostWords {
			return fmt.Errorf("%w: %d %s are more than %d", kind.ErrInvalid, len(list), name, mostWords)
		}
	}
	if _, err := (schedule.Times{Hours: r.Hours, Zone: r.Zone}).With(0, 0, 0); err != nil {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	switch {
	case r.Remind < 0 || r.Remind > 0 && r.Remind < leastRemind:
		return fmt.Errorf("%w: a reminder after %v is sooner than %v", kind.ErrInvalid, r.Remind, leastRemind)
	case r.Most < 0:
		return fmt.Errorf("%w: %d messages a minute are below zero", kind.ErrInvalid, r.Most)
	}
	return nil
}

// quiet reports whether it is not told at a time.
func (r Rule) quiet(now time.Time) bool {
	when, err := schedule.Times{Hours: r.Hours, Zone: r.Zone}.With(0, 0, 0)
	return err == nil && !when.Open(now)
}

// about is what rules look at: of an incident that of all its paths.
type about struct {
	states, sites, agents, targets, tags []string
}

// takes reports whether a rule is of something.
func (r Rule) takes(a about) bool {
	fits := func(list, is []string) bool {
		return len(list) == 0 || slices.ContainsFunc(list, func(w string) bool {
			return slices.ContainsFunc(is, func(x string) bool { return strings.EqualFold(w, x) })
		})
	}
	return fits(r.States, a.states) && fits(r.Sites, a.sites) && fits(r.Agents, a.agents) && fits(r.Targets, a.targets) && fits(r.Tags, a.tags)
}
