package api

import (
	"context"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

type listRuns struct {
	Path    string `query:"path"`
	Watch   string `query:"watch" doc:"Name or identifier"`
	Outcome string `query:"outcome" enum:"running,done,failed,missed,cancelled"`
	Paging
}

type oneRun struct {
	ID string `path:"id"`
}

func (s *server) registerRuns(a huma.API) {
	start := operation(http.MethodPost, "/runs", "start-runs", "Measure on demand at an agent; one run a target and family, which goes on in the background and is kept", "Runs", http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, func(ctx context.Context, in *body[apitype.Measurement]) (*body[[]apitype.Run], error) {
		m := in.Body
		spec, err := SpecOf(apitype.WatchSpec{To: m.To, Via: m.Via, Family: m.Family, Interval: m.Interval, Wait: m.Wait, Probes: m.Probes, Payload: m.Payload, DSCP: m.DSCP, Every: "1m"})
		if err != nil {
			return nil, s.problem(err)
		}
		runs, err := s.c.Measure(ctx, m.From, spec)
		if err != nil {
			return nil, s.problem(err)
		}
		out := make([]apitype.Run, len(runs))
		for i, r := range runs {
			out[i] = s.runOf(r)
		}
		return &body[[]apitype.Run]{out}, nil
	})
	huma.Register(a, operation(http.MethodGet, "/runs", "list-runs", "Runs, newest first", "Runs", http.StatusNotFound),
		func(ctx context.Context, in *listRuns) (*listed[apitype.Run], error) {
			page, err := in.page()
			if err != nil {
				return nil, s.problem(err)
			}
			f := store.RunFilter{Outcome: plan.Outcome(in.Outcome), Page: page}
			if in.Path != "" {
				id, err := parseID(in.Path)
				if err != nil {
					return nil, s.problem(err)
				}
				f.Path = id
			}
			if in.Watch != "" {
				w, err := s.c.FindWatch(in.Watch)
				if err != nil {
					return nil, s.problem(err)
				}
				f.Watch = w.ID
			}
			runs, err := s.c.Store().Runs(ctx, f)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.Run, len(runs))
			for i, r := range runs {
				out[i] = s.runOf(r)
			}
			var last store.Run
			if len(runs) > 0 {
				last = runs[len(runs)-1]
			}
			return pageOf(out, in.Paging, url.Values{"path": {in.Path}, "watch": {in.Watch}, "outcome": {in.Outcome}}, last.StartedAt, last.ID), nil
		})
	huma.Register(a, operation(http.MethodGet, "/runs/{id}", "get-run", "One run with its reading and findings", "Runs", http.StatusNotFound),
		func(ctx context.Context, in *oneRun) (*body[apitype.Run], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			r, err := s.c.Store().Run(ctx, id)
			if err != nil {
				return nil, s.problem(err)
			}
			out := s.runOf(r)
			if r.Outcome == plan.Running {
				if so, probes, ok := s.c.SoFar(r.ID); ok {
					out.Reading = readingOf(&plan.Record{Path: r.PathID, Run: r.ID, Reading: so})
					out.RTTsMs = newest(probes)
				}
			} else {
				records, err := s.c.Store().ReadingsOfRun(ctx, r)
				if err != nil {
					return nil, s.problem(err)
				}
				if len(records) > 0 {
					out.Reading = readingOf(&records[0])
					if probes, err := reading.Unpack(records[0].Reading.At, records[0].Packed); err == nil {
						out.RTTsMs = newest(probes)
						out.Findings = apitype.FindingsOf(finding.OfReading(records[0].Reading, probes))
					}
				}
			}
			return &body[apitype.Run]{out}, nil
		})
}

// mostNewest is how many probes of a run are shown one by one.
const mostNewest = 400

// newest are the round-trip times of the newest probes.
func newest(probes []reading.Probe) []*float64 {
	probes = probes[max(0, len(probes)-mostNewest):]
	list := make([]*float64, len(probes))
	for i, p := range probes {
		if p.Outcome == reading.Answered {
			ms := figure.Millis(p.RTT)
			list[i] = &ms
		}
	}
	return list
}
