// Package likenesses makes of a path, as it was over a span, a network that behaves so: a world file.
//
//	l, err := x.Of(ctx, path, from, to)
//	os.Stdout.WriteString(l.World)
package likenesses

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/likeness"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

// Options of Likenesses; all are needed.
type Options struct {
	Store *store.Store
	Fleet *fleet.Fleet
	Paths *paths.Paths
	Zone  *time.Location
}

// Likenesses makes them. It is safe for concurrent use.
type Likenesses struct{ Options }

// New makes them of what the store keeps.
func New(o Options) *Likenesses { return &Likenesses{o} }

// Made is a likeness and the file of its world.
type Made struct {
	Likeness likeness.Likeness
	World    string
	From, To string // the hosts of the world at its two ends
}

const (
	longest      = 24 * time.Hour
	mostReadings = 20_000
	mostProbes   = 2_000_000
	mostRuns     = 500
	routeBefore  = 24 * time.Hour // how old the route may be that was traced last
)

// Of makes the likeness of a path from a time to another, by the probes of its readings, the streams
// and throughput tests between its ends in that span, and the route traced last. Its error wraps
// kind.ErrInvalid or store.ErrNotFound where that cannot be.
func (x *Likenesses) Of(ctx context.Context, id ident.ID, from, to time.Time) (l Made, err error) {
	p := x.Paths.ByID(id)
	if p == nil {
		return l, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
	}
	if !to.After(from) || to.Sub(from) > longest {
		return l, fmt.Errorf("%w: from %s to %s is no span of up to 24 hours", kind.ErrInvalid, x.said(from), x.said(to))
	}
	f := file{from: x.Fleet.NameOf(p.AgentID), to: p.Target, family: p.Family, via: p.Via,
		what: fmt.Sprintf("%s → %s by IPv%d, %s to %s", x.Fleet.NameOf(p.AgentID), p.Target, p.Family, x.said(from), to.In(x.Zone).Format("Mon 15:04 MST"))}
	m := likeness.Measured{Size: sizes[p.Family]}
	if m.Probes, m.Every, err = x.probes(ctx, id, from, to, f.what); err != nil {
		return l, err
	}
	runs, more, err := x.runs(ctx, p, from, to, &m)
	if err != nil {
		return l, err
	}
	traced, err := x.route(ctx, p, to, &m, &f)
	if err != nil {
		return l, err
	}
	if len(m.Probes) == 0 && len(runs) == 0 {
		return l, fmt.Errorf("nothing was measured of %s: %w", f.what, store.ErrNotFound)
	}
	l.Likeness = likeness.Of(m)
	if more {
		l.Likeness.Notes = append(l.Likeness.Notes, fmt.Sprintf("more than %d runs were made then: only the newest were looked at", mostRuns))
	}
	f.by = append([]string{fmt.Sprintf("%d probes, one each %v", len(m.Probes), m.Every)}, runs...)
	if traced != "" {
		f.by = append(f.by, traced)
	}
	l.World = f.write(&l.Likeness)
	l.From, l.To = f.near(), f.far()
	return l, nil
}

// sizes are those of an echo request with its IP header as paths are asked with.
var sizes = map[wire.Family]int{wire.IPv4: 84, wire.IPv6: 104}

func (x *Likenesses) said(t time.Time) string {
	return t.In(x.Zone).Format("Mon 2 Jan 2006 15:04 MST")
}

// probes are those of a span in the order in which they were due, and how far they are apart.
func (x *Likenesses) probes(ctx context.Context, id ident.ID, from, to time.Time, what string) (list []reading.Probe, every time.Duration, err error) {
	records, err := x.Store.Readings(ctx, id, from, to, mostReadings+1, true)
	if err != nil {
		return nil, 0, err
	}
	if len(records) > mostReadings {
		return nil, 0, fmt.Errorf("%w: %s has more than %d readings: take a shorter span", kind.ErrInvalid, what, mostReadings)
	}
	for _, r := range records {
		some, err := reading.Unpack(r.Reading.At, r.Packed)
		if err != nil {
			return nil, 0, err
		}
		if list = append(list, some...); len(list) > mostProbes {
			return nil, 0, fmt.Errorf("%w: %s has more than %d probes: take a shorter span", kind.ErrInvalid, what, mostProbes)
		}
	}
	slices.SortStableFunc(list, func(a, b reading.Probe) int { return a.DueAt.Compare(b.DueAt) })
	return list, apart(list), nil
}

// apart is the usual time between two probes, 0 of fewer than two.
func apart(list []reading.Probe) time.Duration {
	if len(list) < 2 {
		return 0
	}
	gaps := make([]time.Duration, len(list)-1)
	for i := range gaps {
		gaps[i] = list[i+1].DueAt.Sub(list[i].DueAt)
	}
	slices.Sort(gaps)
	return gaps[len(gaps)/2].Round(time.Microsecond)
}

// runs takes in what runs between the ends of the path found in the span, the oldest first.
func (x *Likenesses) runs(ctx context.Context, p *paths.Path, from, to time.Time, m *likeness.Measured) (by []string, more bool, err error) {
	list, err := x.Store.Runs(ctx, store.RunFilter{Agent: p.AgentID, From: from, To: to, Page: store.Page{Limit: mostRuns}})
	if err != nil {
		return nil, false, err
	}
	for _, r := range slices.Backward(list) {
		k, err := kind.Find(r.Kind)
		if err != nil || !x.Paths.GoesTo(p, r.FarID, r.Target) || r.Family != 0 && r.Family != p.Family {
			continue
		}
		raw, err := x.Store.ResultOf(ctx, r)
		if err != nil {
			return nil, false, err
		}
		if len(raw) == 0 {
			continue
		}
		found, err := k.ReadResult(r.Version, raw)
		if err != nil {
			continue // of a version that is gone
		}
		if likened, is := found.(kind.Likened); is {
			likened.Liken(m)
			by = append(by, fmt.Sprintf("%s of %s (run %s)", r.Kind, x.said(r.StartedAt), r.ID))
		}
	}
	return by, len(list) >= mostRuns, nil
}

// route takes in the newest route that was traced to the target before the end of the span.
func (x *Likenesses) route(ctx context.Context, p *paths.Path, to time.Time, m *likeness.Measured, f *file) (string, error) {
	list, err := x.Store.Traces(ctx, store.TraceFilter{Agent: p.AgentID, Target: p.Target, Family: p.Family, Before: to, Page: store.Page{Limit: 20}})
	if err != nil {
		return "", err
	}
	// One by the kind of packets that the path is asked by goes the way that they do.
	slices.SortStableFunc(list, func(a, b store.Trace) int { return cmp.Compare(other(a.Via, p.Via), other(b.Via, p.Via)) })
	for _, t := range list {
		if !t.Reached || to.Sub(t.StartedAt) > routeBefore {
			continue
		}
		whole, err := x.Store.Trace(ctx, t.ID)
		if err != nil {
			return "", err
		}
		r, err := whole.Report()
		if err != nil || r == nil {
			return "", err
		}
		m.Hops = Hops(*r)
		f.source, f.target = r.Source, r.Address
		if r.PathMTU != nil {
			m.MTU = *r.PathMTU
		}
		return fmt.Sprintf("the route of %s, traced by %s", x.said(t.StartedAt), t.Via), nil
	}
	return "", nil
}

func other(a, b string) int {
	if a == b {
		return 0
	}
	return 1
}

// Hops are those of a trace that reached its target, the target as the last.
func Hops(r finding.TraceReport) (list []likeness.Hop) {
	for _, h := range r.Hops {
		x := likeness.Hop{Address: h.Address, Name: h.Name}
		if h.RTTMs != nil && !h.Slow {
			x.RTT = figure.FromMillis(*h.RTTMs)
		}
		list = append(list, x)
	}
	return list
}
