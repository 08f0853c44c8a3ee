package watches

import (
	"context"
	"fmt"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/store"
)

// schedule is what the watches of kinds with two ends have come to. It is one goroutine's.
type schedule struct {
	last map[ident.ID]time.Time // for which of its times each was begun last
	gaps []gap
}

// gap are the times at which this service was not running and an agent was to make a
// measurement by its plan.
type gap struct {
	watch        *Watch
	from, to     string
	since, until time.Time // the last that is known to be made, and the last that was due
	calm         time.Time // since when the agent has nothing more to hand over
}

// calmFor is how long an agent that came back has nothing to hand over before what it did not
// make counts as missed.
const calmFor = 2 * time.Minute

// Run starts what the watches of kinds with two ends want, each at the multiples of its
// interval.
func (x *Watches) Run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	x.TakeUp(ctx, time.Now())
	for {
		select {
		case now := <-tick.C:
			x.Tick(ctx, now)
		case <-ctx.Done():
			return
		}
	}
}

// Tick starts what is due at a time. It is called by one goroutine.
func (x *Watches) Tick(ctx context.Context, now time.Time) {
	for _, w := range x.sorted() {
		if w.Paused || !w.Spec.kindOf().TwoEnds {
			continue
		}
		at := now.Truncate(w.Spec.Every)
		before, known := x.schedule.last[w.ID]
		fresh := !known && now.Sub(w.CreatedAt) <= time.Minute // the first run starts at once
		x.schedule.last[w.ID] = at
		if fresh || known && at.After(before) {
			x.startLoads(ctx, w)
		}
	}
	open := x.schedule.gaps[:0]
	for _, g := range x.schedule.gaps {
		if !x.settle(ctx, &g, now) {
			open = append(open, g)
		}
	}
	x.schedule.gaps = open
}

// TakeUp finds for which of their times the watches with two ends were last carried out, by
// what is kept: one is not carried out again, and those that were due while this service was
// not running were missed, or made by an agent that hands them over.
func (x *Watches) TakeUp(ctx context.Context, now time.Time) {
	x.schedule.last = map[ident.ID]time.Time{}
	for _, w := range x.sorted() {
		if !w.Spec.kindOf().TwoEnds || w.Spec.Every <= 0 {
			continue
		}
		list, err := x.Store.Runs(ctx, store.RunFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
		if err != nil || len(list) == 0 {
			continue
		}
		at := now.Truncate(w.Spec.Every)
		x.schedule.last[w.ID] = at
		begun := list[0].StartedAt.Truncate(w.Spec.Every)
		if !begun.Before(at) || w.Paused {
			continue
		}
		why := fmt.Errorf("the service was not running at %s", at.UTC().Format(time.RFC3339))
		if n := at.Sub(begun) / w.Spec.Every; n > 1 {
			why = fmt.Errorf("the service was not running, and %d were due, the last at %s", n, at.UTC().Format(time.RFC3339))
		}
		for _, from := range w.Spec.From {
			for _, to := range w.Spec.To {
				if x.givenAway(w, from, to) {
					x.schedule.gaps = append(x.schedule.gaps, gap{watch: w, from: from, to: to, since: begun, until: at})
				} else {
					x.missedLoad(ctx, w, from, to, why)
				}
			}
		}
	}
}

// settle tells of what an agent did not make in a gap, once it has handed over what it did; it
// reports whether no more is to be told.
func (x *Watches) settle(ctx context.Context, g *gap, now time.Time) bool {
	near, _, ok := x.bothAway(g.watch.Spec.How, g.from, g.to)
	if !ok {
		return true // the agent is not there any more
	}
	if connected, _ := near.Proxy().Connected(); !connected || near.Worker.HeldBack() > 0 {
		g.calm = time.Time{}
		return false
	}
	if g.calm.IsZero() {
		g.calm = now
	}
	if now.Sub(g.calm) < calmFor {
		return false
	}
	every := g.watch.Spec.Every
	list, err := x.Store.Runs(ctx, store.RunFilter{Watch: g.watch.ID, Agent: near.ID, From: g.since.Add(every), To: g.until.Add(every), Page: store.Page{Limit: 5000}})
	if err != nil {
		return false // another time
	}
	made := 0
	for _, r := range list {
		if r.Target == g.to || strings.HasPrefix(r.Target, g.to+":") {
			made++
		}
	}
	if due := int(g.until.Sub(g.since) / every); made < due {
		x.missedLoad(ctx, g.watch, g.from, g.to, fmt.Errorf("the service was not running, and agent %q made %d of the %d that were due, the last at %s", g.from, made, due, g.until.UTC().Format(time.RFC3339)))
	}
	return true
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
