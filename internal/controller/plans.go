package controller

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// sendPlans gives each agent what it is to do for all watches that are not paused. Two
// continuous watches of one path share one measurement.
func (c *Controller) sendPlans() {
	c.mu.RLock()
	defer c.mu.RUnlock()
	plans := map[ident.ID]protocol.Plan{}
	continuous := map[ident.ID]bool{}
	away := awayPlans{c: c, plans: plans}
	for _, w := range c.sortedWatches() {
		k := w.Spec.kindOf()
		switch {
		case w.Paused:
			continue
		case k.TwoEnds:
			away.add(w, k)
			continue
		case w.Spec.Every == 0:
			for _, id := range w.Paths {
				if p := c.paths[id]; p != nil && !continuous[id] {
					continuous[id] = true
					x := plans[p.AgentID]
					x.Tasks = append(x.Tasks, taskOf(w, p))
					plans[p.AgentID] = x
				}
			}
			continue
		}
		for _, name := range w.Spec.From {
			for id, a := range c.agents {
				if a.Name != name {
					continue
				}
				t, err := c.standingOf(w, k, id)
				if err != nil {
					c.log.Error("a watch cannot be given to its agent", "watch", w.Name, "agent", name, "error", err)
					continue
				}
				x := plans[id]
				x.Standing = append(x.Standing, t)
				plans[id] = x
			}
		}
	}
	for id, a := range c.agents {
		if a.worker != nil {
			a.worker.SetPlan(plans[id])
		}
	}
}

// standingOf is what a watch has an agent make again and again; c.mu is held.
func (c *Controller) standingOf(w *Watch, k *kind.Kind, agent ident.ID) (protocol.Standing, error) {
	t := protocol.Standing{Every: w.Spec.Every, Order: protocol.RunOrder{Kind: k.Name, Version: k.Version, Targets: w.Spec.To, Watch: w.ID}}
	var err error
	if t.Order.Spec, err = k.Encode(w.Spec.How); err != nil {
		return t, err
	}
	if !k.Paths {
		for _, l := range k.Lanes(w.Spec.How).Split(w.Spec.To) {
			t.Order.Lanes = append(t.Order.Lanes, protocol.RunLane{Lane: l})
		}
		return t, nil
	}
	for _, id := range w.Paths {
		if p := c.paths[id]; p != nil && p.AgentID == agent {
			t.Order.Lanes = append(t.Order.Lanes, protocol.RunLane{Path: id, Lane: kind.Lane{Target: p.Target, Family: p.Family, Via: p.Via}})
		}
	}
	return t, nil
}

// taskOf is a path that a watch has measured without a pause; c.mu is held.
func taskOf(w *Watch, p *pathState) protocol.Task {
	e := w.Spec.How.(interface{ Endless() kind.Endless }).Endless()
	t := protocol.Task{Watch: w.ID, Path: p.ID, Target: p.Target, Family: p.Family, Via: viaOf(p.Path), Interval: e.Interval, Wait: e.Wait, Payload: e.Payload, DSCP: e.Out.DSCP, Phase: Phase(p.ID, e.Interval),
		Poisson: e.Poisson, Out: protocol.Out{TTL: e.Out.TTL, Source: e.Out.Source, Interface: e.Out.Interface, DontFragment: e.Out.DontFragment, StampKey: e.StampKey}}
	if e.Poisson { // each path in its own rhythm
		t.Seed = e.Seed + uint64(Phase(p.ID, 1<<40))
	}
	return t
}

// runLoads starts what the watches of kinds with two ends want, each at the multiples of its
// interval.
func (c *Controller) runLoads(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := c.lastLoads(ctx)
	for {
		var now time.Time
		select {
		case now = <-tick.C:
		case <-ctx.Done():
			return
		}
		c.mu.RLock()
		var due []*Watch
		for _, w := range c.watches {
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
		c.mu.RUnlock()
		for _, w := range due {
			c.startLoads(ctx, w)
		}
	}
}

// lastLoads is for which of their times the watches with two ends were last carried out, by
// what is kept: one is not carried out again, and those that were due while this service
// was not running were missed.
func (c *Controller) lastLoads(ctx context.Context) map[ident.ID]time.Time {
	last := map[ident.ID]time.Time{}
	now := time.Now()
	for _, w := range c.Watches() {
		if !w.Spec.kindOf().TwoEnds || w.Spec.Every <= 0 {
			continue
		}
		list, err := c.store.Runs(ctx, store.RunFilter{Watch: w.ID, Page: store.Page{Limit: 1}})
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
					if !c.givenAway(&w, from, to) { // else its agent hands over what it made meanwhile
						c.missedLoad(ctx, &w, from, to, why)
					}
				}
			}
		}
		last[w.ID] = at
	}
	return last
}

func (c *Controller) startLoads(ctx context.Context, w *Watch) {
	k := w.Spec.kindOf()
	for _, from := range w.Spec.From {
		for _, to := range w.Spec.To {
			if c.seesToIt(w, from, to) {
				continue
			}
			r := RunRequest{Kind: k, From: from, Targets: []string{to}, How: w.Spec.How, Watch: w.ID, Budget: w.Spec.DayBytes}
			if r.Budget == 0 && k.Load {
				r.Budget = defaultBudget
			}
			if _, err := c.StartRuns(ctx, r); err != nil {
				c.log.Error("a measurement of a watch could not be started", "watch", w.Name, "error", err)
				c.missedLoad(ctx, w, from, to, err)
			}
		}
	}
}

// missedLoad keeps that one could not be started, with its reason.
func (c *Controller) missedLoad(ctx context.Context, w *Watch, from, to string, why error) {
	c.mu.RLock()
	near, err := c.agentNamed(from)
	c.mu.RUnlock()
	if err != nil {
		return
	}
	k := w.Spec.kindOf()
	now := time.Now()
	m := protocol.Made{Run: ident.New(), Watch: w.ID, Kind: k.Name, Version: k.Version, Lane: kind.Lane{Target: to}, Started: now, Ended: now, Outcome: protocol.Missed, Reason: why.Error()}
	u := protocol.Upload{Agent: near.ID, Made: []protocol.Made{m}}
	file(&u, k, m, nil)
	_ = c.store.SaveUpload(ctx, u)
}
