// Package objectives keeps objectives of one's own beside the ready-made ones, and holds what is
// stored of a path against them.
//
//	f, err := x.Fitness(ctx, path, "voice", from, to)
package objectives

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/objective"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
)

// Objective is a named set of limits.
type Objective struct {
	Name   string           `json:"-"`
	Source string           `json:"source,omitempty"` // where the limits come from
	Limits objective.Limits `json:"limits"`
	Ready  bool             `json:"-"` // ready-made: it can be neither changed nor removed
}

// Objectives are all objectives. It is safe for concurrent use.
type Objectives struct {
	store   *store.Store
	notices *notices.Notices
	mu      sync.RWMutex
	own     []Objective
}

const (
	mostOwn = 500
	// steps is in how many a time is shown.
	steps = 96
	// mostSpan is the longest time that is held against an objective.
	mostSpan = 93 * 24 * time.Hour
)

var name = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,49}$`)

// New is the ready-made ones.
func New(s *store.Store, n *notices.Notices) *Objectives { return &Objectives{store: s, notices: n} }

// Load takes up those of one's own.
func (x *Objectives) Load(ctx context.Context) error {
	rows, err := x.store.Objectives(ctx)
	if err != nil {
		return err
	}
	list := make([]Objective, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Body), &list[i]); err != nil {
			return fmt.Errorf("read objective %q: %w", r.Name, err)
		}
		list[i].Name = r.Name
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.own = list
	return nil
}

// All are the ready-made ones and then those of one's own, by name.
func (x *Objectives) All() (list []Objective) {
	for _, o := range objective.All() {
		list = append(list, Objective{o.Name, o.Source, o.Limits(), true})
	}
	x.mu.RLock()
	defer x.mu.RUnlock()
	return append(list, x.own...)
}

// Find is the objective of a name; the error, which wraps store.ErrNotFound, says which there
// are.
func (x *Objectives) Find(what string) (Objective, error) {
	all := x.All()
	names := make([]string, len(all))
	for i, o := range all {
		if o.Name == what {
			return o, nil
		}
		names[i] = o.Name
	}
	return Objective{}, fmt.Errorf("there is no objective %q; there are %s: %w", kind.Shorten(what), strings.Join(names, ", "), store.ErrNotFound)
}

// Save adds an objective, or replaces one of one's own; the error wraps kind.ErrInvalid.
func (x *Objectives) Save(ctx context.Context, o Objective) error {
	if !name.MatchString(o.Name) {
		return fmt.Errorf("%w: %q is no name for an objective: small letters, digits and dashes, 50 at most", kind.ErrInvalid, kind.Shorten(o.Name))
	}
	if _, err := objective.Find(o.Name); err == nil {
		return fmt.Errorf("%w: %q is a ready-made objective; choose another name", kind.ErrInvalid, o.Name)
	}
	if err := o.Limits.Check(); err != nil {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	if len(o.Source) > 200 {
		return fmt.Errorf("%w: the source has %d bytes; 200 at most are kept", kind.ErrInvalid, len(o.Source))
	}
	was, err := x.Find(o.Name)
	if err != nil && len(x.All()) >= mostOwn {
		return fmt.Errorf("%w: there are %d objectives, as many as may be", kind.ErrInvalid, mostOwn)
	}
	body, err2 := json.Marshal(o)
	if err2 != nil {
		return err2
	}
	if err := x.store.SaveObjective(ctx, store.Objective{ID: ident.New(), Name: o.Name, Body: string(body), CreatedAt: time.Now().UTC()}); err != nil {
		return err
	}
	x.mu.Lock()
	x.own = append(slices.DeleteFunc(slices.Clone(x.own), func(p Objective) bool { return p.Name == o.Name }), o)
	slices.SortFunc(x.own, func(a, b Objective) int { return strings.Compare(a.Name, b.Name) })
	x.mu.Unlock()
	what, before := "objective_changed", any(was)
	if err != nil {
		what, before = "objective_added", nil
	}
	x.notices.Changed(ctx, what, o.Name, before, o)
	return nil
}

// Remove removes an objective of one's own; the error wraps store.ErrNotFound.
func (x *Objectives) Remove(ctx context.Context, what string) error {
	o, err := x.Find(what)
	switch {
	case err != nil:
		return err
	case o.Ready:
		return fmt.Errorf("%w: %q is a ready-made objective, which stays", kind.ErrInvalid, what)
	}
	if err := x.store.DeleteObjective(ctx, what); err != nil {
		return err
	}
	x.mu.Lock()
	x.own = slices.DeleteFunc(slices.Clone(x.own), func(p Objective) bool { return p.Name == what })
	x.mu.Unlock()
	x.notices.Changed(ctx, "objective_removed", what, o, nil)
	return nil
}

// Fitness holds what is stored of a path against an objective.
func (x *Objectives) Fitness(ctx context.Context, path ident.ID, what string, from, to time.Time) (o Objective, f objective.Fitness, err error) {
	if o, err = x.Find(what); err != nil {
		return o, f, err
	}
	if !to.After(from) || to.Sub(from) > mostSpan {
		return o, f, fmt.Errorf("%w: from %s to %s is not a stretch of time of up to %d days", kind.ErrInvalid, from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339), int(mostSpan.Hours()/24))
	}
	records, err := x.store.Readings(ctx, path, from, to, 0, false)
	if err != nil {
		return o, f, err
	}
	var list []objective.Sample
	for _, r := range records {
		if r.Reading.Sent > 0 {
			list = append(list, sampleOf(r.Reading.Figures().RTTMeanMs, r.Reading.Figures().RTTMinMs, r.Reading.Figures().RTTP99Ms, r.Reading.Figures().JitterMs, r.Reading.Answered, r.Reading.Lost, r.Reading.Sent, r.Reading.At, r.Reading.Span))
		}
	}
	figures, err := x.store.FiguresOfPath(ctx, path, from, to)
	if err != nil {
		return o, f, err
	}
	list = append(list, samplesOf(figures)...)
	f = o.Limits.Over(list, from, to)
	f.Steps = o.Limits.Steps(list, from, to, steps)
	return o, f, nil
}

// sampleOf is a reading of round trips. Half of one stands for one way.
func sampleOf(mean, least, p99, jitter *float64, answered, lost, sent int, at time.Time, span time.Duration) objective.Sample {
	v := map[objective.Measure]float64{objective.Availability: 0, objective.Loss: float64(lost) / float64(sent)}
	if answered > 0 {
		v[objective.Availability] = 1
	}
	if mean != nil {
		v[objective.RTT], v[objective.Delay] = *mean, *mean/2
		v[objective.MOS] = objective.CallQuality(time.Duration(*mean*float64(time.Millisecond)), v[objective.Loss])
		if least != nil {
			v[objective.Spread] = *mean - *least
		}
		if least != nil && p99 != nil {
			v[objective.Variation] = (*p99 - *least) / 2
		}
	}
	if jitter != nil {
		v[objective.Jitter] = *jitter
	}
	return objective.Sample{At: at, Span: span, Values: v}
}

// samplesOf are figures that other kinds of measurement gave, those of one time together.
func samplesOf(list []store.Figure) (out []objective.Sample) {
	measures := map[string][]objective.Measure{
		baseline.MOS.String(): {objective.MOS}, baseline.ThroughputThere.String(): {objective.RateThere}, baseline.ThroughputBack.String(): {objective.RateBack},
		baseline.DelayThere.String(): {objective.Delay}, baseline.DelayBack.String(): {objective.Delay}, baseline.JitterThere.String(): {objective.Jitter}, baseline.JitterBack.String(): {objective.Jitter},
		baseline.LossThere.String(): {objective.Loss}, baseline.LossBack.String(): {objective.Loss},
	}
	for _, x := range list {
		at := x.At.UTC()
		if n := len(out); n == 0 || !out[n-1].At.Equal(at) {
			out = append(out, objective.Sample{At: at, Span: time.Duration(x.SpanMs) * time.Millisecond, Values: map[objective.Measure]float64{}})
		}
		s := &out[len(out)-1]
		for _, m := range measures[x.Measure] {
			was, is := s.Values[m]
			if !is || m.AtLeast() && x.Value < was || !m.AtLeast() && x.Value > was { // the worse direction counts
				s.Values[m] = x.Value
			}
		}
	}
	return out
}
