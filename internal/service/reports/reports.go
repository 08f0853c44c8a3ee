// Package reports tells of the paths that got worse in a period: before and after, since when,
// where, whose, why, and what to do; how available each was; what else changed; and what could
// not be judged. One model, from which all that is printed comes.
//
//	r, err := x.Make(ctx, reports.Spec{From: monday, To: now, Objective: "voice"})
//	err = r.Print(file, "pdf", zone)
package reports

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/annotations"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/objectives"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// Options of Reports; all are needed.
type Options struct {
	Store      *store.Store
	Fleet      *fleet.Fleet
	Devices    *devices.Devices
	Paths      *paths.Paths
	Incidents  *incidents.Incidents
	Watches    *watches.Watches
	Objectives *objectives.Objectives
	// Annotations are what people wrote.
	Annotations *annotations.Annotations
	Zone        *time.Location
	// Views are the paths as they stand now, worst first.
	Views func() []View
}

// View is a path as a report needs it.
type View struct {
	paths.View
	Watched    bool
	Throughput *loads.Throughput // nil when none was measured
}

// Reports makes reports. It is safe for concurrent use.
type Reports struct{ Options }

// New makes none yet.
func New(o Options) *Reports { return &Reports{o} }

// Spec says what a report is of.
type Spec struct {
	From, To  time.Time
	Objective string     // that paths are held against; none when empty
	Title     string     // of one's own
	Paths     []ident.ID // these only; those of the selection when none
	selection.Selection
}

const (
	mostSpan  = 93 * 24 * time.Hour
	mostTitle = 200
	isNow     = 2 * time.Minute // how far back the end of a period may lie and still be now
)

// all reports whether it is of all paths.
func (s Spec) all() bool { return len(s.Paths) == 0 && s.Selection.All() }

func (s Spec) check() error {
	if err := s.Selection.Check(); err != nil {
		return err
	}
	switch {
	case !s.To.After(s.From):
		return fmt.Errorf("%w: from_at %s is not before to_at %s", kind.ErrInvalid, s.From.UTC().Format(time.RFC3339), s.To.UTC().Format(time.RFC3339))
	case s.To.Sub(s.From) > mostSpan:
		return fmt.Errorf("%w: a report is of up to %d days", kind.ErrInvalid, int(mostSpan.Hours()/24))
	case s.From.After(time.Now()):
		return fmt.Errorf("%w: from_at %s is still to come", kind.ErrInvalid, s.From.UTC().Format(time.RFC3339))
	case len(s.Title) > mostTitle:
		return fmt.Errorf("%w: the title has %d bytes; %d at most are kept", kind.ErrInvalid, len(s.Title), mostTitle)
	}
	return nil
}

// making is a report as it comes about.
type making struct {
	*Reports
	spec      Spec
	now       time.Time
	of        selection.Known
	incidents []incidents.Incident
	views     []View // that the selection takes
	keys      map[ident.ID]guard.Key
	out       *Period
}

// Make makes a report; the error wraps kind.ErrInvalid or store.ErrNotFound when it cannot be.
func (x *Reports) Make(ctx context.Context, s Spec) (*Period, error) {
	now := time.Now()
	if s.To.IsZero() || s.To.After(now) {
		s.To = now
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	m := &making{Reports: x, spec: s, now: now, of: selection.New(x.Paths, x.Fleet, x.Watches), out: newReport(s, now, x.Zone)}
	if s.Objective != "" {
		o, err := x.Objectives.Find(s.Objective)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
		}
		m.out.Objective, m.out.ObjectiveSource, m.out.Limits = o.Name, o.Source, map[string]float64{}
		for measure, limit := range o.Limits {
			m.out.Limits[string(measure)] = limit
		}
	}
	for _, v := range x.Views() {
		if p := x.Paths.ByID(v.ID); p != nil && (v.Watched || len(s.Paths) > 0) && s.Takes(m.of.Path(p)) && (len(s.Paths) == 0 || slices.Contains(s.Paths, v.ID)) {
			m.views = append(m.views, v)
		}
	}
	for _, step := range []func(context.Context) error{m.tellEpisodes, m.tellIncidents, m.tellStanding, m.measure, m.hold, m.tellSweeps, m.tellNotes} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	m.out.Summary = m.summary()
	return m.out, nil
}

// sideBySide does something for each of n, two at a time, and returns the first error.
func sideBySide(n int, do func(i int) error) error {
	var wg sync.WaitGroup
	var once sync.Once
	var first error
	next := make(chan int)
	for range 2 {
		wg.Go(func() {
			for i := range next {
				if err := do(i); err != nil {
					once.Do(func() { first = err })
				}
			}
		})
	}
	for i := range n {
		next <- i
	}
	close(next)
	wg.Wait()
	return first
}

// nameOf is what an address is called.
func (m *making) nameOf(address string) string {
	if address == "" {
		return "a hop that does not answer"
	}
	return m.Devices.Call(address)
}

func (m *making) endsOf(id ident.ID) (e Ends) {
	if p := m.Paths.ByID(id); p != nil {
		e = Ends{Path: p.ID.String(), From: m.Fleet.NameOf(p.AgentID), To: p.Target, Family: int(p.Family), Via: p.Via}
	}
	return e
}
