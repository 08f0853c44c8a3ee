package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
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
		func(ctx context.Context, in *listPaths) (*body[[]apitype.Baseline], error) {
			out := []apitype.Baseline{}
			for _, v := range s.c.Views(in.filter(s.sight(ctx))) {
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
					return nil, s.problem(fmt.Errorf("%w: last %q is not a span of time above zero, such as 24h", kind.ErrInvalid, cut(in.Body.Last)))
				}
			}
			if _, err := s.c.Paths.TakeBaseline(ctx, id, last, in.Body.Pin); err != nil {
				return nil, s.problem(err)
			}
			return s.answerBaseline(id)
		})
	huma.Register(a, operation(http.MethodPatch, "/paths/{id}/baseline", "pin-baseline", "Pin a path's baseline, or let it roll", "Baselines", http.StatusNotFound),
		func(ctx context.Context, in *pinBaseline) (*body[apitype.Baseline], error) {
			id, err := parseID(in.ID)
			if err == nil {
				err = s.c.Paths.PinBaseline(ctx, id, in.Body.Pinned)
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
	for _, m := range baseline.Measures() {
		model := v.Baseline.Models[m]
		if model == nil {
			continue
		}
		one := apitype.BaselineMeasure{Measure: m.String(), Unit: string(m.Unit()), Days: model.Days, Readings: model.Readings, Week: []apitype.Band{}, Recurs: []apitype.Recurrence{}}
		overall, _ := v.Baseline.Overall(m)
		one.Overall = bandOf(overall)
		for _, n := range v.Baseline.Hours(m) {
			one.Week = append(one.Week, bandOf(n))
		}
		for _, r := range s.c.Paths.Recurrences(id, m) {
			one.Recurs = append(one.Recurs, apitype.Recurrence{Weekdays: weekdaysOf(r.Weekdays), From: clock(r.From), To: clock(r.To), Shift: fine(r.Shift)})
		}
		b.Measures = append(b.Measures, one)
		if m == baseline.RTT && model.Days >= 2 {
			for h := range 24 {
				band := one.Week[int(time.Wednesday)*24+h]
				b.Hours = append(b.Hours, apitype.Hour{Hour: h, RTTMs: &band})
			}
		}
	}
	return &body[apitype.Baseline]{b}, nil
}

type storedBaseline struct {
	ID       string   `path:"id"`
	Baseline string   `query:"baseline" doc:"Identifier of a stored one; the one in use when left out"`
	Measure  []string `query:"measure" doc:"Some measures only, with commas between"`
}

type importBaseline struct {
	ID      string   `path:"id"`
	Pin     bool     `query:"pin" doc:"Keep it until it is changed"`
	Measure []string `query:"measure" doc:"Some measures only: of the others what was normal stays so"`
	Body    apitype.BaselineFile
}

type compareBaselines struct {
	ID    string `path:"id"`
	A     string `query:"a" doc:"Identifier of a stored baseline of the path; the one in use when left out"`
	B     string `query:"b" doc:"Likewise; b, or other, says with what"`
	Other string `query:"other" doc:"Identifier of another path, whose baseline in use it is compared with"`
}

type acceptLevel struct {
	ID   string `path:"id"`
	Body apitype.Acceptance
}

func measuresOf(names []string) (list []baseline.Measure, err error) {
	for _, n := range names {
		var m baseline.Measure
		if err := m.UnmarshalText([]byte(n)); err != nil {
			return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
		}
		list = append(list, m)
	}
	return list, nil
}

const baselineForm = "woodlark-baseline-1"

// registerStoredBaselines registers what is done with baselines that are kept.
func (s *server) registerStoredBaselines(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/baselines", "list-stored-baselines", "The baselines that are kept of a path, newest first", "Baselines", http.StatusNotFound),
		func(ctx context.Context, in *onePath) (*body[[]apitype.StoredBaseline], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			list, err := s.c.Paths.Baselines(ctx, id)
			if err != nil {
				return nil, s.problem(err)
			}
			out := make([]apitype.StoredBaseline, len(list))
			for i, b := range list {
				out[i] = apitype.StoredBaseline{ID: b.ID.String(), TakenAt: b.TakenAt.UTC(), Pinned: b.Pinned, InUse: b.InUse, Readings: b.Readings}
			}
			return &body[[]apitype.StoredBaseline]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/baseline/file", "export-baseline", "A path's baseline as a file, to be kept or imported elsewhere", "Baselines", http.StatusNotFound, http.StatusUnprocessableEntity), s.exportBaseline)
	huma.Register(a, operation(http.MethodPut, "/paths/{id}/baseline/file", "import-baseline", "Give a path the baseline of a file", "Baselines", http.StatusNotFound, http.StatusUnprocessableEntity), s.importBaseline)
	huma.Register(a, operation(http.MethodPost, "/paths/{id}/baseline/roll", "roll-baseline", "Learn a path's baseline anew from the training window, and let it roll", "Baselines", http.StatusNotFound),
		func(ctx context.Context, in *onePath) (*body[apitype.Baseline], error) {
			id, err := parseID(in.ID)
			if err == nil {
				err = s.c.Paths.RollBaseline(ctx, id)
			}
			if err != nil {
				return nil, s.problem(err)
			}
			return s.answerBaseline(id)
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/baseline/differences", "compare-baselines", "What differs between two baselines, by measure", "Baselines", http.StatusNotFound, http.StatusUnprocessableEntity), s.compareBaselines)
	huma.Register(a, operation(http.MethodPost, "/paths/{id}/accept", "accept-level", "Take what a path has come to for normal: a new level, or that to which it crept", "Baselines", http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *acceptLevel) (*body[apitype.Path], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			var names []string
			if in.Body.Measure != "" {
				names = []string{in.Body.Measure}
			}
			list, err := measuresOf(names)
			if err == nil {
				err = s.c.Paths.Accept(ctx, id, guard.PropertyKind(in.Body.Kind), list)
			}
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := s.c.View(id)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Path]{pathOf(v, s.c.Zone(), time.Now(), false)}, nil
		})
}

// aBaseline is a stored baseline of a path, or the one in use when its identifier is empty.
func (s *server) aBaseline(ctx context.Context, path ident.ID, which string) (*baseline.Baseline, error) {
	if which == "" {
		v, err := s.c.View(path)
		if err == nil && v.Baseline == nil {
			err = fmt.Errorf("path %s has no baseline yet: %w", path, store.ErrNotFound)
		}
		return v.Baseline, err
	}
	id, err := parseID(which)
	if err != nil {
		return nil, err
	}
	return s.c.Paths.StoredBaseline(ctx, path, id)
}

func (s *server) exportBaseline(ctx context.Context, in *storedBaseline) (*body[apitype.BaselineFile], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	only, err := measuresOf(in.Measure)
	if err != nil {
		return nil, s.problem(err)
	}
	b, err := s.aBaseline(ctx, id, in.Baseline)
	if err != nil {
		return nil, s.problem(err)
	}
	if len(only) > 0 {
		b = b.Only(only...)
	}
	agent, path, err := s.c.Paths.Ends(id)
	if err != nil {
		return nil, s.problem(err)
	}
	data, err := s.c.Paths.WriteBaseline(id, b)
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[apitype.BaselineFile]{apitype.BaselineFile{Form: baselineForm, From: agent.Name, To: path.Target, Family: int(path.Family), Via: path.Via, Baseline: data}}, nil
}

func (s *server) importBaseline(ctx context.Context, in *importBaseline) (*body[apitype.Baseline], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	only, err := measuresOf(in.Measure)
	if err != nil {
		return nil, s.problem(err)
	}
	var b baseline.Baseline
	if err := json.Unmarshal(in.Body.Baseline, &b); err != nil {
		return nil, s.problem(fmt.Errorf("%w: baseline: %w", kind.ErrInvalid, err))
	}
	if err := s.c.Paths.ImportBaseline(ctx, id, &b, only, in.Pin); err != nil {
		return nil, s.problem(err)
	}
	return s.answerBaseline(id)
}

func (s *server) compareBaselines(ctx context.Context, in *compareBaselines) (*body[[]apitype.Difference], error) {
	id, err := parseID(in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	other := id
	switch {
	case in.Other != "":
		if other, err = parseID(in.Other); err != nil {
			return nil, s.problem(err)
		}
	case in.A == in.B:
		return nil, s.problem(fmt.Errorf("%w: say with b or other what the baseline is compared with", kind.ErrInvalid))
	}
	x, err := s.aBaseline(ctx, id, in.A)
	if err != nil {
		return nil, s.problem(err)
	}
	y, err := s.aBaseline(ctx, other, in.B)
	if err != nil {
		return nil, s.problem(err)
	}
	out := []apitype.Difference{}
	for _, d := range baseline.Compare(x, y) {
		out = append(out, apitype.Difference{Measure: d.Measure.String(), Unit: string(d.Measure.Unit()), A: bandOf(d.A), B: bandOf(d.B), Weekday: d.Weekday.String(), Hour: d.Hour,
			WorstA: bandOf(d.WorstA), WorstB: bandOf(d.WorstB), Differs: d.Differs})
	}
	return &body[[]apitype.Difference]{out}, nil
}
