// Package comparisons lays two runs, two paths, or a path at two moments beside each other.
//
//	r, err := x.Of(ctx, comparisons.End{Run: before}, comparisons.End{Run: after})
package comparisons

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/core/compare"
	"woodlark.example/core/figure"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// Options of Comparisons; all are needed.
type Options struct {
	Store *store.Store
	Fleet *fleet.Fleet
	Paths *paths.Paths
	Zone  *time.Location
}

// Comparisons makes them. It is safe for concurrent use.
type Comparisons struct{ Options }

// New compares what the store keeps.
func New(o Options) *Comparisons { return &Comparisons{o} }

// End is one of the two: a run, or a path from a time to another.
type End struct {
	Run, Path ident.ID
	From, To  time.Time
}

const (
	longest      = 366 * 24 * time.Hour
	mostReadings = 100_000
)

// Of compares two ends. Its error wraps kind.ErrInvalid or store.ErrNotFound where that cannot be.
func (x *Comparisons) Of(ctx context.Context, a, b End) (r compare.Result, err error) {
	var sides [2]compare.Side
	for i, e := range []End{a, b} {
		if sides[i], err = x.side(ctx, e); err != nil {
			return r, fmt.Errorf("the %s: %w", []string{"first", "second"}[i], err)
		}
	}
	if sides[0].Name == sides[1].Name { // the moment tells them apart
		for i := range sides {
			sides[i].Short = sides[i].What
		}
	}
	return compare.Of(sides[0], sides[1]), nil
}

func (x *Comparisons) side(ctx context.Context, e End) (compare.Side, error) {
	switch {
	case e.Run.IsZero() == e.Path.IsZero():
		return compare.Side{}, fmt.Errorf("%w: it is a run or a path, one of both", kind.ErrInvalid)
	case !e.Run.IsZero():
		return x.ofRun(ctx, e.Run)
	}
	return x.ofPath(ctx, e)
}

// ofRun are the figures of what a run found.
func (x *Comparisons) ofRun(ctx context.Context, id ident.ID) (s compare.Side, err error) {
	row, err := x.Store.Run(ctx, id)
	if err != nil {
		return s, err
	}
	k, err := kind.Find(row.Kind)
	if err != nil {
		return s, err
	}
	raw, err := x.Store.ResultOf(ctx, row)
	if err != nil {
		return s, err
	}
	if len(raw) == 0 {
		return s, fmt.Errorf("run %s found nothing: %w", id, store.ErrNotFound)
	}
	found, err := k.ReadResult(row.Version, raw)
	if err != nil {
		return s, err
	}
	c, is := found.(kind.Comparable)
	if !is {
		return s, fmt.Errorf("%w: what a %s finds has no figures to lay beside others", kind.ErrInvalid, row.Kind)
	}
	s = c.Compared()
	from := "?"
	if a := x.Fleet.ByID(row.AgentID); a != nil {
		from = a.Name
	}
	s.Name = from + " → " + row.Target
	s.What = fmt.Sprintf("%s of %s", row.Kind, x.said(row.StartedAt))
	if row.Outcome != "done" {
		s.Notes = append(s.Notes, fmt.Sprintf("it did not come to its end (%s)", row.Outcome))
	}
	return s, nil
}

func (x *Comparisons) said(t time.Time) string {
	return t.In(x.Zone).Format("Mon 2 Jan 2006 15:04")
}

// ofPath are the figures of a path over a span, by its readings.
func (x *Comparisons) ofPath(ctx context.Context, e End) (s compare.Side, err error) {
	agent, path, err := x.Paths.Ends(e.Path)
	if err != nil {
		return s, err
	}
	if !e.To.After(e.From) || e.To.Sub(e.From) > longest {
		return s, fmt.Errorf("%w: from %s to %s is no span of up to a year", kind.ErrInvalid, x.said(e.From), x.said(e.To))
	}
	list, err := x.Store.Readings(ctx, e.Path, e.From, e.To, mostReadings+1, false)
	if err != nil {
		return s, err
	}
	s.Name = fmt.Sprintf("%s → %s", agent.Name, path.Target)
	s.What = fmt.Sprintf("%s to %s", x.said(e.From), e.To.In(x.Zone).Format("15:04"))
	if e.To.Sub(e.From) >= 24*time.Hour {
		s.What = fmt.Sprintf("%s to %s", x.said(e.From), x.said(e.To))
	}
	if len(list) == 0 {
		return s, fmt.Errorf("%s has no readings from %s: %w", s.Name, s.What, store.ErrNotFound)
	}
	if len(list) > mostReadings {
		return s, fmt.Errorf("%w: %s has more than %d readings from %s: compare shorter spans", kind.ErrInvalid, s.Name, mostReadings, s.What)
	}
	var medians, means, tails, jitters, ratios []float64
	lost, sent := 0, 0
	take := func(into *[]float64, d figure.Duration) {
		if v, ok := d.Get(); ok {
			*into = append(*into, float64(v)/1e6)
		}
	}
	for _, record := range list {
		r := record.Reading
		take(&medians, r.RTT.Median)
		take(&means, r.RTT.Mean)
		take(&tails, r.RTT.P95)
		take(&jitters, r.RTT.Jitter)
		if r.Sent > 0 {
			lost, sent = lost+r.Lost, sent+r.Sent
			ratios = append(ratios, float64(r.Lost)/float64(r.Sent))
		}
	}
	mean := compare.Figure{Key: "rtt_mean", Name: "mean RTT", Unit: "ms", Of: len(means), Worth: 0.5, Part: 0.05}
	mean.At, mean.Low, mean.High = compare.Mean(means)
	s.Figures = []compare.Figure{compare.Delays("rtt", "median RTT", "", medians), mean, compare.Delays("rtt_p95", "95 % quantile of RTT", "", tails),
		compare.LossOver("", lost, sent, ratios), compare.Delays("jitter", "jitter", "", jitters)}
	s.Route, err = x.route(ctx, path, e.To)
	return s, err
}

// routeBefore is how old the route may be that is taken for that of a moment.
const routeBefore = 24 * time.Hour

// route are the hops of the newest trace to a path's target that began before a time; none where
// there is none of the day before it.
func (x *Comparisons) route(ctx context.Context, p store.Path, to time.Time) (hops []string, err error) {
	list, err := x.Store.Traces(ctx, store.TraceFilter{Agent: p.AgentID, Target: p.Target, Family: p.Family, Before: to, Page: store.Page{Limit: 10}})
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		if t.Outcome != protocol.Done || to.Sub(t.StartedAt) > routeBefore {
			continue
		}
		whole, err := x.Store.Trace(ctx, t.ID)
		if err != nil {
			return nil, err
		}
		r, err := whole.Report()
		if err != nil || r == nil {
			return nil, err
		}
		for _, h := range r.Hops {
			address := h.Address
			if address == "" {
				address = "?"
			}
			hops = append(hops, address)
		}
		return hops, nil
	}
	return nil, nil
}
