package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

type takeBaseline struct {
	ID   string `path:"id"`
	Body struct {
		Last string `json:"last,omitempty" doc:"How far back, such as 24h; the training window when left out"`
		Pin  bool   `json:"pin,omitempty" doc:"Keep it until it is changed"`
	}
}

type pinBaseline struct {
	ID   string `path:"id"`
	Body struct {
		Pinned bool `json:"pinned"`
	}
}

func (s *server) registerBaselines(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/baselines", "list-baselines", "The baseline of each watched path", "Baselines"),
		func(_ context.Context, in *listPaths) (*body[[]apitype.Baseline], error) {
			out := []apitype.Baseline{}
			for _, v := range s.c.Views(in.filter()) {
				if v.Baseline != nil {
					out = append(out, baselineOf(v))
				}
			}
			return &body[[]apitype.Baseline]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/baseline", "get-baseline", "A path's baseline by hour", "Baselines", http.StatusNotFound),
		func(_ context.Context, in *onePath) (*body[apitype.Baseline], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.answerBaseline(id)
		})
	huma.Register(a, operation(http.MethodPost, "/paths/{id}/baseline", "take-baseline", "Take a path's baseline anew from its last readings", "Baselines", http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *takeBaseline) (*body[apitype.Baseline], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			var last time.Duration
			if in.Body.Last != "" {
				if last, err = time.ParseDuration(in.Body.Last); err != nil || last <= 0 {
					return nil, s.problem(fmt.Errorf("%w: last %q is not a span of time above zero, such as 24h", controller.ErrInvalid, cut(in.Body.Last)))
				}
			}
			if _, err := s.c.TakeBaseline(ctx, id, last, in.Body.Pin); err != nil {
				return nil, s.problem(err)
			}
			return s.answerBaseline(id)
		})
	huma.Register(a, operation(http.MethodPatch, "/paths/{id}/baseline", "pin-baseline", "Pin a path's baseline, or let it roll", "Baselines", http.StatusNotFound),
		func(ctx context.Context, in *pinBaseline) (*body[apitype.Baseline], error) {
			id, err := parseID(in.ID)
			if err == nil {
				err = s.c.PinBaseline(ctx, id, in.Body.Pinned)
			}
			if err != nil {
				return nil, s.problem(err)
			}
			return s.answerBaseline(id)
		})
}

func (s *server) answerBaseline(id ident.ID) (*body[apitype.Baseline], error) {
	v, err := s.c.View(id)
	if err != nil {
		return nil, s.problem(err)
	}
	if v.Baseline == nil {
		return nil, s.problem(fmt.Errorf("path %s has no baseline yet: it needs %d readings: %w", id, baseline.MinReadings, store.ErrNotFound))
	}
	b := baselineOf(v)
	for h := range 24 {
		if n := v.Baseline.Profiles[baseline.RTT].Day[h]; n != nil {
			b.Hours = append(b.Hours, apitype.Hour{Hour: h, RTTMs: bandOf(n)})
		}
	}
	return &body[apitype.Baseline]{b}, nil
}
