package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/store"
)

type listTwoEnded struct {
	Kind  string    `query:"kind" enum:"throughput,stream" doc:"Both when left out"`
	From  string    `query:"from" doc:"Name of the agent at the near end"`
	To    string    `query:"to" doc:"The far end, as it was asked for"`
	Path  string    `query:"path" doc:"Between the ends of this path: its agent, and its target or an agent that stands at it"`
	Since time.Time `query:"from_at"`
	Paging
}

type oneID struct {
	ID string `path:"id"`
}

func (s *server) registerTwoEnded(a huma.API) {
	start := operation(http.MethodPost, "/two-ended", "start-two-ended", "Measure throughput, or a stream, between two ends; it goes on in the background and is kept", "Two ends", http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, s.startTwoEnded)
	huma.Register(a, operation(http.MethodGet, "/two-ended", "list-two-ended", "Measurements with two ends, newest first, without their reports", "Two ends", http.StatusNotFound, http.StatusUnprocessableEntity), s.listTwoEnded)
	huma.Register(a, operation(http.MethodGet, "/two-ended/{id}", "get-two-ended", "One with its report", "Two ends", http.StatusNotFound), s.getTwoEnded)
	stop := operation(http.MethodDelete, "/two-ended/{id}", "stop-two-ended", "End one that is going on; what was measured is kept", "Two ends", http.StatusNotFound)
	stop.DefaultStatus = http.StatusNoContent
	huma.Register(a, stop, func(_ context.Context, in *oneID) (*struct{}, error) {
		id, err := parseID(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		if !s.c.Runs.Stop(id) {
			return nil, s.problem(fmt.Errorf("%w: no such measurement is going on", store.ErrNotFound))
		}
		return nil, nil
	})
}

func (s *server) startTwoEnded(ctx context.Context, in *body[apitype.EndOrder]) (*body[apitype.TwoEnded], error) {
	run, err := s.startEnd(ctx, in.Body)
	if err != nil {
		return nil, s.problem(err)
	}
	row, err := s.c.Store.TwoEndedByID(ctx, run.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.twoEndedOf(row)
	return &body[apitype.TwoEnded]{out}, s.problem(err)
}

func (s *server) listTwoEnded(ctx context.Context, in *listTwoEnded) (*listed[apitype.TwoEnded], error) {
	page, err := in.page()
	if err != nil {
		return nil, s.problem(err)
	}
	f := store.TwoEndedFilter{Kind: in.Kind, Target: in.To, From: in.Since, Within: s.sight(ctx).Within(), Page: page}
	if in.From != "" {
		id, err := s.agentNamed(ctx, in.From)
		if err != nil {
			return nil, s.problem(err)
		}
		f.Agent = id
	}
	list, err := s.twoEndedFor(ctx, in.Path, f)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]apitype.TwoEnded, len(list))
	for i, t := range list {
		if out[i], err = s.twoEndedOf(t); err != nil {
			return nil, s.problem(err)
		}
	}
	var last store.TwoEnded
	if len(list) > 0 {
		last = list[len(list)-1]
	}
	since := ""
	if !in.Since.IsZero() {
		since = in.Since.UTC().Format(time.RFC3339Nano)
	}
	return pageOf(out, in.Paging, url.Values{"kind": {in.Kind}, "from": {in.From}, "to": {in.To}, "path": {in.Path}, "from_at": {since}}, last.StartedAt, last.ID), nil
}

func (s *server) getTwoEnded(ctx context.Context, in *oneID) (*body[apitype.TwoEnded], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	t, err := s.c.Store.TwoEndedByID(ctx, id)
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.twoEndedOf(t)
	return &body[apitype.TwoEnded]{out}, s.problem(err)
}

// twoEndedFor lists those that a filter takes, of one path when there is one.
func (s *server) twoEndedFor(ctx context.Context, path string, f store.TwoEndedFilter) ([]store.TwoEnded, error) {
	if path == "" {
		return s.c.Store.TwoEndedList(ctx, f)
	}
	id, err := parseID(path)
	if err != nil {
		return nil, err
	}
	if err := s.pathInPart(ctx, s.sight(ctx), huma.Operation{}, path); err != nil {
		return nil, err
	}
	f.Within = nil // those of a path that is seen
	return s.c.TwoEndedOf(ctx, id, f)
}

func (s *server) twoEndedOf(t store.TwoEnded) (apitype.TwoEnded, error) {
	out := apitype.TwoEnded{ID: t.ID.String(), Kind: t.Kind, To: t.Target, StartedAt: t.StartedAt.UTC(), Outcome: string(t.Outcome), Reason: t.Reason, ThereBps: t.ThereBps, BackBps: t.BackBps, MOS: t.MOS}
	if t.EndedAt != nil {
		out.EndedAt = utc(*t.EndedAt)
	}
	out.From = s.agentName(t.AgentID)
	if !t.WatchID.IsZero() {
		out.Watch = "(removed)"
		if w, err := s.c.Watches.Find(t.WatchID.String()); err == nil {
			out.Watch = w.Name
		}
	}
	now, _ := s.c.Runs.SoFar(t.ID)
	out.Says = now.Says
	if now.Of > 0 {
		out.Share = min(1, float64(now.Done)/float64(now.Of))
	}
	out.Live = liveOf(now.Live)
	raw, err := t.Report()
	if err != nil || raw == nil {
		return out, err
	}
	// The report stands under the name of its kind.
	named, err := json.Marshal(map[string]json.RawMessage{t.Kind: raw})
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(named, &out)
}
