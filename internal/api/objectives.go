package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/core/objective"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/objectives"
)

type oneObjective struct {
	Objective string `path:"objective"`
}

type fitnessOf struct {
	ID        string    `path:"id"`
	From      time.Time `query:"from_at" doc:"A day ago when left out"`
	To        time.Time `query:"to_at" doc:"Now when left out"`
	Objective string    `query:"objective" required:"true" doc:"Name of an objective"`
}

func (s *server) registerObjectives(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/objectives", "list-objectives", "Objectives: the ready-made ones (ITU-T Y.1541), then those of one's own", "Objectives"),
		func(context.Context, *struct{}) (*body[[]apitype.Objective], error) {
			out := []apitype.Objective{}
			for _, o := range s.c.Objectives.All() {
				out = append(out, objectiveOf(o))
			}
			return &body[[]apitype.Objective]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/objectives/{objective}", "get-objective", "One objective", "Objectives", http.StatusNotFound),
		func(_ context.Context, in *oneObjective) (*body[apitype.Objective], error) {
			o, err := s.c.Objectives.Find(in.Objective)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Objective]{objectiveOf(o)}, nil
		})
	add := operation(http.MethodPost, "/objectives", "add-objective", "Add an objective, or replace one of one's own", "Objectives")
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.Objective]) (*body[apitype.Objective], error) {
		o := objectives.Objective{Name: in.Body.Name, Source: in.Body.Source, Limits: objective.Limits{}}
		for m, v := range in.Body.Limits {
			o.Limits[objective.Measure(m)] = v
		}
		if err := s.c.Objectives.Save(ctx, o); err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Objective]{objectiveOf(o)}, nil
	})
	remove := operation(http.MethodDelete, "/objectives/{objective}", "remove-objective", "Remove an objective of one's own", "Objectives", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneObjective) (*struct{}, error) {
		return nil, s.problem(s.c.Objectives.Remove(ctx, in.Objective))
	})
	huma.Register(a, operation(http.MethodGet, "/paths/{id}/fitness", "get-fitness", "How much of a time a path was within an objective, and what cost most of it", "Objectives", http.StatusNotFound),
		func(ctx context.Context, in *fitnessOf) (*body[apitype.Fitness], error) {
			id, err := parseID(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			from, to := spanOfPath{From: in.From, To: in.To}.span()
			out, err := s.fitness(ctx, id, in.Objective, from, to)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[apitype.Fitness]{out}, nil
		})
}

func objectiveOf(o objectives.Objective) apitype.Objective {
	out := apitype.Objective{Name: o.Name, Source: o.Source, Limits: map[string]float64{}, Ready: o.Ready}
	for m, v := range o.Limits {
		out.Limits[string(m)] = v
	}
	return out
}

// fitness holds a path against an objective, and finds what is told of the times that cost most.
func (s *server) fitness(ctx context.Context, id ident.ID, name string, from, to time.Time) (out apitype.Fitness, err error) {
	agent, path, err := s.c.Paths.Ends(id)
	if err != nil {
		return out, err
	}
	o, f, err := s.c.Objectives.Fitness(ctx, id, name, from, to)
	if err != nil {
		return out, err
	}
	out = apitype.Fitness{PathID: id.String(), From: agent.Name, To: path.Target, Family: int(path.Family), Via: path.Via, Objective: o.Name, FromAt: from.UTC(), ToAt: to.UTC(),
		MeasuredS: f.Measured.Seconds(), WithinS: f.Within.Seconds(), Lines: []apitype.FitnessLine{}, Worst: []apitype.FitnessSpan{}}
	if v, ok := f.Share(); ok {
		out.Share = &v
	}
	for _, l := range f.Lines {
		x := apitype.FitnessLine{Measure: string(l.Measure), Limit: l.Limit, AtLeast: l.Measure.AtLeast(), Median: l.Median, Mean: l.Mean, Worst: l.Worst, Met: l.Met}
		if l.Measured > 0 {
			v := float64(l.Within) / float64(l.Measured)
			x.Share = &v
		}
		out.Lines = append(out.Lines, x)
	}
	out.Steps = stepsOf(f.Steps)
	episodes, err := s.episodes(ctx, id, from, to)
	if err != nil {
		return out, err
	}
	for _, w := range f.Worst {
		x := apitype.FitnessSpan{FromAt: w.From.UTC(), ToAt: w.To.UTC(), Measure: string(w.Measure), Value: w.Worst, CostS: w.Cost.Seconds()}
		for _, e := range episodes {
			if e.FromAt.Before(w.To) && (e.ToAt == nil || e.ToAt.After(w.From)) && len(e.Findings) > 0 {
				x.Sentence, x.Advice = e.Findings[0].Sentence, e.Findings[0].Advice
				break
			}
		}
		if x.Sentence == "" {
			x.Sentence, x.Advice = s.usualThen(id, w)
		}
		out.Worst = append(out.Worst, x)
	}
	return out, nil
}

func stepsOf(list []objective.Step) []apitype.FitnessStep {
	out := make([]apitype.FitnessStep, len(list))
	for i, x := range list {
		step := apitype.FitnessStep{FromAt: x.At.UTC(), SpanS: x.Span.Seconds(), Mean: map[string]float64{}, Worst: map[string]float64{}}
		if x.Measured > 0 {
			v := float64(x.Within) / float64(x.Measured)
			step.Share = &v
		}
		for m, v := range x.Mean {
			step.Mean[string(m)], step.Worst[string(m)] = v, x.Worst[m]
		}
		out[i] = step
	}
	return out
}

// usualThen is what is told of a path that is worse at that time as a rule: what comes back each
// day or week, and new levels.
func (s *server) usualThen(id ident.ID, w objective.Stretch) (sentence, advice string) {
	v, err := s.c.View(id)
	if err != nil {
		return "", ""
	}
	zone := s.c.Zone()
	for _, p := range v.Properties {
		if !p.EndedAt.IsZero() && p.EndedAt.Before(w.From) || p.Since.After(w.To) || !comesAt(p, w.From.Add(w.To.Sub(w.From)/2).In(zone)) {
			continue
		}
		f := finding.OfProperty(p, zone)
		return f.Sentence, f.Advice
	}
	return "", ""
}

// comesAt reports whether what a property is of is there at a time.
func comesAt(p guard.Property, local time.Time) bool {
	if p.Kind != guard.Daily && p.Kind != guard.Weekly {
		return true
	}
	minute := local.Hour()*60 + local.Minute()
	if p.From <= p.To && (minute < p.From || minute > p.To) || p.From > p.To && minute < p.From && minute > p.To {
		return false
	}
	return p.Kind == guard.Daily || p.Weekdays == 0 || p.Weekdays&(1<<local.Weekday()) != 0
}
