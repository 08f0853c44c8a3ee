package controller

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

func (c *Controller) ensurePath(ctx context.Context, agent ident.ID, target string, f wire.Family) (*pathState, error) {
	c.mu.RLock()
	for _, p := range c.paths {
		if p.AgentID == agent && p.Target == target && p.Family == f {
			c.mu.RUnlock()
			return p, nil
		}
	}
	c.mu.RUnlock()
	kept, err := c.store.EnsurePath(ctx, agent, target, f, c.options.SiteOf(target))
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if p := c.paths[kept.ID]; p != nil {
		return p, nil
	}
	p := newPathState(kept)
	c.paths[kept.ID] = p
	for _, other := range c.paths {
		other.mu.Lock()
		other.judge.SetPaths(len(c.paths))
		other.mu.Unlock()
	}
	return p, nil
}

// Measure starts a measurement on demand at an agent, one run for each target
// and family. It returns at once; the runs go on until they are done or stop
// is called, and are kept.
func (c *Controller) Measure(ctx context.Context, from string, spec Spec) ([]store.Run, error) {
	spec.From = []string{from}
	spec = spec.WithDefaults()
	if err := spec.Check(); err != nil {
		return nil, err
	}
	c.mu.RLock()
	a, err := c.agentNamed(from)
	c.mu.RUnlock()
	if err != nil {
		return nil, err
	}
	if a.hand == nil {
		return nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, from)
	}
	order := plan.Order{Probes: spec.Probes, Interval: spec.Interval, Wait: spec.Wait, Payload: spec.Payload, DSCP: spec.DSCP}
	var u plan.Upload
	now := time.Now().UTC()
	for _, to := range spec.To {
		for _, f := range spec.families(to) {
			p, err := c.ensurePath(ctx, a.ID, to, f)
			if err != nil {
				return nil, err
			}
			run := plan.Run{ID: ident.New(), Path: p.ID, Started: now, Outcome: plan.Running}
			u.Runs = append(u.Runs, run)
			order.Paths = append(order.Paths, plan.OrderPath{Run: run.ID, Path: p.ID, Target: to, Family: f})
		}
	}
	if err := c.store.SaveUpload(ctx, u); err != nil {
		return nil, err
	}
	runs := make([]store.Run, len(u.Runs))
	total := order.Probes * len(order.Paths)
	c.mu.Lock()
	for i, r := range u.Runs {
		runs[i] = store.Run{ID: r.ID, PathID: r.Path, StartedAt: r.Started, Outcome: r.Outcome}
		c.active[r.ID] = progress{0, total}
	}
	c.mu.Unlock()
	go c.carryOut(a.hand, order, total)
	return runs, nil
}

func (c *Controller) carryOut(hand plan.Hand, order plan.Order, total int) {
	limit := time.Duration(order.Probes)*order.Interval + order.Wait + time.Minute
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	hand.Measure(ctx, order, func(heard int) {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, p := range order.Paths {
			c.active[p.Run] = progress{heard, total}
		}
	})
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range order.Paths {
		delete(c.active, p.Run)
	}
}
