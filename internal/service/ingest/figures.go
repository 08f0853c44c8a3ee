package ingest

import (
	"context"
	"fmt"
	"slices"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/store"
)

// result is a run that came with what it found.
type result struct {
	protocol.Made
	kind *kind.Kind
	of   any
}

// sort reads the runs of an upload and files them. An error says which cannot have been made;
// it wraps kind.ErrInvalid.
func (x *Ingest) sort(u *protocol.Upload) (list []result, err error) {
	for i := range u.Made {
		m := &u.Made[i]
		k, err := kind.Find(m.Kind)
		if err != nil {
			return nil, err
		}
		r := result{*m, k, nil}
		if m.Body != nil {
			if r.of, err = k.ReadResult(m.Version, m.Body); err != nil {
				return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
			}
			if f, is := r.of.(interface{ Whole() bool }); is {
				m.Whole = f.Whole()
			}
		}
		u.File(k, *m, r.of)
		list = append(list, r)
	}
	return list, nil
}

// fill completes the runs of paths with what is known of those.
func (x *Ingest) fill(u *protocol.Upload) {
	for i := range u.Runs {
		r := &u.Runs[i]
		r.Kind = kind.Or("")
		if p := x.Paths.ByID(r.Path); p != nil {
			r.Lane = kind.Lane{Target: p.Target, Family: p.Family, Via: p.Via}
		}
	}
}

// tell tells of runs that were kept: who waits for them, what is usual, and the listeners.
func (x *Ingest) tell(ctx context.Context, agent ident.ID, list []result) {
	made := make([]protocol.Made, len(list))
	var news []string
	for i, r := range list {
		made[i] = r.Made
		if n := r.kind.News; r.kind.TwoEnds && !slices.Contains(news, n) {
			news = append(news, n)
		}
		if r.kind.Load {
			x.Loads.Add(store.TwoEnded{ID: r.Run, WatchID: r.Watch, AgentID: agent, FarID: r.FarID, Target: r.Lane.Target, Kind: r.Kind, StartedAt: r.Started, Outcome: r.Outcome, ThereBps: r.Figures.ThereBps, BackBps: r.Figures.BackBps})
		}
		if err := x.judgeFigures(ctx, agent, r); err != nil {
			x.Notices.NoteAway(err)
			x.Log.Error("figures could not be kept", "kind", r.Kind, "error", err)
		}
	}
	x.Runs.Came(made)
	for _, n := range news {
		x.Events.Publish(events.Event{Kind: events.Kind(n)})
	}
	if len(list) > runs.MostFollowed {
		x.Events.Publish(events.Event{Kind: events.NewRun})
		return
	}
	for _, m := range made {
		x.Events.Publish(events.Event{Kind: events.NewRun, Run: m.Run, Outcome: m.Outcome})
	}
}

// judgeFigures keeps the figures of a measurement that a watch made, and judges the path by
// them that it was made on, where its kind has such.
func (x *Ingest) judgeFigures(ctx context.Context, agent ident.ID, r result) error {
	j, is := r.of.(kind.Judged)
	if !is || r.Watch.IsZero() || r.Outcome != protocol.Done {
		return nil
	}
	point, ok := j.Point(r.Started, r.Ended.Sub(r.Started))
	if !ok {
		return nil
	}
	p := x.Paths.Between(agent, r.FarID, r.Lane.Target)
	if p == nil {
		return nil
	}
	if err := x.Store.SaveFigures(ctx, store.FiguresOf(p.ID, point)); err != nil {
		return err
	}
	changes := p.AddFigures(point)
	if len(changes) == 0 {
		return nil
	}
	if err := x.Paths.Happened(ctx, p, changes); err != nil {
		return err
	}
	return x.Paths.SaveGuards(ctx, p)
}
