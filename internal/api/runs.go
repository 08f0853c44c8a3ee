package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

type listRuns struct {
	Kind    string    `query:"kind" doc:"Of this kind of measurement; of all when left out"`
	Path    string    `query:"path"`
	Watch   string    `query:"watch" doc:"Name or identifier"`
	From    string    `query:"from" doc:"Name of an agent"`
	To      string    `query:"to" doc:"Target, as it was asked for"`
	Via     string    `query:"via" doc:"Kind of probe"`
	Outcome string    `query:"outcome" enum:"running,done,failed,missed,cancelled"`
	FromAt  time.Time `query:"from_at" doc:"Begun at this time or later"`
	ToAt    time.Time `query:"to_at" doc:"Begun before"`
	Paging
}

type oneRun struct {
	ID string `path:"id"`
}

type runFile struct {
	ID     string `path:"id"`
	Format string `query:"format" enum:"text,html,pdf,csv,json" default:"html"`
}

type resumeRun struct {
	ID   string `path:"id"`
	Body apitype.Resume
}

type compareRun struct {
	ID   string `path:"id"`
	With string `query:"with" doc:"last, baseline, or another trace's identifier" default:"last"`
}

type hearRun struct {
	ID    string `path:"id"`
	After int    `query:"after" minimum:"0" doc:"What came behind so many"`
}

func (s *server) registerRuns(a huma.API) {
	start := operation(http.MethodPost, "/runs", "start-runs", "Measure on demand at an agent, by whatever kind; each target is a run, by some kinds each family and kind of probe of it. They go on in the background and are kept", "Runs", http.StatusNotFound, http.StatusUnprocessableEntity)
	start.DefaultStatus = http.StatusAccepted
	huma.Register(a, start, func(ctx context.Context, in *body[apitype.Measurement]) (*body[[]apitype.Run], error) {
		if see := s.sight(ctx); !see.Named(in.Body.From) {
			return nil, errNotTheirs(people.Of(ctx), in.Body.From)
		}
		runs, err := s.start(ctx, in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[[]apitype.Run]{s.runsOf(runs)}, nil
	})
	huma.Register(a, operation(http.MethodGet, "/runs", "list-runs", "Runs of all kinds, newest first, without what they found", "Runs", http.StatusNotFound, http.StatusUnprocessableEntity), s.listRuns)
	huma.Register(a, operation(http.MethodGet, "/runs/{id}", "get-run", "One run with what it found, so far or in the end", "Runs", http.StatusNotFound), s.getRun)
	huma.Register(a, operation(http.MethodGet, "/runs/{id}/compared", "compare-run", "One run whose kind finds routes, with the route that it found beside another", "Runs", http.StatusNotFound, http.StatusUnprocessableEntity), s.compareRun)
	huma.Register(a, operation(http.MethodGet, "/runs/{id}/heard", "hear-run", "What a run told as it went, in the form of its kind: probes, steps, bytes so far", "Runs", http.StatusNotFound),
		func(ctx context.Context, in *hearRun) (*body[apitype.Heard], error) {
			out, err := s.hear(ctx, in)
			return &body[apitype.Heard]{out}, s.problem(err)
		})
	stop := operation(http.MethodDelete, "/runs/{id}", "stop-run", "End the measurement that a run is of, with the runs that were begun together with it; what was measured until then is kept", "Runs", http.StatusNotFound, http.StatusConflict)
	stop.DefaultStatus = http.StatusNoContent
	huma.Register(a, stop, func(ctx context.Context, in *oneRun) (*struct{}, error) { return nil, s.problem(s.stopRun(ctx, in.ID)) })
	s.registerRunFile(a)
	resume := operation(http.MethodPost, "/runs/{id}/resume", "resume-run", "Go on with a run that was cut or stopped, of a kind that can: a new run, from what the first had measured", "Runs", http.StatusNotFound, http.StatusUnprocessableEntity)
	resume.DefaultStatus = http.StatusAccepted
	huma.Register(a, resume, func(ctx context.Context, in *resumeRun) (*body[[]apitype.Run], error) {
		id, err := parseID(in.ID)
		if err != nil {
			return nil, s.problem(err)
		}
		list, err := s.c.Runs.Resume(ctx, id, in.Body.Key)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[[]apitype.Run]{s.runsOf(list)}, nil
	})
	huma.Register(a, operation(http.MethodGet, "/kinds", "list-kinds", "The kinds of measurement, and what can be asked of each", "Runs"),
		func(context.Context, *struct{}) (*body[[]apitype.Kind], error) {
			return &body[[]apitype.Kind]{kindsOf()}, nil
		})
}

// stopRun ends a run that goes on.
func (s *server) stopRun(ctx context.Context, text string) error {
	id, err := parseID(text)
	if err != nil {
		return err
	}
	if s.c.Runs.Stop(id) {
		return nil
	}
	r, err := s.c.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	return fmt.Errorf("run %s %w: it is %s", id, runs.ErrOver, r.Outcome)
}

// request reads what an order asks for. What is left out is as in a watch.
func (s *server) request(o apitype.Measurement) (r runs.Request, err error) {
	k, err := kind.Find(kind.Or(o.Kind))
	if err != nil {
		return r, err
	}
	spec, err := k.Take(kind.Standing, o.How)
	return runs.Request{Kind: k, From: o.From, Targets: o.To, How: spec, Key: o.Key}, err
}

func (s *server) start(ctx context.Context, o apitype.Measurement) ([]store.Run, error) {
	r, err := s.request(o)
	if err != nil {
		return nil, err
	}
	return s.c.Runs.Start(ctx, r)
}

// startEnd starts what an order towards one target asks for, of one of some kinds.
func (s *server) startEnd(ctx context.Context, o apitype.EndOrder) (store.Run, error) {
	k, err := kind.Find(o.Kind)
	if err != nil {
		return store.Run{}, err
	}
	how := o.How
	if len(o.Request) > 0 { // as an earlier release said it
		old := map[string]json.RawMessage{}
		b, err := json.Marshal(o.Request)
		if err == nil {
			err = json.Unmarshal(b, &old)
		}
		if err != nil {
			return store.Run{}, err
		}
		if old, err = watches.FromEarlier(k, old, true); err != nil {
			return store.Run{}, err
		}
		for key, v := range how {
			old[key] = v
		}
		how = old
	}
	if o.Key != "" && string(how["reflector"]) == "true" { // as the reflector's makers know it
		key, err := json.Marshal(o.Key)
		if err != nil {
			return store.Run{}, err
		}
		how["stamp_key"], o.Key = key, ""
	}
	runs, err := s.start(ctx, apitype.Measurement{Kind: o.Kind, From: o.From, To: []string{o.To}, Key: o.Key, How: how})
	if err != nil {
		return store.Run{}, err
	}
	return runs[0], nil
}

func (s *server) runsOf(list []store.Run) []apitype.Run {
	out := make([]apitype.Run, len(list))
	for i, r := range list {
		out[i] = s.runOf(r)
	}
	return out
}

func (s *server) listRuns(ctx context.Context, in *listRuns) (*listed[apitype.Run], error) {
	page, err := in.page()
	if err != nil {
		return nil, s.problem(err)
	}
	f := store.RunFilter{Kind: in.Kind, Target: in.To, Via: in.Via, Outcome: protocol.Outcome(in.Outcome), From: in.FromAt, To: in.ToAt, Within: s.sight(ctx).Within(), Page: page}
	if in.Kind != "" {
		if _, err := kind.Find(in.Kind); err != nil {
			return nil, s.problem(err)
		}
	}
	if in.Path != "" {
		if f.Path, err = parseID(in.Path); err != nil {
			return nil, s.problem(err)
		}
	}
	if in.Watch != "" {
		w, err := s.watchNamed(ctx, in.Watch)
		if err != nil {
			return nil, s.problem(err)
		}
		f.Watches = w.IDs()
	}
	if in.From != "" {
		if f.Agent, err = s.agentNamed(ctx, in.From); err != nil {
			return nil, s.problem(err)
		}
	}
	runs, err := s.c.Store.Runs(ctx, f)
	if err != nil {
		return nil, s.problem(err)
	}
	var last store.Run
	if len(runs) > 0 {
		last = runs[len(runs)-1]
	}
	again := url.Values{"kind": {in.Kind}, "path": {in.Path}, "watch": {in.Watch}, "from": {in.From}, "to": {in.To}, "via": {in.Via}, "outcome": {in.Outcome}}
	for key, t := range map[string]time.Time{"from_at": in.FromAt, "to_at": in.ToAt} {
		if !t.IsZero() {
			again.Set(key, t.UTC().Format(time.RFC3339Nano))
		}
	}
	return pageOf(s.runsOf(runs), in.Paging, again, last.StartedAt, last.ID), nil
}

func (s *server) getRun(ctx context.Context, in *oneRun) (*body[apitype.Run], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	r, err := s.c.Store.Run(ctx, id)
	if err != nil {
		return nil, s.problem(err)
	}
	out := s.runOf(r)
	if r.Outcome == protocol.Running {
		err = s.soFar(r, &out)
	} else {
		err = s.found(ctx, r, &out)
	}
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[apitype.Run]{out}, nil
}

// compareRun is getRun with the route that was found beside another.
func (s *server) compareRun(ctx context.Context, in *compareRun) (*body[apitype.Run], error) {
	out, err := s.getRun(ctx, &oneRun{in.ID})
	if err != nil || out.Body.Result == nil || out.Body.Outcome == string(protocol.Running) {
		return out, err
	}
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	r, err := s.c.Store.Run(ctx, id)
	if err == nil {
		out.Body.Result, err = s.compared(ctx, r, out.Body.Result, in.With)
	}
	return out, s.problem(err)
}

// compared lays the route that a run found beside another.
func (s *server) compared(ctx context.Context, r store.Run, raw json.RawMessage, with string) (json.RawMessage, error) {
	k, err := kind.Find(r.Kind)
	if err != nil {
		return nil, err
	}
	found, err := k.ReadResult(r.Version, raw)
	if err != nil {
		return nil, err
	}
	routed, is := found.(kind.Routed)
	if !is {
		return nil, fmt.Errorf("%w: what a %s found is no route to be compared", kind.ErrInvalid, r.Kind)
	}
	t, err := s.c.Store.Trace(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if err := s.seesOther(ctx, with); err != nil {
		return nil, err
	}
	if err := s.c.Ingest.CompareTraces(ctx, t, routed.Trace(), with); err != nil {
		return nil, err
	}
	return json.Marshal(found)
}

// hear gives what a run told.
func (s *server) hear(ctx context.Context, in *hearRun) (out apitype.Heard, err error) {
	id, err := parseID(in.ID)
	if err != nil {
		return out, err
	}
	if _, err := s.c.Store.Run(ctx, id); err != nil {
		return out, err
	}
	more, address, over := s.c.Runs.Heard(id, in.After)
	out = apitype.Heard{More: []json.RawMessage{}, Address: address, Next: in.After + len(more), Over: over}
	for _, x := range more {
		raw, err := json.Marshal(x)
		if err != nil {
			return out, err
		}
		out.More = append(out.More, raw)
	}
	return out, nil
}

// soFar adds what is known of a run that goes on.
func (s *server) soFar(r store.Run, out *apitype.Run) (err error) {
	x, ok := s.c.Runs.SoFar(r.ID)
	if !ok {
		return nil
	}
	if x.Reading != nil {
		out.Reading = readingOf(&protocol.Record{Path: r.PathID, Run: r.ID, Reading: *x.Reading})
		out.RTTsMs = newest(x.Probes)
	}
	if x.Result != nil {
		out.Result, err = json.Marshal(x.Result)
	}
	return err
}

// found adds what a run found.
func (s *server) found(ctx context.Context, r store.Run, out *apitype.Run) (err error) {
	if out.Result, err = s.c.Store.ResultOf(ctx, r); err != nil {
		return err
	}
	if out.Result != nil {
		k, err := kind.Find(r.Kind)
		if err != nil {
			return err
		}
		result, err := k.ReadResult(r.Version, out.Result)
		if err != nil {
			return err
		}
		out.Findings = apitype.FindingsOf(kind.FindingsOf(result))
	}
	if r.PathID.IsZero() {
		return nil
	}
	records, err := s.c.Store.ReadingsOfRun(ctx, r)
	if err != nil || len(records) == 0 {
		return err
	}
	out.Reading = readingOf(&records[0])
	probes, err := reading.Unpack(records[0].Reading.At, records[0].Packed)
	if err != nil {
		return nil // its figures are there all the same
	}
	out.RTTsMs = newest(probes)
	if out.Result == nil {
		out.Findings = apitype.FindingsOf(finding.OfReading(records[0].Reading, probes))
	}
	return nil
}

func kindsOf() []apitype.Kind {
	out := []apitype.Kind{}
	for _, k := range kind.All() {
		x := apitype.Kind{Name: k.Name, Version: k.Version, Summary: k.Summary, OneTarget: k.One, TwoEnds: k.TwoEnds, Load: k.Load, Paths: k.Paths, Continuous: k.Continuous, Least: k.Least.String(), Fields: []apitype.Field{}}
		for _, f := range kind.FieldsOf(k.New(kind.Standing)) {
			y := apitype.Field{Name: f.Name, Option: f.Flag, Type: f.Type(), Help: f.Help, Usual: f.Text(), Enum: f.Enum, OfHand: f.OfHand}
			if f.Flag == "-" {
				y.Option = ""
			}
			x.Fields = append(x.Fields, y)
		}
		out = append(out, x)
	}
	return out
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
