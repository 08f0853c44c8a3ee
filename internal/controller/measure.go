package controller

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// ensurePaths returns the paths between ends, in their order, made where they are not there.
func (c *Controller) ensurePaths(ctx context.Context, list []store.Ends) ([]*pathState, error) {
	out := make([]*pathState, len(list))
	var missing []store.Ends
	c.mu.RLock()
	for i, e := range list {
		if out[i] = c.byEnds[e]; out[i] == nil {
			missing = append(missing, e)
		}
	}
	c.mu.RUnlock()
	if len(missing) == 0 {
		return out, nil
	}
	made, err := c.store.EnsurePaths(ctx, missing, c.options.SiteOf)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range made {
		if c.paths[p.ID] == nil {
			c.addPath(c.newPathState(p))
		}
	}
	for i, e := range list {
		out[i] = c.byEnds[e]
	}
	return out, nil
}

// addPath takes in a path; c.mu is held.
func (c *Controller) addPath(p *pathState) {
	c.paths[p.ID], c.byEnds[p.Ends()] = p, p
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
	var ends []store.Ends
	for _, to := range spec.To {
		for _, k := range spec.kinds(to) {
			ends = append(ends, store.Ends{Agent: a.ID, Target: to, Family: k.family, Via: k.via.String()})
			order.Paths = append(order.Paths, plan.OrderPath{Target: to, Family: k.family, Via: k.via})
		}
	}
	paths, err := c.ensurePaths(ctx, ends)
	if err != nil {
		return nil, err
	}
	for i, p := range paths {
		run := plan.Run{ID: ident.New(), Path: p.ID, Started: now, Outcome: plan.Running}
		u.Runs = append(u.Runs, run)
		order.Paths[i].Run, order.Paths[i].Path = run.ID, p.ID
	}
	if err := c.store.SaveUpload(ctx, u); err != nil {
		return nil, err
	}
	runs := make([]store.Run, len(u.Runs))
	c.mu.Lock()
	for i, r := range u.Runs {
		runs[i] = store.Run{ID: r.ID, PathID: r.Path, StartedAt: r.Started, Outcome: r.Outcome}
		c.active[r.ID] = progress{of: order.Probes, from: now, interval: order.Interval}
	}
	c.mu.Unlock()
	go c.carryOut(a.hand, order)
	return runs, nil
}

func (c *Controller) carryOut(hand plan.Hand, order plan.Order) {
	limit := time.Duration(order.Probes)*order.Interval + order.Wait + time.Minute
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	hand.Measure(ctx, order, func(path int, probe reading.Probe) {
		c.mu.Lock()
		defer c.mu.Unlock()
		run := order.Paths[path].Run
		p := c.active[run]
		p.heard++
		p.probes = append(p.probes, probe)
		c.active[run] = p
	})
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range order.Paths {
		delete(c.active, p.Run)
	}
}

// viaOf reads by what a path is asked.
func viaOf(p store.Path) reading.Via {
	v, err := reading.ParseVia(p.Via)
	if err != nil { // of a later version of the program
		return reading.Via{}
	}
	return v
}

// walkLimit is how long a walk may take: names that do not resolve take long.
const walkLimit = 2 * time.Minute

// Walk goes from near to far towards a target, at an agent, and waits for it.
func (c *Controller) Walk(ctx context.Context, from string, o plan.WalkOrder) (finding.WalkReport, error) {
	c.mu.RLock()
	a, err := c.agentNamed(from)
	c.mu.RUnlock()
	switch {
	case err != nil:
		return finding.WalkReport{}, err
	case a.hand == nil:
		return finding.WalkReport{}, fmt.Errorf("%w: agent %q is not running", ErrInvalid, from)
	}
	if err := CheckTarget(o.Target); err != nil {
		return finding.WalkReport{}, err
	}
	if o.Probes < 1 || o.Probes > 10_000 || o.Interval < leastInterval || time.Duration(o.Probes)*o.Interval > walkLimit/2 {
		return finding.WalkReport{}, fmt.Errorf("%w: %d probes every %v: a walk takes 1 to 10,000 probes, %v apart or more, and a minute at most", ErrInvalid, o.Probes, o.Interval, leastInterval)
	}
	ctx, cancel := context.WithTimeout(ctx, walkLimit)
	defer cancel()
	return a.hand.Walk(ctx, o)
}

// Standing is where an agent stands, as JSON; see plan.Walker.
func (c *Controller) Standing(name string) (json.RawMessage, error) {
	c.mu.RLock()
	a, err := c.agentNamed(name)
	c.mu.RUnlock()
	switch {
	case err != nil:
		return nil, notThere(err)
	case a.hand == nil:
		return nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, name)
	}
	s, err := a.hand.Standing()
	if errors.Is(err, plan.ErrNoStanding) {
		err = fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return s, err
}
