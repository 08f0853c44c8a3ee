package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/store"
)

type listTraces struct {
	Watch string `query:"watch" doc:"Name or identifier"`
	From  string `query:"from" doc:"Name of an agent"`
	To    string `query:"to" doc:"Target"`
	Paging
	Latest bool `query:"latest" doc:"The newest that is whole of each agent, family and kind only, with what they found"`
}

type getTrace struct {
	ID      string `path:"id"`
	Compare string `query:"compare" doc:"Lay it beside: last, baseline, or another trace's identifier"`
}

type pathLanes struct {
	ID   string    `path:"id"`
	From time.Time `query:"from_at" doc:"24 hours ago when left out"`
	To   time.Time `query:"to_at" doc:"Now when left out"`
}

func (s *server) registerTraces(a huma.API) {
	start := operation(http.MethodPost, "/traces", "start-trace", "Trace routes from an agent; they go on in the background and are kept", "Routes", http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, s.startTrace)
	huma.Register(a, operation(http.MethodGet, "/traces", "list-traces", "Traces, newest first, without what they found", "Routes", http.StatusNotFound, http.StatusUnprocessableEntity), s.listTraces)
	huma.Register(a, operation(http.MethodGet, "/traces/{id}", "get-trace", "One trace with what it found, so far or in the end", "Routes", http.StatusNotFound, http.StatusUnprocessableEntity), s.getTrace)
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/routes", "list-routes", "The distinct routes of a path, the last seen first", "Routes", http.StatusNotFound), s.listRoutes)
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/lanes", "get-lanes", "The hops of a path over time, and when its route became another", "Routes", http.StatusNotFound), s.getLanes)
}

func (s *server) startTrace(ctx context.Context, in *body[apitype.Measurement]) (*body[[]apitype.Trace], error) {
	in.Body.Kind = kind.In("traces").Name
	runs, err := s.start(ctx, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	list := make([]store.Trace, len(runs))
	for i, r := range runs {
		list[i] = store.Trace{ID: r.ID, Lane: store.LaneOf(r.AgentID, r.Target, r.Family, r.Via), AgentID: r.AgentID, Target: r.Target, Family: r.Family, Via: r.Via, StartedAt: r.StartedAt, Outcome: r.Outcome}
	}
	out, err := s.traces(list)
	if err != nil {
		return nil, err
	}
	return &body[[]apitype.Trace]{out}, nil
}

func (s *server) traces(list []store.Trace) ([]apitype.Trace, error) {
	out := make([]apitype.Trace, len(list))
	for i, t := range list {
		var err error
		if out[i], err = s.traceOf(t); err != nil {
			return nil, s.problem(err)
		}
	}
	return out, nil
}

func (s *server) listTraces(ctx context.Context, in *listTraces) (*listed[apitype.Trace], error) {
	page, err := in.page()
	if err != nil {
		return nil, s.problem(err)
	}
	f := store.TraceFilter{Target: in.To, Within: s.sight(ctx).Within(), Page: page}
	if in.Watch != "" {
		w, err := s.watchNamed(ctx, in.Watch)
		if err != nil {
			return nil, s.problem(err)
		}
		f.Watches = w.IDs()
	}
	if in.From != "" {
		id, err := s.agentNamed(ctx, in.From)
		if err != nil {
			return nil, s.problem(err)
		}
		f.Agent = id
	}
	list, err := s.c.Store.Traces(ctx, f)
	if err != nil {
		return nil, s.problem(err)
	}
	var last store.Trace
	full := in.Paging
	if n := len(list); n > 0 {
		last = list[n-1]
		if n < in.Limit {
			full.Limit = n + 1 // there is no more
		}
	}
	if in.Latest {
		full.Limit = len(list) + 1 // what is older is of no lane's newest
		if list, err = s.latest(ctx, list); err != nil {
			return nil, s.problem(err)
		}
	}
	out, err := s.traces(list)
	if err != nil {
		return nil, err
	}
	return pageOf(out, full, url.Values{"watch": {in.Watch}, "from": {in.From}, "to": {in.To}}, last.StartedAt, last.ID), nil
}

// latest keeps the newest whole trace of each lane, and adds what it found.
func (s *server) latest(ctx context.Context, list []store.Trace) ([]store.Trace, error) {
	seen := map[ident.ID]bool{}
	var out []store.Trace
	for _, t := range list {
		if seen[t.Lane] || t.Outcome != protocol.Done {
			continue
		}
		seen[t.Lane] = true
		whole, err := s.c.Store.Trace(ctx, t.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, whole)
	}
	return out, nil
}

func (s *server) getTrace(ctx context.Context, in *getTrace) (*body[apitype.Trace], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	t, err := s.c.Store.Trace(ctx, id)
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.traceOf(t)
	if err != nil {
		return nil, s.problem(err)
	}
	if in.Compare != "" && out.Report != nil && t.Outcome != protocol.Running {
		if err := s.seesOther(ctx, in.Compare); err != nil {
			return nil, s.problem(err)
		}
		if err := s.c.Ingest.CompareTraces(ctx, t, out.Report, in.Compare); err != nil {
			return nil, s.problem(err)
		}
	}
	return &body[apitype.Trace]{out}, nil
}

func (s *server) traceOf(t store.Trace) (apitype.Trace, error) {
	out := apitype.Trace{ID: t.ID.String(), To: t.Target, Family: int(t.Family), Via: t.Via, StartAt: t.StartedAt.UTC(), Outcome: string(t.Outcome), Reason: t.Reason,
		Reached: t.Reached, Changed: t.Changed, Hops: t.Hops, RTTMs: t.RTTMs, LossRatio: t.LossRatio}
	if t.EndedAt != nil {
		out.EndedAt = utc(*t.EndedAt)
	}
	if !t.Route.IsZero() {
		out.Route = t.Route.String()
	}
	if !t.WatchID.IsZero() {
		out.Watch = "(removed)"
		if w, err := s.c.Watches.Find(t.WatchID.String()); err == nil {
			out.Watch = w.Name
		}
	}
	out.From = s.agentName(t.AgentID)
	var err error
	if out.Report, err = t.Report(); err != nil || out.Report != nil || t.Outcome != protocol.Running {
		return out, err
	}
	if x, ok := s.c.Runs.SoFar(t.ID); ok {
		out.Heard = int(x.Done)
		if r, ok := x.Result.(finding.TraceReport); ok {
			r.Target, r.From, r.Via, r.StartedAt = t.Target, out.From, t.Via, out.StartAt
			out.Report = &r
		}
	}
	return out, nil
}

// laneOf is the lane of a path: by what it is measured by itself, then by what
// traces go by most often.
func (s *server) laneOf(ctx context.Context, id string) (service.View, ident.ID, string, error) {
	path, err := parseID(id)
	if err != nil {
		return service.View{}, ident.ID{}, "", err
	}
	v, err := s.c.View(path)
	if err != nil {
		return v, ident.ID{}, "", err
	}
	newest, err := s.c.Store.Traces(ctx, store.TraceFilter{Agent: v.Agent.ID, Target: v.Target, Family: v.Family, Page: store.Page{Limit: 20}})
	if err != nil || len(newest) == 0 {
		return v, ident.ID{}, "", err
	}
	chosen := newest[0]
	for _, t := range newest {
		if t.Via == v.Via {
			chosen = t
			break
		}
	}
	return v, chosen.Lane, chosen.Via, nil
}

func (s *server) listRoutes(ctx context.Context, in *onePath) (*body[[]apitype.SeenRoute], error) {
	_, lane, via, err := s.laneOf(ctx, in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	out := []apitype.SeenRoute{}
	if lane.IsZero() {
		return &body[[]apitype.SeenRoute]{out}, nil
	}
	list, err := s.c.Store.Routes(ctx, lane)
	if err != nil {
		return nil, s.problem(err)
	}
	usual, found, err := s.c.Store.UsualRoute(ctx, lane, time.Now().AddDate(0, 0, -14), 3)
	if err != nil {
		return nil, s.problem(err)
	}
	for _, r := range list {
		out = append(out, apitype.SeenRoute{Route: r.Route.String(), Via: via, Hops: strings.Fields(r.Hops), FirstAt: r.FirstAt.UTC(), LastAt: r.LastAt.UTC(), Times: r.Times,
			LastTrace: r.LastTrace.String(), Usual: found && usual.Route == r.Route})
	}
	return &body[[]apitype.SeenRoute]{out}, nil
}

// mostColumns of lanes are given at once: more are thinned.
const (
	mostColumns = 400
	mostRead    = 20_000
)

func (s *server) getLanes(ctx context.Context, in *pathLanes) (*body[apitype.Lanes], error) {
	if in.To.IsZero() {
		in.To = time.Now()
	}
	if in.From.IsZero() {
		in.From = in.To.Add(-24 * time.Hour)
	}
	_, lane, via, err := s.laneOf(ctx, in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	out := apitype.Lanes{Via: via, FromAt: in.From.UTC(), ToAt: in.To.UTC(), Columns: []apitype.LaneColumn{}, Names: map[string]apitype.Owned{}, Changes: []apitype.LaneChange{}}
	if lane.IsZero() {
		return &body[apitype.Lanes]{out}, nil
	}
	minutes, err := s.c.Store.HopMinutes(ctx, lane, in.From, in.To, mostRead)
	if err != nil {
		return nil, s.problem(err)
	}
	if err := s.fillLanes(&out, minutes); err != nil {
		return nil, s.problem(err)
	}
	routes, err := s.c.Store.Routes(ctx, lane)
	if err != nil {
		return nil, s.problem(err)
	}
	for i, r := range routes { // names of what the newest of each route knew
		if i >= 10 {
			break
		}
		if err := s.addNames(ctx, out.Names, r.LastTrace); err != nil {
			return nil, s.problem(err)
		}
	}
	return &body[apitype.Lanes]{out}, nil
}

func (s *server) fillLanes(out *apitype.Lanes, minutes []store.HopMinute) error {
	every := len(minutes)/mostColumns + 1
	for i, m := range minutes {
		changed := i > 0 && m.Route != minutes[i-1].Route
		if i%every != 0 && !changed {
			continue
		}
		rows, err := m.Rows()
		if err != nil {
			return err
		}
		c := apitype.LaneColumn{At: m.At.UTC(), Route: m.Route.String(), Hops: []apitype.LaneCell{}}
		for _, r := range rows {
			cell := apitype.LaneCell{TTL: r.TTL, Addresses: r.Addresses, Probes: r.Probes, Answered: r.Answered, RTTMs: r.RTTMs, AddedMs: r.AddedMs, Carried: r.Carried}
			if cell.Addresses == nil {
				cell.Addresses = []string{}
			}
			c.Hops = append(c.Hops, cell)
		}
		if changed {
			change := apitype.LaneChange{At: m.At.UTC(), Before: minutes[i-1].At.UTC(), From: minutes[i-1].Route.String(), To: m.Route.String()}
			before, err := minutes[i-1].Rows()
			if err != nil {
				return err
			}
			if len(before) > 0 && len(rows) > 0 && before[len(before)-1].RTTMs != nil && rows[len(rows)-1].RTTMs != nil {
				step := *rows[len(rows)-1].RTTMs - *before[len(before)-1].RTTMs
				change.StepMs = &step
			}
			out.Changes = append(out.Changes, change)
		}
		out.Columns = append(out.Columns, c)
	}
	return nil
}

func (s *server) addNames(ctx context.Context, names map[string]apitype.Owned, trace ident.ID) error {
	t, err := s.c.Store.Trace(ctx, trace)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	r, err := t.Report()
	if err != nil || r == nil {
		return err
	}
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			names[n.Address] = apitype.Owned{Name: n.Name, Owner: n.Owner, Segment: n.Segment}
		}
	}
	return nil
}
