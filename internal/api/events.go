package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
)

// ReadingEvent tells of a new reading.
type ReadingEvent apitype.Reading

// StateEvent tells that a path stands otherwise than before.
type StateEvent apitype.Path

// WatchEvent tells that the watches changed.
type WatchEvent struct {
	At time.Time `json:"at"`
}

// TwoEndedEvent tells that a measurement with two ends has ended.
type TwoEndedEvent struct {
	At time.Time `json:"at"`
}

// TraceEvent tells that traces have ended.
type TraceEvent struct {
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

// AliveEvent comes every 15 seconds, so that a dead connection is noticed.
type AliveEvent struct {
	Now time.Time `json:"now_at"`
}

func (s *server) registerEvents(a huma.API) {
	op := operation(http.MethodGet, "/events", "listen", "A live stream of new readings and changes of state (server-sent events)", "Events")
	sse.Register(a, op, map[string]any{"reading": ReadingEvent{}, "state": StateEvent{}, "watch": WatchEvent{}, "sweep": SweepEvent{}, "trace": TraceEvent{}, "two-ended": TwoEndedEvent{}, "notice": NoticeEvent{}, "alive": AliveEvent{}},
		func(ctx context.Context, _ *struct{}, send sse.Sender) {
			events, stop := s.c.Listen()
			defer stop()
			alive := time.NewTicker(15 * time.Second)
			defer alive.Stop()
			if send.Data(AliveEvent{time.Now().UTC()}) != nil {
				return
			}
			for {
				var err error
				select {
				case <-ctx.Done():
					return
				case now := <-alive.C:
					err = send.Data(AliveEvent{now.UTC()})
				case e, ok := <-events:
					if !ok {
						return // it fell behind; the listener connects anew and reads all afresh
					}
					err = s.sendEvent(send, e)
				}
				if err != nil {
					return
				}
			}
		})
}

func (s *server) sendEvent(send sse.Sender, e controller.Event) error {
	switch e.Kind {
	case controller.NewReading:
		return send.Data(ReadingEvent(*readingOf(e.Reading)))
	case controller.StateChanged:
		v, err := s.c.View(e.Path)
		if err != nil {
			return nil
		}
		return send.Data(StateEvent(pathOf(v, time.Now(), false)))
	case controller.WatchChanged:
		return send.Data(WatchEvent{time.Now().UTC()})
	case controller.NewTrace:
		return send.Data(TraceEvent{time.Now().UTC()})
	case controller.NewTwoEnded:
		return send.Data(TwoEndedEvent{time.Now().UTC()})
	case controller.NewSweep:
		return send.Data(SweepEvent{time.Now().UTC()})
	}
	return send.Data(NoticeEvent{time.Now().UTC()})
}
