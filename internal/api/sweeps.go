package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

type listSweeps struct {
	Watch string `query:"watch" doc:"Name or identifier"`
	Paging
}

func (s *server) registerSweeps(a huma.API) {
	start := operation(http.MethodPost, "/sweeps", "start-sweep", "Find which addresses answer, from an agent; it goes on in the background and is kept", "Sweeps", http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, func(ctx context.Context, in *body[apitype.Measurement]) (*body[apitype.Sweep], error) {
		in.Body.Kind = kind.In("sweeps").Name
		runs, err := s.start(ctx, in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		made, err := s.c.Store.Sweep(ctx, runs[0].ID)
		if err != nil {
			return nil, s.problem(err)
		}
		out, err := s.sweepOf(made)
		return &body[apitype.Sweep]{out}, s.problem(err)
	})
	huma.Register(a, operation(http.MethodGet, "/sweeps", "list-sweeps", "Sweeps, newest first, without what they found", "Sweeps", http.StatusNotFound),
		func(ctx context.Context, in *listSweeps) (*listed[apitype.Sweep], error) {
			var of []ident.ID
			if in.Watch != "" {
				w, err := s.watchNamed(ctx, in.Watch)
				if err != nil {
					return nil, s.problem(err)
				}
				of = w.IDs()
			}
			page, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store.Sweeps(ctx, of, s.sight(ctx).Within(), page)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Sweep, len(list))
			for i, x := range list {
				if out[i], err = s.sweepOf(x); err != nil {
					return nil, s.problem(err)
				}
			}
			var last store.Sweep
			if len(list) > 0 {
				last = list[len(list)-1]
			}
			return pageOf(out, in.Paging, url.Values{"watch": {in.Watch}}, last.StartedAt, last.ID), nil
		})
	huma.Register(a, operation(http.MethodGet, "/sweeps/{id}", "get-sweep", "One sweep with what it found, and how it differs from the one before of the same addresses", "Sweeps", http.StatusNotFound),
		func(ctx context.Context, in *oneRun) (*body[apitype.Sweep], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			x, err := s.c.Store.Sweep(ctx, id)
			if err != nil {
				return nil, s.problem(err)
			}
			out, err := s.sweepOf(x)
			return &body[apitype.Sweep]{out}, s.problem(err)
		})
}

func (s *server) sweepOf(x store.Sweep) (apitype.Sweep, error) {
	out := apitype.Sweep{ID: x.ID.String(), Prefixes: []string{}, StartAt: x.StartedAt.UTC(), Outcome: string(x.Outcome), Reason: x.Reason, Addresses: x.Addresses, Answered: x.Answered}
	if x.EndedAt != nil {
		out.EndedAt = utc(*x.EndedAt)
	}
	if x.Prefixes != "" {
		if err := json.Unmarshal([]byte(x.Prefixes), &out.Prefixes); err != nil {
			return out, err
		}
	}
	if !x.WatchID.IsZero() {
		out.Watch = "(removed)"
		if w, err := s.c.Watches.Find(x.WatchID.String()); err == nil {
			out.Watch = w.Name
			if len(out.Prefixes) == 0 {
				out.Prefixes = w.Spec.To
			}
		}
	}
	out.From = s.agentName(x.AgentID)
	if x.Outcome == protocol.Running {
		now, _ := s.c.Runs.SoFar(x.ID)
		out.Sent, out.Of = int(now.Done), int(now.Of)
	}
	var err error
	out.Report, err = x.Report()
	return out, err
}
