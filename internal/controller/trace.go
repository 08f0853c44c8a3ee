package controller

import (
	"context"
	"fmt"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

const (
	usualWithin    = 14 * 24 * time.Hour
	usualSightings = 3
)

// standsAt is the agent that stands at a target, or at its site.
func (c *Controller) standsAt(target string, besides *agentState) (*agentState, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	var near *agentState
	for _, a := range c.agents {
		if a == besides || a.worker == nil || a.Address == "" {
			continue
		}
		if a.isAt(target) {
			return a, nil
		}
		if site := c.options.SiteOf(target); site != "" && a.Site == site && near == nil {
			near = a
		}
	}
	if near == nil {
		return nil, fmt.Errorf("%w: no agent stands at %s or at its site to trace back from; leave out both ways, or add an agent there", ErrInvalid, shorten(target))
	}
	return near, nil
}

// compareTraces lays each trace of an upload beside the usual route of its lane.
func (c *Controller) compareTraces(ctx context.Context, u *protocol.Upload) error {
	for i := range u.Traces {
		x := &u.Traces[i]
		if x.Report == nil {
			continue
		}
		x.Report.Own(c.options.Owners)
		if x.Outcome != protocol.Done {
			continue
		}
		lane := store.LaneOf(u.Agent, x.Target, x.Family, x.Via)
		usual, found, err := c.store.UsualRoute(ctx, lane, x.Started.Add(-usualWithin), usualSightings)
		if err != nil {
			return err
		}
		if !found {
			continue
		}
		before, err := usual.Report()
		if err != nil {
			c.log.Error("the usual route cannot be read; nothing is compared", "error", err)
			continue
		}
		if before != nil {
			x.Report.CompareWith(*before, "the usual route")
		}
	}
	return nil
}

// CompareTraces lays a trace beside another: an earlier one by its identifier, the
// last before it, or the usual route.
func (c *Controller) CompareTraces(ctx context.Context, t store.Trace, r *finding.TraceReport, with string) error {
	var other store.Trace
	var found bool
	var err error
	what := "the last trace"
	switch with {
	case "last":
		other, found, err = c.store.TraceBefore(ctx, t.Lane, t.StartedAt)
	case "baseline":
		what = "the usual route"
		other, found, err = c.store.UsualRoute(ctx, t.Lane, t.StartedAt.Add(-usualWithin), usualSightings)
	default:
		var id ident.ID
		if id, err = ident.Parse(with); err != nil {
			return fmt.Errorf("%w: compare %q is neither last, baseline nor a trace's identifier", ErrInvalid, shorten(with))
		}
		what = "an earlier trace"
		other, err = c.store.Trace(ctx, id)
		found = err == nil
	}
	if err != nil {
		return err
	}
	if !found {
		return fmt.Errorf("%w: there is no %s of %s by %s to compare with", store.ErrNotFound, map[string]string{"last": "earlier trace", "baseline": "usual route yet"}[with], t.Target, t.Via)
	}
	before, err := other.Report()
	if err != nil || before == nil {
		return err
	}
	r.CompareWith(*before, what)
	return nil
}
