package watches

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/store"
)

// Run starts what the watches of kinds with two ends want, each at the multiples of its
// interval.
func (x *Watches) Run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := x.lastLoads(ctx)
	for {
		var now time.Time
		select {
		case now = <-tick.C:
		case <-ctx.Done():
			return
		}
		var due []*Watch
		for _, w := range x.sorted() {
			if w.Paused || !w.Spec.kindOf().TwoEnds {
				continue
			}
			at := now.Truncate(w.Spec.Every)
			before, known := last[w.ID]
			if !known { // the first run starts at once
				before = w.CreatedAt.Add(-w.Spec.Every)
				if now.Sub(w.CreatedAt) > time.Minute {
					before = at
				}
			}
			if at.After(before) || !known && now.Sub(w.CreatedAt) <= time.Minute {
				due = append(due, w)
			}
			last[w.ID] = at
		}
		for _, w := range due {
			x.startLoads(ctx, w)
		}
	}
}

// lastLoads is for which of their times the watches with two ends were last carried out, by
// what is kept: one is not carried out again, and those that were due while this service
// was not running were missed.
func (x *Watches) lastLoads(ctx context.Context) map[ident.ID]time.Time {
	last := map[ident.ID]time.Time{}
	now := time.Now()
	for _, w := range x.sorted() {
		if !w.Spec.kindOf().TwoEnds || w.Spec.Every <= 0 {
			continue
		}
		list, err := x.Store.Runs(ctx, store.RunFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
		if err != nil || len(list) == 0 {
			continue
		}
		at := now.Truncate(w.Spec.Every)
		if begun := list[0].StartedAt.Truncate(w.Spec.Every); begun.Before(at) && !w.Paused {
			why := fmt.Errorf("the service was not running at %s", at.UTC().Format(time.RFC3339))
			if n := at.Sub(begun) / w.Spec.Every; n > 1 {
				why = fmt.Errorf("the service was not running, and %d were due, the last at %s", n, at.UTC().Format(time.RFC3339))
			}
			for _, from := range w.Spec.From {
				for _, to := range w.Spec.To {
					if !x.givenAway(w, from, to) { // else its agent hands over what it made meanwhile
						x.missedLoad(ctx, w, from, to, why)
					}
				}
			}
		}
		last[w.ID] = at
	}
	return last
}

func (x *Watches) startLoads(ctx context.Context, w *Watch) {
	k := w.Spec.kindOf()
	for _, from := range w.Spec.From {
		for _, to := range w.Spec.To {
			if x.seesToIt(w, from, to) {
				continue
			}
			r := runs.Request{Kind: k, From: from, Targets: []string{to}, How: w.Spec.How, Watch: w.ID, Budget: w.Spec.DayBytes}
			if r.Budget == 0 && k.Load {
				r.Budget = defaultBudget
			}
			if _, err := x.Runs.Start(ctx, r); err != nil {
				x.Log.Error("a measurement of a watch could not be started", "watch", w.Name, "error", err)
				x.missedLoad(ctx, w, from, to, err)
			}
		}
	}
}

// missedLoad keeps that one could not be started, with its reason.
func (x *Watches) missedLoad(ctx context.Context, w *Watch, from, to string, why error) {
	near, err := x.Fleet.Named(from)
	if err != nil {
		return
	}
	k := w.Spec.kindOf()
	now := time.Now()
	m := protocol.Made{Run: ident.New(), Watch: w.ID, Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: to}, Started: now, Ended: now, Outcome: protocol.Missed, Reason: why.Error()}
	u := protocol.Upload{Agent: near.ID, Made: []protocol.Made{m}}
	u.File(k, m, nil)
	_ = x.Store.SaveUpload(ctx, u)
}

// NoteGaps records the time up to now in which the paths of an agent were to be measured
// without a pause and were not, the service being down. Of periodic watches the agent
// tells itself.
func (x *Watches) NoteGaps(ctx context.Context, agent ident.ID, now time.Time) {
	var u protocol.Upload
	for _, w := range x.sorted() {
		if w.Paused || w.Spec.Every > 0 {
			continue
		}
		for _, id := range w.Paths {
			p := x.Paths.ByID(id)
			if p == nil || p.AgentID != agent {
				continue
			}
			end := p.LastEnd()
			// A minute in progress is taken up again from the agent's journal.
			if end.IsZero() || now.Sub(end) < 2*time.Minute {
				continue
			}
			u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Watch: w.ID, Path: id, Started: end, Ended: now, Outcome: protocol.Missed, Reason: "the service was not running"})
		}
	}
	if len(u.Runs) == 0 {
		return
	}
	if err := x.Store.SaveUpload(ctx, u); err != nil {
		x.Log.Error("missed runs could not be recorded", "error", err)
	}
}
