package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/watches"
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
			for _, w := range s.watchesSeen(s.sight(ctx)) {
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
			w, err := s.c.Watches.Find(in.Watch)
			return s.answerWatch(ctx, w, err)
		})
	add := operation(http.MethodPost, "/watches", "add-watch", "Add a watch; it begins at once", "Watches", http.StatusConflict, http.StatusUnprocessableEntity)
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.WatchSpec]) (*body[apitype.Watch], error) {
		spec, err := SpecOf(in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		if err := s.mayWatch(ctx, spec); err != nil {
			return nil, err
		}
		w, err := s.c.Watches.Save(ctx, ident.ID{}, in.Body.Name, spec, in.Body.Paused)
		return s.answerWatch(ctx, w, err)
	})
	apply := operation(http.MethodPost, "/watches/apply", "apply-watches", "Bring watches to what is wanted, all of them or none; with show only say what would become, and what it would cost", "Watches", http.StatusConflict, http.StatusUnprocessableEntity)
	huma.Register(a, apply, func(ctx context.Context, in *body[apitype.WatchOrder]) (*body[apitype.WatchChanges], error) {
		out, err := s.applyWatches(ctx, in.Body)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.WatchChanges]{out}, nil
	})
	huma.Register(a, operation(http.MethodPut, "/watches/{watch}", "change-watch", "Change a watch", "Watches", http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *changeWatch) (*body[apitype.Watch], error) {
			old, err := s.c.Watches.Whole(in.Watch)
			if err != nil {
				return nil, s.problem(err)
			}
			spec, err := SpecOf(in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			if err := s.mayWatch(ctx, spec); err != nil {
				return nil, err
			}
			w, err := s.c.Watches.Save(ctx, old.ID, in.Body.Name, spec, in.Body.Paused)
			return s.answerWatch(ctx, w, err)
		})
	huma.Register(a, operation(http.MethodPatch, "/watches/{watch}", "pause-watch", "Pause a watch or let it go on", "Watches", http.StatusNotFound),
		func(ctx context.Context, in *pauseWatch) (*body[apitype.Watch], error) {
			w, err := s.c.Watches.Whole(in.Watch)
			if err == nil {
				w, err = s.c.Watches.SetPaused(ctx, w, in.Body.Paused)
			}
			return s.answerWatch(ctx, w, err)
		})
	remove := operation(http.MethodDelete, "/watches/{watch}", "remove-watch", "Remove a watch; what it measured stays", "Watches", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneWatch) (*struct{}, error) {
		w, err := s.c.Watches.Whole(in.Watch)
		if err == nil {
			err = s.c.Watches.Remove(ctx, w)
		}
		return nil, s.problem(err)
	})
}

// applyWatches brings watches to what is wanted, or says what would become.
func (s *server) applyWatches(ctx context.Context, in apitype.WatchOrder) (out apitype.WatchChanges, err error) {
	out.Changes = []apitype.WatchChange{}
	var list []watches.Wanted
	var errs []error
	for _, w := range in.Watches {
		spec, err := SpecOf(w)
		if err != nil {
			errs = append(errs, fmt.Errorf("watch %q: %w", cut(w.Name), err))
			continue
		}
		if err := s.mayApply(ctx, w.Name, spec); err != nil {
			return out, err
		}
		list = append(list, watches.Wanted{Name: w.Name, Spec: spec, Paused: w.Paused})
	}
	if err := errors.Join(errs...); err != nil {
		return out, err
	}
	changes, err := s.c.Watches.Apply(ctx, list, in.Show)
	if err != nil {
		return out, err
	}
	for _, c := range changes {
		x := apitype.WatchChange{What: "change", Differences: []apitype.WatchDifference{}}
		if x.After, err = s.watchOf(ctx, c.After); err != nil {
			return out, err
		}
		switch {
		case c.Same():
			x.What = "same"
		case c.Before == nil:
			x.What = "add"
			if in.Show {
				x.After.ID = ""
			}
		default:
			before, err := s.watchOf(ctx, *c.Before)
			if err != nil {
				return out, err
			}
			x.Before = &before
			if x.Differences, err = apitype.DifferencesOf(before.WatchSpec, x.After.WatchSpec); err != nil {
				return out, err
			}
		}
		out.Changes = append(out.Changes, x)
	}
	return out, nil
}

const lastRunsTime = 1500 * time.Millisecond

func (s *server) answerWatch(ctx context.Context, w watches.Watch, err error) (*body[apitype.Watch], error) {
	if err != nil {
		return nil, s.problem(err)
	}
	out, err := s.watchOf(ctx, w)
	if err != nil {
		return nil, s.problem(err)
	}
	return &body[apitype.Watch]{out}, nil
}

// SpecOf reads the spec of a watch.
func SpecOf(in apitype.WatchSpec) (watches.Spec, error) {
	k, err := kind.Find(kind.Or(in.Kind))
	if err != nil {
		return watches.Spec{}, err
	}
	every, repeated := in.Between()
	times, timed := in.Times()
	how, taken := k.Take(kind.Standing, in.How)
	out := watches.Spec{Kind: k.Name, From: in.From, To: in.To, Back: in.Back, Every: every, Times: times, Tags: in.Tags, Suspicion: in.Suspicion, DayBytes: in.DayBytes, How: how}
	errs := []error{repeated, timed, taken}
	for i, p := range in.Also {
		part, err := SpecOf(p.Watch())
		if err != nil {
			errs = append(errs, fmt.Errorf("%w: also, number %d: %s", kind.ErrInvalid, i+1, strings.TrimPrefix(err.Error(), kind.ErrInvalid.Error()+": ")))
		}
		out.Also = append(out.Also, watches.Part{Kind: part.Kind, Every: part.Every, Times: part.Times, How: part.How})
	}
	return out, errors.Join(errs...)
}

func cut(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

func (s *server) watchOf(ctx context.Context, w watches.Watch) (apitype.Watch, error) {
	spec := w.Spec
	own, err := fieldsOfWatch(spec)
	if err != nil {
		return apitype.Watch{}, err
	}
	own.Name, own.From, own.To, own.Back, own.Paused, own.Tags, own.Suspicion, own.DayBytes = w.Name, spec.From, spec.To, spec.Back, w.Paused, spec.Tags, spec.Suspicion, spec.DayBytes
	out := apitype.Watch{ID: w.ID.String(), WatchSpec: own}
	out.Every = out.Repeat
	now := time.Now()
	out.NextDueAt, out.Says = w.Due(now)
	paths := map[ident.ID]bool{}
	for i, each := range append([]*watches.Watch{&w}, w.Also...) {
		if i > 0 {
			part, err := fieldsOfWatch(each.Spec)
			if err != nil {
				return out, err
			}
			out.Also = append(out.Also, apitype.PartOf(part))
			if next, _ := each.Due(now); next != nil && (out.NextDueAt == nil || next.Before(*out.NextDueAt)) {
				out.NextDueAt = next
			}
		}
		for _, why := range s.c.Watches.Hindrances(each) {
			if !slices.Contains(out.Hindered, why) {
				out.Hindered = append(out.Hindered, why)
			}
		}
		s.addCost(&out.WatchState, each, paths, now)
	}
	runs, err := s.c.Store.Runs(ctx, store.RunFilter{Watches: w.IDs(), Page: store.Page{Limit: 1}})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return out, err
	}
	if len(runs) > 0 {
		r := s.runOf(runs[0])
		out.LastRun = &r
	}
	return out, nil
}

// fieldsOfWatch are what is measured by a spec, and when.
func fieldsOfWatch(spec watches.Spec) (out apitype.WatchSpec, err error) {
	k, err := kind.Find(kind.Or(spec.Kind))
	if err != nil {
		return out, err
	}
	out.Kind, out.How = k.Name, spec.Values()
	out.At(spec.Times)
	if spec.Every > 0 {
		out.Repeat = spec.Every.String()
	}
	return out, nil
}

// addCost adds what a measurement of a watch costs; paths are those that were counted already.
func (s *server) addCost(out *apitype.WatchState, w *watches.Watch, paths map[ident.ID]bool, now time.Time) {
	spec := w.Spec
	k, err := kind.Find(kind.Or(spec.Kind))
	if err != nil {
		return
	}
	sizes := s.c.Watches.Sizes(w)
	n := len(w.Paths)
	if !k.Paths {
		for _, to := range sizes {
			n += len(k.Lanes(spec.How).Split(to))
		}
	}
	for _, id := range w.Paths {
		if id.IsZero() || !paths[id] {
			out.Paths++
		}
		paths[id] = true
	}
	out.Paths += n - len(w.Paths)
	day := float64(24 * time.Hour)
	times := w.PerDay(now) // of the cost of a run a day
	if k.Cost != nil {
		var c kind.Cost
		for _, to := range sizes {
			one := k.Cost(spec.How, to)
			c.Packets, c.Bytes = c.Packets+one.Packets, c.Bytes+one.Bytes
		}
		if e, ok := spec.How.(interface{ Endless() kind.Endless }); ok && spec.Continuous() && c.Packets > 0 {
			probes := day / float64(e.Endless().Interval) * float64(len(w.Paths)) * w.PerDay(now)
			c.Bytes, c.Packets, times = c.Bytes/c.Packets*probes, probes, 1
		}
		out.ProbesPerDay, out.BytesPerDay = out.ProbesPerDay+c.Packets*times, out.BytesPerDay+c.Bytes*times
	}
	rows := float64(n) * w.PerDay(now)
	switch {
	case spec.Continuous(): // a reading a minute
		rows *= 24 * 60
	case k.Paths: // a run and its reading
		rows *= 2
	}
	out.RowsPerDay += rows
	if k.Load {
		out.LoadPerDay += float64(n) * w.PerDay(now) * k.Guest(spec.How).Whole.Seconds()
	}
}
