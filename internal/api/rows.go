package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service"
)

type listRows struct {
	FilterOfPaths
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"20000" default:"50"`
}

// RowList is a part of the rows of paths.
type RowList struct {
	Rows  []apitype.PathRow `json:"rows" nullable:"false"`
	Total int               `json:"total" doc:"Of all parts"`
}

type listSketches struct {
	IDs []string `query:"ids" required:"true" minItems:"1" maxItems:"200" doc:"Of paths, with commas between"`
}

func (s *server) registerRows(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/paths/rows", "list-path-rows", "What a list of paths shows of each, worst first: a page of 'list-paths' in a tenth of its bytes", "Paths"),
		func(ctx context.Context, in *listRows) (*body[RowList], error) {
			views, total := s.c.Page(in.filter(s.sight(ctx)), in.Offset, in.Limit)
			out := RowList{Total: total, Rows: make([]apitype.PathRow, 0, len(views))}
			for _, v := range views {
				out.Rows = append(out.Rows, rowOf(v))
			}
			return &body[RowList]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/choices", "list-path-choices", "By what paths can be selected: each site, agent and tag that one of them has", "Paths"),
		func(ctx context.Context, in *FilterOfPaths) (*body[apitype.PathChoices], error) {
			c := s.c.Choices(in.filter(s.sight(ctx)))
			return &body[apitype.PathChoices]{apitype.PathChoices{Sites: orEmpty(c.Sites), Agents: orEmpty(c.Agents), Tags: orEmpty(c.Tags), Throughput: c.Throughput}}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/sketches", "list-path-sketches", "The last day of some paths in small, by their ids; those that there are none of any more are left out", "Paths"),
		func(ctx context.Context, in *listSketches) (*body[map[string]apitype.Sketch], error) {
			see, now := s.sight(ctx), time.Now()
			var ids []ident.ID
			for _, text := range in.IDs {
				id, err := parseID(text)
				if err != nil {
					return nil, s.problem(err)
				}
				if see.PathID(id) {
					ids = append(ids, id)
				}
			}
			out := map[string]apitype.Sketch{}
			for _, v := range s.c.Some(ids) {
				out[v.ID.String()] = sketchOf(v, now)
			}
			return &body[map[string]apitype.Sketch]{out}, nil
		})
}

// rowOf is what a list shows of a path. Its sentence is that of what it keeps to where it is steady
// and there is such, and else the headline; what is worse is held against what was normal before,
// also when it has become a new level meanwhile.
func rowOf(v service.View) apitype.PathRow {
	r := apitype.PathRow{ID: v.ID.String(), From: v.Agent.Name, To: v.Target, Family: int(v.Family), Via: v.Via, State: string(v.Verdict.State), SinceAt: utc(v.Verdict.Since)}
	if n := len(v.Findings); n > 0 {
		r.Sentence = v.Findings[0].Sentence
		if v.Rhythm() != nil && v.Verdict.State == guard.StateSteady {
			r.Sentence = v.Findings[n-1].Sentence
		}
	}
	if t := v.Throughput; t != nil {
		r.Throughput = &apitype.Carries{At: t.At.UTC(), To: t.To, There: carriesOf(t.There), Back: carriesOf(t.Back)}
	}
	if v.Last != nil {
		figures := v.Last.Reading.Figures()
		r.RTTMs, r.LossRatio = figures.RTTMedianMs, figures.LossRatio
		if n, ok := v.Baseline.At(baseline.RTT, v.Last.Reading.At); ok {
			band := bandOf(n)
			r.NormalLowMs, r.NormalHighMs = &band.Low, &band.High
		}
		if n, ok := v.Baseline.At(baseline.Loss, v.Last.Reading.At); ok {
			median := fine(n.Expected)
			r.NormalLoss = &median
		}
	}
	var worse [2]bool // the first counts
	for _, o := range v.Open {
		for _, x := range excessesOf(o.Excesses) {
			switch {
			case x.Measure == baseline.RTT.String() && !worse[0]:
				r.NormalLowMs, r.NormalHighMs, worse[0] = &x.Low, &x.High, true
			case x.Measure == baseline.Loss.String() && !worse[1]:
				r.NormalLoss, worse[1] = &x.Normal, true
			}
		}
	}
	return r
}
