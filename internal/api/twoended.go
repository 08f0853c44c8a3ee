package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/dscp"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/session"
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
		if !s.c.StopTwoEnded(id) {
			return nil, s.problem(fmt.Errorf("%w: no such measurement is going on", store.ErrNotFound))
		}
		return nil, nil
	})
}

func (s *server) startTwoEnded(ctx context.Context, in *body[apitype.TwoEndedOrder]) (*body[apitype.TwoEnded], error) {
	o := in.Body
	spec := controller.TwoEndedSpec{Kind: plan.TwoEndedKind(o.Kind), From: o.From, To: o.To, Request: o.Request}
	var err error
	if o.For != "" {
		if spec.Request.For, err = time.ParseDuration(o.For); err != nil || spec.Request.For <= 0 {
			return nil, s.problem(fmt.Errorf("%w: for %q is not a span of time such as 10s", controller.ErrInvalid, cut(o.For)))
		}
	}
	point, err := dscp.Parse(o.DSCP)
	if err != nil {
		return nil, s.problem(fmt.Errorf("%w: %w", controller.ErrInvalid, err))
	}
	spec.Request.DSCP = uint8(point)
	if err := agent.CheckTwoEnded(spec.Kind, spec.Request); err != nil {
		return nil, s.problem(fmt.Errorf("%w: %w", controller.ErrInvalid, err))
	}
	switch {
	case o.Key != "" && o.Request.Reflector:
		spec.Key = []byte(o.Key) // as the reflector's makers know it
	case o.Key != "":
		spec.Key = session.KeyFrom(o.Key)
	}
	row, err := s.c.TwoEnded(ctx, spec)
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
	f := store.TwoEndedFilter{Kind: in.Kind, Target: in.To, From: in.Since, Page: page}
	if in.From != "" {
		id, err := s.agentID(in.From)
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
	t, err := s.c.Store().TwoEndedByID(ctx, id)
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.twoEndedOf(t)
	return &body[apitype.TwoEnded]{out}, s.problem(err)
}

// twoEndedFor lists those that a filter takes, of one path when there is one.
func (s *server) twoEndedFor(ctx context.Context, path string, f store.TwoEndedFilter) ([]store.TwoEnded, error) {
	if path == "" {
		return s.c.Store().TwoEndedList(ctx, f)
	}
	id, err := parseID(path)
	if err != nil {
		return nil, err
	}
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
		if w, err := s.c.FindWatch(t.WatchID.String()); err == nil {
			out.Watch = w.Name
		}
	}
	now, live, _ := s.c.TwoEndedProgress(t.ID)
	out.Says, out.Share = now.Says, now.Share
	for _, x := range live {
		out.Live = append(out.Live, apitype.LiveSecond{Start: x.Start, Length: x.Length, ThereBps: x.There, BackBps: x.Back})
	}
	raw, err := t.Report()
	if err != nil || raw == nil {
		return out, err
	}
	if t.Kind == string(plan.Stream) {
		return out, json.Unmarshal(raw, &out.Stream)
	}
	return out, json.Unmarshal(raw, &out.Through)
}

// twoEndedWatchOf is a watch with two ends.
func (s *server) twoEndedWatchOf(ctx context.Context, w controller.Watch, out apitype.Watch) (apitype.Watch, error) {
	t := w.Spec.Two
	out.Kind, out.Every, out.Interval, out.Wait, out.Probes, out.Payload, out.Via, out.Family = w.Spec.Kind, w.Spec.Every.String(), "", "", 0, 0, "", ""
	out.Buffer, out.Search, out.Repeats = t.Buffer, t.Search, t.Repeats
	out.Bits, out.Protocol, out.Streams, out.Direct, out.Codec, out.DayBytes = t.Rate, t.Protocol, t.Streams, t.Direction, t.Codec, w.Spec.DayBytes
	if t.For > 0 {
		out.For = t.For.String()
	}
	out.Paths = len(w.Spec.From) * len(w.Spec.To)
	if packets, bytes, known := agent.TwoEndedCost(plan.TwoEndedKind(w.Spec.Kind), *t); known && w.Spec.Every > 0 {
		times := float64(24*time.Hour) / float64(w.Spec.Every) * float64(out.Paths)
		out.ProbesPerDay, out.BytesPerDay = packets*times, bytes*times
	}
	if !w.Paused {
		out.NextDueAt = utc(time.Now().Truncate(w.Spec.Every).Add(w.Spec.Every))
	}
	list, err := s.c.Store().TwoEndedList(ctx, store.TwoEndedFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
	if err == nil && len(list) > 0 {
		x := list[0]
		out.LastRun = &apitype.Run{ID: x.ID.String(), StartAt: x.StartedAt.UTC(), Outcome: string(x.Outcome), Reason: x.Reason, To: x.Target, RTTsMs: []*float64{}, Findings: []apitype.Finding{}}
		if x.EndedAt != nil {
			out.LastRun.EndedAt = utc(*x.EndedAt)
		}
	}
	return out, nil
}
