package service

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/sight"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// View is a path as it stands at a time, with all that the service knows of it.
type View struct {
	paths.View
	Watches    []string
	Tags       []string
	Watched    bool              // by a watch that is not paused
	Throughput *loads.Throughput // nil when none was measured
	Beside     *loads.Throughput // that of another far end at the target's site; nil when none was measured
}

// Filter selects paths; zero fields select all.
type Filter struct {
	States []guard.State // any of them
	Site   string        // of the agent or of the target
	Agent  string
	Tag    string
	Search string       // in agent, target and sites
	All    bool         // those too that no watch measures
	Sight  *sight.Sight // nil: all
}

func (f Filter) takes(v View) bool {
	switch {
	case !f.All && len(v.Watches) == 0,
		len(f.States) > 0 && !slices.Contains(f.States, v.Verdict.State),
		f.Site != "" && f.Site != v.Site && f.Site != v.Agent.Site,
		f.Agent != "" && f.Agent != v.Agent.Name,
		f.Tag != "" && !slices.Contains(v.Tags, f.Tag):
		return false
	case f.Search == "":
		return true
	}
	text := strings.ToLower(strings.Join([]string{v.Agent.Name, v.Agent.Site, v.Target, v.Site}, " "))
	return strings.Contains(text, strings.ToLower(f.Search))
}

// about is what views of paths rest on beside the paths themselves.
type about struct {
	watches map[ident.ID][]*watches.Watch
	shared  map[guard.Key][]paths.Shared // the incidents that go on, by the paths that are part of them
	now     time.Time
}

func (s *Service) about(now time.Time) about {
	with := about{s.Watches.OfPaths(), map[guard.Key][]paths.Shared{}, now}
	for _, x := range s.Incidents.Open() {
		for _, m := range x.Members {
			with.shared[m.Path] = append(with.shared[m.Path], paths.Shared{ID: x.ID, Incident: &x.Incident})
		}
	}
	return with
}

// rank is what of a view says where it stands among others.
func (s *Service) rank(p *paths.Path, with about) (v View) {
	patience := 3 * time.Minute
	for _, w := range with.watches[p.ID] {
		v.Watches = append(v.Watches, w.Name)
		v.Tags = append(v.Tags, w.Spec.Tags...)
		v.Watched = v.Watched || !w.Paused
		patience = max(patience, w.Patience(with.now))
	}
	v.View = s.Paths.Rank(p, with.now, patience)
	return v
}

// explain makes a rank the whole view.
func (s *Service) explain(p *paths.Path, v *View, with about) {
	s.Paths.Explain(p, &v.View, with.now, with.shared[s.Paths.Key(p)])
	v.Throughput, v.Beside = s.throughputOf(p), s.throughputBeside(p)
}

func (s *Service) view(p *paths.Path, with about) View {
	v := s.rank(p, with)
	s.explain(p, &v, with)
	return v
}

// Views are the paths that a filter takes, worst first.
func (s *Service) Views(f Filter) []View {
	page, _ := s.Page(f, 0, math.MaxInt)
	return page
}

// Page is a part of Views, and how many there are in all. It costs little more than the part does.
func (s *Service) Page(f Filter, offset, limit int) (page []View, total int) {
	list, with := s.ranks(f)
	order := make([]int, len(list)) // views are large
	severity := make([]float64, len(list))
	for i := range list {
		order[i], severity[i] = i, list[i].Severity()
	}
	slices.SortFunc(order, func(i, j int) int {
		a, b := &list[i], &list[j]
		return cmp.Or(cmp.Compare(severity[j], severity[i]), figure.Order(a.Agent.Name, b.Agent.Name),
			figure.Order(a.Target, b.Target), cmp.Compare(a.Family, b.Family), cmp.Compare(a.Via, b.Via))
	})
	offset = min(offset, len(list))
	order = order[offset : offset+min(limit, len(list)-offset)]
	page = make([]View, 0, len(order))
	for _, i := range order {
		s.explain(list[i].path, &list[i].View, with)
		page = append(page, list[i].View)
	}
	return page, len(list)
}

// ranked is the rank of a path.
type ranked struct {
	View
	path *paths.Path
}

// ranks are those of the paths that a filter takes, in no order.
func (s *Service) ranks(f Filter) ([]ranked, about) {
	all := s.Paths.All()
	list := make([]ranked, 0, len(all))
	with := s.about(time.Now())
	for _, p := range all {
		if !f.Sight.Path(p) {
			continue
		}
		if v := s.rank(p, with); f.takes(v) {
			list = append(list, ranked{v, p})
		}
	}
	return list, with
}

// Ranks are the paths that a filter takes, in no order, without what takes long to say: findings,
// what is known of episodes that go on, the last day, and throughput.
func (s *Service) Ranks(f Filter) []View {
	list, _ := s.ranks(f)
	views := make([]View, len(list))
	for i, r := range list {
		views[i] = r.View
	}
	return views
}

// Choices are what paths can be selected by, of those that the filter takes: each once, in order.
type Choices struct {
	Sites, Agents, Tags []string
	Throughput          bool // of one of them at least it was measured
}

// Choices of the paths that a filter takes.
func (s *Service) Choices(f Filter) Choices {
	sites, agents, tags := map[string]bool{}, map[string]bool{}, map[string]bool{}
	var c Choices
	list, _ := s.ranks(f)
	for _, v := range list {
		sites[v.Site], sites[v.Agent.Site], agents[v.Agent.Name] = true, true, true
		for _, t := range v.Tags {
			tags[t] = true
		}
		c.Throughput = c.Throughput || s.throughputOf(v.path) != nil
	}
	for _, x := range []struct {
		to   *[]string
		from map[string]bool
	}{{&c.Sites, sites}, {&c.Agents, agents}, {&c.Tags, tags}} {
		delete(x.from, "")
		*x.to = slices.Sorted(maps.Keys(x.from))
	}
	return c
}

// reported are the paths as reports need them.
func (s *Service) reported() []reports.View {
	views := s.Views(Filter{})
	out := make([]reports.View, len(views))
	for i, v := range views {
		out[i] = reports.View{View: v.View, Watched: v.Watched, Throughput: v.Throughput}
	}
	return out
}

// View is one path; the error wraps store.ErrNotFound.
func (s *Service) View(id ident.ID) (View, error) {
	p := s.Paths.ByID(id)
	if p == nil {
		return View{}, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
	}
	return s.view(p, s.about(time.Now())), nil
}

// Some are the paths of some identifiers, in their order; without those that there are none of.
func (s *Service) Some(ids []ident.ID) (list []View) {
	with := s.about(time.Now())
	for _, id := range ids {
		if p := s.Paths.ByID(id); p != nil {
			list = append(list, s.view(p, with))
		}
	}
	return list
}

// noteStates tells listeners of states that changed with time alone.
func (s *Service) noteStates(now time.Time) {
	with := s.about(now)
	for _, p := range s.Paths.All() {
		if p.Tell(s.rank(p, with).Verdict.State) {
			s.Events.Publish(events.Event{Kind: events.StateChanged, Path: p.ID})
		}
	}
}

// throughputOf is what was measured for a path; nil when nothing was.
func (s *Service) throughputOf(p *paths.Path) *loads.Throughput {
	return s.named(s.Loads.From(p.AgentID, func(far ident.ID, target string) bool { return s.Paths.GoesTo(p, far, target) }))
}

// throughputBeside is what was measured to another far end at the site of a path's target;
// nil when nothing was.
func (s *Service) throughputBeside(p *paths.Path) *loads.Throughput {
	return s.named(s.Loads.From(p.AgentID, func(far ident.ID, target string) bool {
		return !s.Paths.GoesTo(p, far, target) && s.Paths.GoesBeside(p, far)
	}))
}

// named calls the far end by its name, where it is an agent.
func (s *Service) named(t *loads.Throughput) *loads.Throughput {
	if t != nil {
		t.To = cmp.Or(s.Fleet.NameOf(t.Far), t.To)
	}
	return t
}

// TwoEndedOf are the measurements with two ends between a path's agent and its target,
// newest first, without their bodies.
func (s *Service) TwoEndedOf(ctx context.Context, path ident.ID, f store.TwoEndedFilter) ([]store.TwoEnded, error) {
	p := s.Paths.ByID(path)
	if p == nil {
		return nil, store.ErrNotFound
	}
	most := f.Page.Limit
	f.Agent, f.Page.Limit = p.AgentID, 5000
	list, err := s.Store.TwoEndedList(ctx, f)
	list = slices.DeleteFunc(list, func(t store.TwoEnded) bool { return !s.Paths.GoesTo(p, t.FarID, t.Target) })
	return list[:min(most, len(list))], err
}

// LoadsBeside are the load runs that may have disturbed a path: at its agent, or on the
// access of its site.
func (s *Service) LoadsBeside(ctx context.Context, path ident.ID, from, to time.Time) ([]store.TwoEnded, error) {
	var agents []ident.ID
	if p := s.Paths.ByID(path); p != nil && s.Fleet.ByID(p.AgentID) != nil {
		own := s.Fleet.ByID(p.AgentID)
		for _, a := range s.Fleet.All() {
			if a.ID == own.ID || own.Site != "" && a.Site == own.Site {
				agents = append(agents, a.ID)
			}
		}
	}
	if len(agents) == 0 {
		return nil, nil
	}
	list, err := s.Store.LoadsBeside(ctx, kind.Loads(), agents, from, to)
	return slices.DeleteFunc(list, func(t store.TwoEnded) bool { return s.Runs.Waits(t.ID) }), err
}
