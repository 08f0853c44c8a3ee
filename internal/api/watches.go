package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/dscp"
	"woodlark.example/internal/agent"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

type oneWatch struct {
	Watch string `path:"watch" doc:"Name or identifier"`
}

type changeWatch struct {
	Watch string `path:"watch"`
	Body  apitype.WatchSpec
}

type pauseWatch struct {
	Watch string `path:"watch"`
	Body  struct {
		Paused bool `json:"paused"`
	}
}

func (s *server) registerWatches(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/watches", "list-watches", "All watches, by name", "Watches"),
		func(ctx context.Context, _ *struct{}) (*body[[]apitype.Watch], error) {
			// Their last runs are in the database, all else is here: that is not waited for.
			ctx, cancel := context.WithTimeout(ctx, lastRunsTime)
			defer cancel()
			out := []apitype.Watch{}
			for _, w := range s.c.Watches() {
				x, err := s.watchOf(ctx, w)
				if err != nil {
					return nil, s.problem(err)
				}
				out = append(out, x)
			}
			return &body[[]apitype.Watch]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/watches/{watch}", "get-watch", "One watch", "Watches", http.StatusNotFound),
		func(ctx context.Context, in *oneWatch) (*body[apitype.Watch], error) {
			w, err := s.c.FindWatch(in.Watch)
			return s.answerWatch(ctx, w, err)
		})
	add := operation(http.MethodPost, "/watches", "add-watch", "Add a watch; it begins at once", "Watches", http.StatusConflict, http.StatusUnprocessableEntity)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.WatchSpec]) (*body[apitype.Watch], error) {
		spec, err := SpecOf(in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		w, err := s.c.SaveWatch(ctx, ident.ID{}, in.Body.Name, spec, in.Body.Paused)
		return s.answerWatch(ctx, w, err)
	})
	huma.Register(a, operation(http.MethodPut, "/watches/{watch}", "change-watch", "Change a watch", "Watches", http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *changeWatch) (*body[apitype.Watch], error) {
			old, err := s.c.FindWatch(in.Watch)
			if err != nil {
				return nil, s.problem(err)
			}
			spec, err := SpecOf(in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			w, err := s.c.SaveWatch(ctx, old.ID, in.Body.Name, spec, in.Body.Paused)
			return s.answerWatch(ctx, w, err)
		})
	huma.Register(a, operation(http.MethodPatch, "/watches/{watch}", "pause-watch", "Pause a watch or let it go on", "Watches", http.StatusNotFound),
		func(ctx context.Context, in *pauseWatch) (*body[apitype.Watch], error) {
			w, err := s.c.FindWatch(in.Watch)
			if err == nil {
				w, err = s.c.SetPaused(ctx, w, in.Body.Paused)
			}
			return s.answerWatch(ctx, w, err)
		})
	remove := operation(http.MethodDelete, "/watches/{watch}", "remove-watch", "Remove a watch; what it measured stays", "Watches", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneWatch) (*struct{}, error) {
		w, err := s.c.FindWatch(in.Watch)
		if err == nil {
			err = s.c.RemoveWatch(ctx, w)
		}
		return nil, s.problem(err)
	})
}

const lastRunsTime = 1500 * time.Millisecond

func (s *server) answerWatch(ctx context.Context, w controller.Watch, err error) (*body[apitype.Watch], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.watchOf(ctx, w)
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[apitype.Watch]{out}, nil
}

// SpecOf reads the texts of a watch.
func SpecOf(in apitype.WatchSpec) (controller.Spec, error) {
	var errs []error
	span := func(key, text string) time.Duration {
		if text == "" || key == "every" && text == "continuous" {
			return 0
		}
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 {
			errs = append(errs, fmt.Errorf("%w: %s %q is not a span of time above zero, such as 5m or 1s", controller.ErrInvalid, key, cut(text)))
		}
		return d
	}
	spec := controller.Spec{From: in.From, To: in.To, Via: in.Via, Family: in.Family, Every: span("every", in.Every), Interval: span("interval", in.Interval),
		Probes: in.Probes, Wait: span("wait", in.Wait), Payload: in.Payload, Tags: in.Tags,
		Kind: in.Kind, Exclude: in.Exclude, Rate: in.Rate, Random: in.Random, Low: in.Low, Beyond: in.Beyond, OneFlow: in.OneFlow, PathMTU: in.PathMTU}
	point, err := dscp.Parse(in.DSCP)
	if err != nil {
		errs = append(errs, fmt.Errorf("%w: %w", controller.ErrInvalid, err))
	}
	spec.DSCP = uint8(point)
	if spec.Kind == controller.KindThroughput || spec.Kind == controller.KindStream {
		spec.Two = &plan.TwoRequest{Direction: in.Direct, For: span("for", in.For), DSCP: spec.DSCP, Rate: in.Bits, Codec: in.Codec, Protocol: in.Protocol, Streams: in.Streams, Buffer: in.Buffer, Search: in.Search, Repeats: in.Repeats}
		spec.DayBytes = in.DayBytes
		if err := agent.CheckTwoEnded(plan.TwoEndedKind(spec.Kind), *spec.Two); err != nil {
			errs = append(errs, fmt.Errorf("%w: %w", controller.ErrInvalid, err))
		}
	}
	return spec, errors.Join(errs...)
}

func cut(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

func (s *server) watchOf(ctx context.Context, w controller.Watch) (apitype.Watch, error) {
	spec := w.Spec
	out := apitype.Watch{ID: w.ID.String(), Paths: len(w.Paths), WatchSpec: apitype.WatchSpec{
		Name: w.Name, From: spec.From, To: spec.To, Via: spec.Via, Family: spec.Family, Interval: spec.Interval.String(), Wait: spec.Wait.String(),
		Payload: spec.Payload, Paused: w.Paused, Tags: spec.Tags, Probes: spec.Probes}}
	if spec.DSCP > 0 {
		out.DSCP = strconv.Itoa(int(spec.DSCP))
	}
	if spec.Kind == controller.KindSweep {
		return s.sweepWatchOf(ctx, w, out)
	}
	if spec.Kind == controller.KindTrace {
		return s.traceWatchOf(ctx, w, out)
	}
	if t := spec.Two; t != nil {
		return s.twoEndedWatchOf(ctx, w, out)
	}
	perDay := 24 * float64(time.Hour)
	if spec.Every == 0 {
		out.Probes = 0
		out.ProbesPerDay = perDay / float64(spec.Interval) * float64(len(w.Paths))
	} else {
		out.Every = spec.Every.String()
		out.ProbesPerDay = perDay / float64(spec.Every) * float64(spec.Probes) * float64(len(w.Paths))
		if !w.Paused {
			out.NextDueAt = utc(time.Now().Truncate(spec.Every).Add(spec.Every))
		}
	}
	const headers = 20 + 8 // IPv4 and ICMP
	out.BytesPerDay = out.ProbesPerDay * 2 * float64(spec.Payload+headers)
	runs, err := s.c.Store().Runs(ctx, store.RunFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return out, err
	}
	if len(runs) > 0 {
		r := s.runOf(runs[0])
		out.LastRun = &r
	}
	return out, nil
}
