package watches

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/store"
)

// timetable is what the watches of kinds with two ends have come to. It is one goroutine's.
type timetable struct {
	last map[ident.ID]time.Time // for which of its times each was begun last
	gaps []gap
}

// gap are the times at which this service was not running and an agent was to make a
// measurement by its plan.
type gap struct {
	watch        *Watch
	from, to     string
	first, until time.Time // the first and the last that were due
	due          int
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
		when := w.Spec.when(w.ID)
		last, known := x.timetable.last[w.ID]
		if !known {
			x.timetable.last[w.ID] = now
			if now.Sub(w.CreatedAt) <= time.Minute && when.AtOnce(now) { // the first run starts at once
				x.startLoads(ctx, w)
			}
			continue
		}
		passed := passedOf(when, last, now)
		if len(passed) == 0 {
			continue
		}
		x.timetable.last[w.ID] = passed[len(passed)-1]
		if n := len(passed) - 1; n > 0 {
			x.missedLoads(ctx, w, fmt.Errorf("the service was asleep or too busy when %d were due, the last at %s", n, passed[n-1].UTC().Format(time.RFC3339)))
		}
		x.startLoads(ctx, w)
	}
	open := x.timetable.gaps[:0]
	for _, g := range x.timetable.gaps {
		if !x.settle(ctx, &g, now) {
			open = append(open, g)
		}
	}
	x.timetable.gaps = open
}

// TakeUp finds for which of their times the watches with two ends were last carried out, by
// what is kept: one is not carried out again, and those that were due while this service was
// not running were missed, or made by an agent that hands them over.
func (x *Watches) TakeUp(ctx context.Context, now time.Time) {
	x.timetable.last = map[ident.ID]time.Time{}
	for _, w := range x.sorted() {
		if !w.Spec.kindOf().TwoEnds {
			continue
		}
		list, err := x.Store.Runs(ctx, store.RunFilter{Watches: []ident.ID{w.ID}, Page: store.Page{Limit: 1}})
		if err != nil || len(list) == 0 {
			continue
		}
		when := w.Spec.when(w.ID)
		begun := when.Last(list[0].StartedAt)
		if begun.IsZero() { // by hand, or by other times than those of today
			begun = list[0].StartedAt
		}
		passed := passedOf(when, begun, now)
		x.timetable.last[w.ID] = begun
		n := len(passed)
		if n == 0 || w.Paused {
			continue
		}
		at := passed[n-1]
		x.timetable.last[w.ID] = at
		why := fmt.Errorf("the service was not running at %s", at.UTC().Format(time.RFC3339))
		if n > 1 {
			why = fmt.Errorf("the service was not running, and %d were due, the last at %s", n, at.UTC().Format(time.RFC3339))
		}
		for _, e := range x.now(w) {
			from := e.near.Name
			for _, to := range e.to {
				if x.givenAway(w, from, to) {
					x.timetable.gaps = append(x.timetable.gaps, gap{watch: w, from: from, to: to, first: passed[0], until: at, due: n})
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
	end := g.watch.Spec.when(g.watch.ID).Next(g.until) // an agent begins a while behind its times
	list, err := x.Store.Runs(ctx, store.RunFilter{Watches: []ident.ID{g.watch.ID}, Agent: near.ID, From: g.first, To: end, Page: store.Page{Limit: 5000}})
	if err != nil {
		return false // another time
	}
	made := 0
	for _, r := range list {
		if r.Target == g.to || strings.HasPrefix(r.Target, g.to+":") {
			made++
		}
	}
	if made < g.due {
		x.missedLoad(ctx, g.watch, g.from, g.to, fmt.Errorf("the service was not running, and agent %q made %d of the %d that were due, the last at %s", g.from, made, g.due, g.until.UTC().Format(time.RFC3339)))
	}
	return true
}

// passedOf are the times up to now that are due behind another.
func passedOf(when *schedule.Schedule, behind, now time.Time) (list []time.Time) {
	const most = 100_000
	for at := when.Next(behind); !behind.IsZero() && !at.IsZero() && !at.After(now) && len(list) < most; at = when.Next(at) {
		list = append(list, at)
	}
	return list
}

// missedLoads keeps that those of all ends were missed.
func (x *Watches) missedLoads(ctx context.Context, w *Watch, why error) {
	for _, e := range x.now(w) {
		from := e.near.Name
		for _, to := range e.to {
			x.missedLoad(ctx, w, from, to, why)
		}
	}
}

func (x *Watches) startLoads(ctx context.Context, w *Watch) {
	k := w.Spec.kindOf()
	for _, e := range x.now(w) {
		from := e.near.Name
		for _, to := range e.to {
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
		if w.Paused || !w.Spec.Continuous() {
			continue
		}
		when := w.Spec.when(w.ID)
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
			if !when.Open(end) { // what its hours did not allow was not missed
				if end = when.Change(end); end.IsZero() || end.After(now) {
					continue
				}
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

// mostHindrances is how many are told of a watch.
const mostHindrances = 5

// Hindrances are what keeps a watch from being carried out, in whole or in part: agents that are
// away or of a release that does not know it, words that mean nobody, and targets to which an
// agent cannot or may not send.
func (x *Watches) Hindrances(w *Watch) (list []string) {
	if w.Paused {
		return nil
	}
	tell := func(why string) bool {
		if !slices.Contains(list, why) {
			list = append(list, why)
		}
		return len(list) <= mostHindrances
	}
	pairs, err := x.endsOf(w.Spec)
	if err != nil {
		tell(strings.TrimPrefix(err.Error(), kind.ErrInvalid.Error()+": "))
	}
	for _, e := range pairs {
		more := true
		switch spoken := x.Fleet.Speaks(e.near.ID); {
		case e.near.Worker == nil:
			more = tell("agent " + e.near.Name + " is not running")
		case !e.near.Here():
			more = tell("agent " + e.near.Name + " is away")
		case spoken < protocol.Version && !x.makes(w, e, spoken):
			more = tell("agent " + e.near.Name + " is of an older release, which does not make it")
		}
		if why := x.notFollowed(w.ID, e.near.ID); why != "" && w.Spec.Follows() {
			more = tell(e.near.Name + " tells of no conversations: " + why)
		}
		if !more {
			break
		}
	}
	now := time.Now()
	for _, id := range w.Paths {
		p := x.Paths.ByID(id)
		if p == nil {
			continue
		}
		if why := p.Unsent(now); why != "" && !tell(fmt.Sprintf("%s cannot send to %s: %s", x.Fleet.NameOf(p.AgentID), p.Target, why)) {
			break
		}
	}
	if len(list) > mostHindrances {
		list = append(list[:mostHindrances], "and more")
	}
	return list
}

// makes reports whether an agent of a version of the protocol makes what a watch asks of it.
func (x *Watches) makes(w *Watch, e ends, version int) bool {
	k := w.Spec.kindOf()
	var p protocol.Plan
	i := slices.IndexFunc(w.Paths, func(id ident.ID) bool { p := x.Paths.ByID(id); return p != nil && p.AgentID == e.near.ID })
	switch {
	case k.TwoEnds: // begun by this service; with a run on demand, as an agent sees it
		p.Standing = []protocol.Standing{{Order: protocol.RunOrder{Kind: k.Name, Version: k.Version}}}
	case !w.Spec.Continuous():
		t, err := x.standingOf(w, k, e)
		if err != nil {
			return false
		}
		p.Standing = []protocol.Standing{t}
	case i >= 0:
		p.Tasks = []protocol.Task{x.taskOf(w, x.Paths.ByID(w.Paths[i]))}
	}
	return p.Whole(version)
}

// PerDay is how many runs are due a day, or of a continuous watch which share of the day it is
// measured.
func (w *Watch) PerDay(now time.Time) float64 {
	when := w.Spec.when(w.ID)
	if w.Spec.Continuous() {
		return when.Share(now)
	}
	return when.PerDay(now)
}

// Due is when the next run is due, nil when none is, and why it does not measure now, if it
// does not.
func (w *Watch) Due(now time.Time) (next *time.Time, says string) {
	when := w.Spec.when(w.ID)
	t := w.Spec.Times
	switch {
	case w.Paused:
		return nil, "paused"
	case !t.EndAt.IsZero() && !now.Before(t.EndAt):
		return nil, "over since " + t.EndAt.UTC().Format(time.RFC3339)
	case now.Before(t.StartAt):
		says = "it begins at " + t.StartAt.UTC().Format(time.RFC3339)
	case !when.Open(now):
		says = "outside its hours"
	}
	at := when.Next(now)
	if w.Spec.Continuous() && says != "" {
		at = when.Opens(now)
	}
	if at.IsZero() {
		return nil, says
	}
	at = at.UTC()
	return &at, says
}
