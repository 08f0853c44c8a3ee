package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service"
	"woodlark.example/internal/store"
)

// Period is a stretch of time in a query.
type Period struct {
	From time.Time `query:"from_at" doc:"A day ago when left out"`
	To   time.Time `query:"to_at" doc:"Now when left out"`
}

// checked is the period, if it is one.
func (p Period) checked() (from, to time.Time, err error) {
	from, to = spanOfPath{From: p.From, To: p.To}.span()
	if !to.After(from) {
		err = fmt.Errorf("%w: from_at %s is not before to_at %s", kind.ErrInvalid, from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	return from, to, err
}

func (s *server) registerReports(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/status", "get-status", "How the service and its paths stand", "Reports"),
		func(ctx context.Context, _ *struct{}) (*body[apitype.Status], error) {
			see := s.sight(ctx)
			views := s.c.Ranks(service.Filter{Sight: see})
			since, why := s.c.Notices.Away()
			out := apitype.Status{Version: s.Version, Now: time.Now().UTC(), Zone: s.c.Zone().String(), Paths: count(views), Watches: len(s.watchesSeen(see)),
				Agents: s.agentsSeen(see), HeldBack: s.c.Fleet.HeldBack(), DatabaseAwaySince: utc(since), DatabaseAwayWhy: why, DiskFull: s.c.Notices.Disk(), SetAside: s.c.Fleet.SetAside(), ClocksOff: []apitype.ClockOff{}, Summary: summary(views, s.narrowed(see, s.c.Incidents.Open()))}
			if see.All() {
				for _, m := range s.c.Members() {
					out.Services = append(out.Services, apitype.ServiceOf{Address: m.Address, Says: m.Says, Version: m.Version, Works: m.Works, BeganAt: m.BeganAt.UTC(), SeenAt: m.SeenAt.UTC()})
				}
			}
			for name, off := range s.c.Fleet.Clocks() {
				if !see.Named(name) {
					continue
				}
				out.ClocksOff = append(out.ClocksOff, apitype.ClockOff{Agent: name, OffsetS: off.Seconds()})
			}
			slices.SortFunc(out.ClocksOff, func(a, b apitype.ClockOff) int { return cmp.Compare(a.Agent, b.Agent) })
			return &body[apitype.Status]{out}, nil
		})
	degraded := func(ctx context.Context, in *Period) (*body[apitype.Degraded], error) {
		out, err := s.degraded(ctx, *in)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Degraded]{out}, nil
	}
	huma.Register(a, operation(http.MethodGet, "/reports/degraded", "report-degraded", "The paths that are or were worse than their baselines", "Reports", http.StatusUnprocessableEntity), degraded)
	huma.Register(a, operation(http.MethodGet, "/degraded", "report-degraded-at-its-old-place", "The same as /reports/degraded", "Reports", http.StatusUnprocessableEntity), degraded)
	huma.Register(a, operation(http.MethodGet, "/incidents", "list-incidents", "What several paths had in common, those that go on first", "Reports", http.StatusUnprocessableEntity),
		func(ctx context.Context, in *Period) (*body[[]apitype.Incident], error) {
			from, to, err := in.checked()
			if err != nil {
				return nil, s.problem(err)
			}
			out, _, err := s.incidents(ctx, from, to)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[[]apitype.Incident]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/notices", "list-notices", "What is to know of the service itself, newest first", "Reports"),
		func(ctx context.Context, in *Period) (*body[[]apitype.Notice], error) {
			if in.From.IsZero() {
				in.From = time.Now().Add(-24 * time.Hour)
			}
			list, err := s.c.Store.Notices(ctx, in.From)
			if err != nil {
				return nil, s.problem(err)
			}
			out := []apitype.Notice{}
			for _, n := range list {
				out = append(out, apitype.Notice{At: n.At.UTC(), Kind: n.Kind, Text: n.Text})
			}
			return &body[[]apitype.Notice]{out}, nil
		})
}

// listChanges pages through the record of changes.
type listChanges struct {
	Paging
	Who   string    `query:"who" maxLength:"120" doc:"A name: what they changed, from wherever"`
	What  string    `query:"what" maxLength:"40" doc:"Such as watch_removed"`
	Since time.Time `query:"since" doc:"At or after this time"`
}

func (s *server) registerChanges(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/changes", "list-changes", "Who changed what, newest first", "Reports"),
		func(ctx context.Context, in *listChanges) (*listed[apitype.Change], error) {
			page, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store.Changes(ctx, store.Changed{Who: in.Who, What: in.What, Since: in.Since}, page)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Change, len(list))
			var last store.Change
			for i, x := range list {
				out[i] = apitype.Change{ID: x.ID.String(), At: x.At.UTC(), Who: x.Who, What: x.What, Name: x.Name, Detail: json.RawMessage(x.Detail)}
				last = x
			}
			return pageOf(out, in.Paging, in.query(), last.At, last.ID), nil
		})
}

func (in *listChanges) query() url.Values {
	q := url.Values{"who": {in.Who}, "what": {in.What}}
	if !in.Since.IsZero() {
		q.Set("since", in.Since.UTC().Format(time.RFC3339Nano))
	}
	return q
}
