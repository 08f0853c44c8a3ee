package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/comparisons"
	"woodlark.example/internal/store"
)

// compared names the two ends: each a run, or a path with a span.
type compared struct {
	ARun  string    `query:"a_run" doc:"Identifier of a run"`
	APath string    `query:"a_path" doc:"Identifier of a path, instead of a run"`
	AFrom time.Time `query:"a_from" doc:"Of a path: readings from this time on"`
	ATo   time.Time `query:"a_to" doc:"Of a path: and before this one"`
	BRun  string    `query:"b_run" doc:"The same of the other end"`
	BPath string    `query:"b_path"`
	BFrom time.Time `query:"b_from"`
	BTo   time.Time `query:"b_to"`
}

func (s *server) registerComparisons(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/compare", "compare", "Two runs, two paths, or a path at two moments beside each other: which figures surely differ, and by how much", "Reports", http.StatusUnprocessableEntity, http.StatusNotFound),
		func(ctx context.Context, in *compared) (*body[apitype.SideBySide], error) {
			one, err := end(in.ARun, in.APath, in.AFrom, in.ATo)
			if err != nil {
				return nil, s.problem(err)
			}
			two, err := end(in.BRun, in.BPath, in.BFrom, in.BTo)
			if err != nil {
				return nil, s.problem(err)
			}
			if err := s.seesEnds(ctx, one, two); err != nil {
				return nil, s.problem(err)
			}
			out, err := s.c.Comparisons.Of(ctx, one, two)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.SideBySide]{apitype.SideBySide(out)}, nil
		})
}

func end(run, path string, from, to time.Time) (e comparisons.End, err error) {
	for _, x := range []struct {
		text string
		into *ident.ID
	}{{run, &e.Run}, {path, &e.Path}} {
		if x.text == "" {
			continue
		}
		if *x.into, err = parseID(x.text); err != nil {
			return e, err
		}
	}
	e.From, e.To = from, to
	return e, nil
}

// seesEnds says whether what is compared is seen by who calls.
func (s *server) seesEnds(ctx context.Context, ends ...comparisons.End) error {
	see := s.sight(ctx)
	if see.All() {
		return nil
	}
	for _, e := range ends {
		if !e.Run.IsZero() {
			if err := s.seesOther(ctx, e.Run.String()); err != nil {
				return err
			}
		}
		if !e.Path.IsZero() && !see.PathID(e.Path) {
			return fmt.Errorf("path %s: %w", e.Path, store.ErrNotFound)
		}
	}
	return nil
}
