package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/guard"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/sight"
)

// FilterOfPaths is which paths a list takes: all conditions together.
type FilterOfPaths struct {
	State  []string `query:"state" enum:"steady,degraded,lost,unmeasured" doc:"One or more, with commas between"`
	Site   string   `query:"site" doc:"Of the agent or of the target"`
	Agent  string   `query:"agent"`
	Tag    string   `query:"tag"`
	Search string   `query:"search" doc:"In the names of agent, target and sites"`
	All    bool     `query:"all" doc:"Those too that no watch measures"`
}

func (l FilterOfPaths) filter(see *sight.Sight) service.Filter {
	var states []guard.State
	for _, x := range l.State {
		states = append(states, guard.State(x))
	}
	return service.Filter{States: states, Site: l.Site, Agent: l.Agent, Tag: l.Tag, Search: l.Search, All: l.All, Sight: see}
}

type listPaths struct {
	FilterOfPaths
	Trace  bool `query:"trace" doc:"With the last day in small"`
	Offset int  `query:"offset" minimum:"0"`
	Limit  int  `query:"limit" minimum:"1" maximum:"20000" default:"1000"`
}

// PathList is a page of paths.
type PathList struct {
	Paths []apitype.Path `json:"paths"`
	Total int            `json:"total" doc:"Of all pages"`
}

type body[T any] struct{ Body T }

type onePath struct {
	ID string `path:"id"`
}

type spanOfPath struct {
	ID   string    `path:"id"`
	From time.Time `query:"from_at" doc:"A day ago when left out"`
	To   time.Time `query:"to_at" doc:"Now when left out"`
}

func (in spanOfPath) span() (time.Time, time.Time) {
	if in.To.IsZero() {
		in.To = time.Now()
	}
	if in.From.IsZero() {
		in.From = in.To.Add(-24 * time.Hour)
	}
	return in.From, in.To
}

type readingsOfPath struct {
	ID    string    `path:"id"`
	From  time.Time `query:"from_at" doc:"A day ago when left out"`
	To    time.Time `query:"to_at" doc:"Now when left out"`
	Limit int       `query:"limit" minimum:"1" maximum:"50000" default:"1500"`
}

// ReadingList is a page of readings.
type ReadingList struct {
	Readings []apitype.Reading `json:"readings"`
	NextFrom *time.Time        `json:"next_from_at" doc:"from_at of the next page; null at the end"`
}

func (s *server) registerPaths(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/paths", "list-paths", "All paths, worst first", "Paths"),
		func(ctx context.Context, in *listPaths) (*body[PathList], error) {
			now := time.Now()
			views, total := s.c.Page(in.filter(s.sight(ctx)), in.Offset, in.Limit)
			out := PathList{Total: total, Paths: []apitype.Path{}}
			for _, v := range views {
				out.Paths = append(out.Paths, pathOf(v, s.c.Zone(), now, in.Trace))
			}
			return &body[PathList]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}", "get-path", "One path", "Paths", http.StatusNotFound),
		func(_ context.Context, in *onePath) (*body[apitype.Path], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			v, err := s.c.View(id)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Path]{pathOf(v, s.c.Zone(), time.Now(), false)}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/series", "get-series", "A path's figures along time, as fine as the span allows", "Paths", http.StatusNotFound),
		func(ctx context.Context, in *spanOfPath) (*body[apitype.Series], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			from, to := in.span()
			out, err := s.series(ctx, id, from, to)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Series]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/readings", "list-readings", "A path's stored readings, oldest first", "Paths", http.StatusNotFound),
		func(ctx context.Context, in *readingsOfPath) (*body[ReadingList], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			if _, err := s.c.View(id); err != nil {
				return nil, s.problem(err)
			}
			from, to := spanOfPath{From: in.From, To: in.To}.span()
			records, err := s.c.Store.Readings(ctx, id, from, to, in.Limit+1, false)
			if err != nil {
				return nil, s.problem(err)
			}
			out := ReadingList{Readings: []apitype.Reading{}}
			if len(records) > in.Limit {
				out.NextFrom = utc(records[in.Limit].Reading.At)
				records = records[:in.Limit]
			}
			for i := range records {
				out.Readings = append(out.Readings, *readingOf(&records[i]))
			}
			return &body[ReadingList]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/episodes", "list-episodes", "A path's episodes, oldest first", "Paths", http.StatusNotFound),
		func(ctx context.Context, in *spanOfPath) (*body[[]apitype.Episode], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			from, to := in.span()
			list, err := s.episodes(ctx, id, from, to)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[[]apitype.Episode]{list}, nil
		})
}
