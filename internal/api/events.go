package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/sight"
)

// ReadingEvent tells of a new reading.
type ReadingEvent apitype.Reading

// StateEvent tells that a path stands otherwise than before.
type StateEvent apitype.Path

// PathEvent tells that there is a new reading of a path, or that it stands otherwise, to who asked
// to hear that in brief.
type PathEvent struct {
	PathID string `json:"path_id"`
	State  bool   `json:"state,omitempty" doc:"It stands otherwise than before"`
}

// WatchEvent tells that the watches changed.
type WatchEvent struct {
	At time.Time `json:"at"`
}

// TwoEndedEvent tells that a measurement with two ends has ended.
type TwoEndedEvent struct {
	At time.Time `json:"at"`
}

// RunEvent tells that a run ended, or that more is known of one that goes on: then what is
// known so far, and of its series what came since the event before.
type RunEvent struct {
	At       time.Time            `json:"at"`
	RunID    string               `json:"run_id,omitempty" doc:"Left out where it is of many"`
	Kind     string               `json:"kind,omitempty"`
	Outcome  string               `json:"outcome,omitempty" doc:"running while it goes on"`
	Heard    int                  `json:"heard,omitempty"`
	Of       int                  `json:"of,omitempty"`
	Says     string               `json:"says,omitempty"`
	Reading  *apitype.Reading     `json:"reading,omitempty" doc:"Of the probes so far"`
	RTTsFrom int                  `json:"rtts_from,omitempty" doc:"How many probes were known before"`
	RTTsMs   []*float64           `json:"rtts_ms,omitempty" doc:"Of the probes behind those"`
	Live     []apitype.LiveSecond `json:"live,omitempty" doc:"Of what goes on between two ends, all seconds so far"`
	Result   json.RawMessage      `json:"result,omitempty" doc:"What there is so far, in the form of its kind"`
}

// TraceEvent tells that traces have ended.
type TraceEvent struct {
	At time.Time `json:"at"`
}

// IncidentEvent tells that an incident was found, is other than it was, or is over.
type IncidentEvent struct {
	At time.Time `json:"at"`
}

// SweepEvent tells that a sweep has ended.
type SweepEvent struct {
	At time.Time `json:"at"`
}

// NoticeEvent tells that there is a new notice.
type NoticeEvent struct {
	At time.Time `json:"at"`
}

// MissedEvent tells a listener that came back that some of what happened meanwhile is not
// kept any more: it reads all afresh.
type MissedEvent struct {
	At time.Time `json:"at"`
}

// AliveEvent comes each four seconds, so that a dead connection is noticed.
type AliveEvent struct {
	Now time.Time `json:"now_at"`
}

type listen struct {
	Brief bool  `query:"brief" doc:"In place of 'reading' and 'state' comes 'path', which says of which it is"`
	Last  int64 `header:"Last-Event-ID" doc:"The id of the last event that was heard: those behind it come first, or 'missed' when they are not kept any more"`
}

// comeBack is how long a browser waits before it connects anew, in milliseconds.
const comeBack = 2000

func (s *server) registerEvents(a huma.API) {
	swept, traced, ended := news("sweeps"), news("traces"), news("two-ended")
	op := operation(http.MethodGet, "/events", "listen", "A live stream of new readings and changes of state (server-sent events); each has an id, by which it is resumed", "Events")
	sse.Register(a, op, map[string]any{"reading": ReadingEvent{}, "state": StateEvent{}, "path": PathEvent{}, "watch": WatchEvent{}, string(swept): SweepEvent{}, string(traced): TraceEvent{}, string(ended): TwoEndedEvent{}, "run": RunEvent{}, "incident": IncidentEvent{}, "notice": NoticeEvent{}, "missed": MissedEvent{}, "alive": AliveEvent{}},
		func(ctx context.Context, in *listen, send sse.Sender) {
			ctx, leave := s.c.People.WhileIn(ctx, people.Of(ctx))
			defer leave()
			heard, stop, whole := s.c.Events.ListenSince(in.Last)
			defer stop()
			alive := time.NewTicker(speaks)
			defer alive.Stop()
			if send(sse.Message{Retry: comeBack, Data: AliveEvent{time.Now().UTC()}}) != nil {
				return
			}
			if !whole && send.Data(MissedEvent{time.Now().UTC()}) != nil {
				return
			}
			l := listener{s: s, brief: in.Brief, send: send, see: s.sight(ctx), told: map[ident.ID]int{}, seen: map[ident.ID]bool{}}
			for {
				var err error
				select {
				case <-ctx.Done():
					return
				case now := <-alive.C:
					l.see = s.sight(ctx) // agents come, and are moved
					err = send.Data(AliveEvent{now.UTC()})
				case e, ok := <-heard:
					if !ok {
						return // it fell behind; the listener connects anew and reads all afresh
					}
					err = l.tell(ctx, e)
				}
				if err != nil {
					return
				}
			}
		})
}

// news is what listeners hear of the runs that calls of earlier releases find in a place.
func news(place string) events.Kind { return events.Kind(kind.In(place).News) }

// listener is told what happens.
type listener struct {
	s     *server
	brief bool
	send  sse.Sender
	see   *sight.Sight
	told  map[ident.ID]int  // probes of runs that go on
	seen  map[ident.ID]bool // runs, where not all are
}

func (l *listener) tell(ctx context.Context, e events.Event) error {
	switch {
	case e.Kind == events.NewReading && !l.see.PathID(e.Reading.Path), e.Kind == events.StateChanged && !l.see.PathID(e.Path):
		return nil
	case !e.Run.IsZero() && !l.seesRun(ctx, e.Run):
		return nil
	case e.Kind == events.RunGoesOn:
		return l.sendSoFar(e)
	}
	delete(l.told, e.Run)
	delete(l.seen, e.Run)
	if l.brief {
		switch e.Kind {
		case events.NewReading:
			return l.send(sse.Message{ID: int(e.ID), Data: PathEvent{PathID: e.Reading.Path.String()}})
		case events.StateChanged:
			return l.send(sse.Message{ID: int(e.ID), Data: PathEvent{PathID: e.Path.String(), State: true}})
		}
	}
	return l.s.sendEvent(func(data any) error { return l.send(sse.Message{ID: int(e.ID), Data: data}) }, e)
}

// seesRun looks up, once for each, whether a run is in the listener's part.
func (l *listener) seesRun(ctx context.Context, id ident.ID) bool {
	if l.see.All() {
		return true
	}
	seen, known := l.seen[id]
	if !known {
		r, err := l.s.c.Store.Run(ctx, id)
		if seen = err == nil && l.see.Run(r); err == nil {
			l.seen[id] = seen
		}
	}
	return seen
}

func (s *server) sendEvent(send func(any) error, e events.Event) error {
	switch e.Kind {
	case events.NewReading:
		return send(ReadingEvent(*readingOf(e.Reading)))
	case events.StateChanged:
		v, err := s.c.View(e.Path)
		if err != nil {
			return nil
		}
		return send(StateEvent(pathOf(v, s.c.Zone(), time.Now(), false)))
	case events.WatchChanged:
		return send(WatchEvent{time.Now().UTC()})
	case events.IncidentChanged:
		return send(IncidentEvent{time.Now().UTC()})
	case news("traces"):
		return send(TraceEvent{time.Now().UTC()})
	case news("two-ended"):
		return send(TwoEndedEvent{time.Now().UTC()})
	case events.NewRun:
		run := RunEvent{At: time.Now().UTC(), Outcome: string(e.Outcome)}
		if !e.Run.IsZero() {
			run.RunID = e.Run.String()
		}
		return send(run)
	case news("sweeps"):
		return send(SweepEvent{time.Now().UTC()})
	}
	return send(NoticeEvent{time.Now().UTC()})
}

// sendSoFar tells what is new of a run that goes on, given what was told before.
func (l *listener) sendSoFar(e events.Event) error {
	x, ok := l.s.c.Runs.SoFar(e.Run)
	if !ok {
		return nil // its end comes
	}
	run := RunEvent{At: time.Now().UTC(), RunID: e.Run.String(), Kind: x.Kind, Outcome: string(e.Outcome), Heard: int(x.Done), Of: int(x.Of), Says: x.Says, Live: liveOf(x.Live)}
	if x.Reading != nil {
		run.Reading = readingOf(&protocol.Record{Run: e.Run, Reading: *x.Reading})
		run.RTTsFrom = min(l.told[e.Run], len(x.Probes))
		run.RTTsMs = newest(x.Probes[max(run.RTTsFrom, len(x.Probes)-mostNewest):])
		run.RTTsFrom = len(x.Probes) - len(run.RTTsMs)
		l.told[e.Run] = len(x.Probes)
	}
	if x.Result != nil {
		var err error
		if run.Result, err = json.Marshal(x.Result); err != nil {
			return err
		}
	}
	return l.send.Data(run)
}

func liveOf(list []runs.LiveSecond) (out []apitype.LiveSecond) {
	for _, x := range list {
		out = append(out, apitype.LiveSecond{Start: x.Start, Length: x.Length, ThereBps: x.There, BackBps: x.Back})
	}
	return out
}
