package controller

import (
	"context"
	"encoding/json"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// figuresOf are what of a measurement with two ends a path is judged by: throughput, and of a
// stream voice quality, variation and losses by direction, and delay by direction where the two
// clocks are in step.
func figuresOf(x plan.TwoEnded) (p baseline.Point, ok bool) {
	p = baseline.Point{At: x.Started, Span: x.Ended.Sub(x.Started)}
	set := func(m baseline.Measure, v *float64) {
		if v != nil {
			p.Set(m, *v)
			ok = true
		}
	}
	if x.Kind == plan.Throughput {
		set(baseline.ThroughputThere, x.ThereBps)
		set(baseline.ThroughputBack, x.BackBps)
		return p, ok
	}
	set(baseline.MOS, x.MOS)
	var r finding.StreamReport
	if json.Unmarshal(x.Report, &r) != nil {
		return p, ok
	}
	for _, d := range r.Directions {
		delay, jitter, loss := baseline.DelayBack, baseline.JitterBack, baseline.LossBack
		if d.There {
			delay, jitter, loss = baseline.DelayThere, baseline.JitterThere, baseline.LossThere
		}
		set(jitter, d.JitterMs)
		if d.Lost != nil && d.Sent > 0 { // in which direction they were lost is known
			p.SetLost(loss, *d.Lost, d.Sent)
			ok = true
		}
		if r.Clock.InStep {
			set(delay, d.MedianMs)
		}
	}
	return p, ok
}

// judgeFigures keeps the figures of a measurement with two ends that a watch made, and judges
// the path by them that it was made on.
func (c *Controller) judgeFigures(ctx context.Context, agent ident.ID, x plan.TwoEnded) error {
	point, ok := figuresOf(x)
	if x.Watch.IsZero() || x.Outcome != plan.Done || !ok {
		return nil
	}
	p := c.pathBetween(agent, x)
	if p == nil {
		return nil
	}
	if err := c.store.SaveFigures(ctx, store.FiguresOf(p.ID, point)); err != nil {
		return err
	}
	p.mu.Lock()
	var changes []guard.Change
	if !p.judged.IsZero() { // its own readings come first
		changes = p.guard.Add(point)
	}
	p.mu.Unlock()
	if len(changes) == 0 {
		return nil
	}
	if err := c.happened(ctx, p, changes); err != nil {
		return err
	}
	return c.saveGuards(ctx, p)
}

// pathBetween is the path that a measurement with two ends was made on: of several, that by
// IPv4 and by echoes; nil when none is watched between those ends.
func (c *Controller) pathBetween(agent ident.ID, x plan.TwoEnded) (best *pathState) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	rank := func(p *pathState) int {
		n := int(p.Family)
		if p.Via != "icmp" {
			n += 100
		}
		return n
	}
	for _, p := range c.paths {
		if p.AgentID == agent && c.between(p, x.Far, x.Target) && (best == nil || rank(p) < rank(best)) {
			best = p
		}
	}
	return best
}
