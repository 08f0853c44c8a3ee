package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/sweep"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

type listSweeps struct {
	Watch string `query:"watch" doc:"Name or identifier"`
	Paging
}

func (s *server) registerSweeps(a huma.API) {
	start := operation(http.MethodPost, "/sweeps", "start-sweep", "Find which addresses answer, from an agent; it goes on in the background and is kept", "Sweeps", http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, func(ctx context.Context, in *body[apitype.SweepOrder]) (*body[apitype.Sweep], error) {
		o := in.Body
		spec, err := SpecOf(apitype.WatchSpec{To: o.To, Via: o.Via, Wait: o.Wait, Exclude: o.Exclude, Rate: o.Rate, Random: o.Random, Low: o.Low, Beyond: o.Beyond, Every: "1m"})
		if err != nil {
			return nil, s.problem(err)
		}
		made, err := s.c.Sweep(ctx, o.From, spec)
		if err != nil {
			return nil, s.problem(err)
		}
		out, err := s.sweepOf(made)
		return &body[apitype.Sweep]{out}, s.problem(err)
	})
	huma.Register(a, operation(http.MethodGet, "/sweeps", "list-sweeps", "Sweeps, newest first, without what they found", "Sweeps", http.StatusNotFound),
		func(ctx context.Context, in *listSweeps) (*listed[apitype.Sweep], error) {
			var w controller.Watch
			if in.Watch != "" {
				var err error
				if w, err = s.c.FindWatch(in.Watch); err != nil {
					return nil, s.problem(err)
				}
			}
			page, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Store().Sweeps(ctx, w.ID, page)
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
			x, err := s.c.Store().Sweep(ctx, id)
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
		if w, err := s.c.FindWatch(x.WatchID.String()); err == nil {
			out.Watch = w.Name
			if len(out.Prefixes) == 0 {
				out.Prefixes = w.Spec.To
			}
		}
	}
	out.From = s.agentName(x.AgentID)
	if x.Outcome == plan.Running {
		out.Sent, out.Of, _ = s.c.Progress(x.ID)
	}
	var err error
	out.Report, err = x.Report()
	return out, err
}

// sweepWatchOf completes a watch that sweeps.
func (s *server) sweepWatchOf(ctx context.Context, w controller.Watch, out apitype.Watch) (apitype.Watch, error) {
	spec := w.Spec
	out.Kind, out.Every, out.Exclude, out.Rate, out.Random, out.Low, out.Beyond = spec.Kind, spec.Every.String(), spec.Exclude, spec.Rate, spec.Random, spec.Low, spec.Beyond
	out.Interval, out.Probes, out.Payload, out.Family = "", 0, 0, ""
	if space, err := sweep.Parse(spec.To, spec.Exclude, sweep.Options{Low: spec.Low}); err == nil {
		out.ProbesPerDay = 24 * float64(time.Hour) / float64(spec.Every) * float64(space.Len()) * float64(len(strings.Split(spec.Via, ","))) * float64(len(spec.From))
	}
	const packet = 60 // bytes: IPv4, ICMP or TCP, and what the probe carries
	out.BytesPerDay = out.ProbesPerDay * packet
	if !w.Paused {
		out.NextDueAt = utc(time.Now().Truncate(spec.Every).Add(spec.Every))
	}
	last, err := s.c.Store().Sweeps(ctx, w.ID, store.Page{Limit: 1})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return out, err
	}
	if len(last) > 0 {
		out.LastRun = &apitype.Run{ID: last[0].ID.String(), Watch: w.Name, StartAt: last[0].StartedAt.UTC(), EndedAt: last[0].EndedAt, Outcome: string(last[0].Outcome), Reason: last[0].Reason, RTTsMs: []*float64{}, Findings: []apitype.Finding{}}
	}
	return out, nil
}
