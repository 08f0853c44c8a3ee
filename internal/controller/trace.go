package controller

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

// KindTrace is the kind of a watch that traces routes.
const KindTrace = "trace"

const (
	leastTracing   = time.Minute // between the traces of a watch
	defaultRounds  = 5
	traceWait      = time.Second
	mostTraceTime  = time.Hour
	tracePatience  = 2 * time.Minute // beyond its rounds
	usualWithin    = 14 * 24 * time.Hour
	usualSightings = 3
)

// checkTrace says what is wrong with the spec of traces.
func (s Spec) checkTrace() (errs []error) {
	wrong := func(format string, args ...any) { errs = append(errs, fmt.Errorf(format, args...)) }
	for _, target := range s.To {
		if err := CheckTarget(target); err != nil {
			errs = append(errs, err)
		}
	}
	if s.Family != "4" && s.Family != "6" && s.Family != "both" {
		wrong("family %q is none of 4, 6, both", s.Family)
	}
	vias, err := reading.ParseVias(s.Via)
	switch {
	case err != nil:
		wrong("via: %w", err)
	case len(vias) != 1 || vias[0].Kind == reading.ByStamp:
		wrong("via %s: a trace goes by one of icmp, udp:PORT, tcp:PORT", s.Via)
	}
	if s.Probes < 0 || s.Probes > mostProbes {
		wrong("probes %d is not between 0 and %d", s.Probes, mostProbes)
	}
	if s.Interval < leastInterval || s.Interval > time.Minute {
		wrong("interval %v is not between %v and 1m", s.Interval, leastInterval)
	} else if took := time.Duration(s.Probes) * s.Interval; took > mostTraceTime {
		wrong("%d probes every %v take %v; a trace takes %v at most", s.Probes, s.Interval, took, mostTraceTime)
	}
	if s.Wait < time.Millisecond || s.Wait > 30*time.Second {
		wrong("wait %v is not between 1ms and 30s", s.Wait)
	}
	if s.DSCP > 63 {
		wrong("DSCP %d is not between 0 and 63", s.DSCP)
	}
	return errs
}

// traceOrder is the trace of a spec.
func (s Spec) traceOrder() plan.TraceOrder {
	o := plan.TraceOrder{Via: s.Via, Probes: s.Probes, Interval: s.Interval, Wait: s.Wait, DSCP: s.DSCP, OneFlow: s.OneFlow, PathMTU: s.PathMTU}
	for _, to := range s.To {
		for _, f := range s.families(to) {
			o.Targets = append(o.Targets, plan.TraceTarget{Target: to, Family: f})
		}
	}
	return o
}

// Trace starts traces on demand at an agent. It returns at once; they go on and are
// kept. With back, who stands at a target traces back at the same time.
func (c *Controller) Trace(ctx context.Context, from string, spec Spec, back bool) ([]store.Trace, error) {
	spec.Kind, spec.From, spec.Every = KindTrace, []string{from}, leastTracing
	spec = spec.WithDefaults()
	if err := spec.Check(); err != nil {
		return nil, err
	}
	c.mu.RLock()
	a, err := c.agentNamed(from)
	c.mu.RUnlock()
	switch {
	case err != nil:
		return nil, err
	case a.hand == nil:
		return nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, from)
	}
	order := spec.traceOrder()
	backs := make([]*agentState, len(order.Targets))
	now := time.Now().UTC()
	var list []store.Trace
	for i := range order.Targets {
		x := &order.Targets[i]
		x.ID = ident.New()
		if back {
			if backs[i], err = c.standsAt(x.Target, a); err != nil {
				return nil, err
			}
		}
		list = append(list, store.Trace{ID: x.ID, Lane: store.LaneOf(a.ID, x.Target, x.Family, order.Via), AgentID: a.ID, Target: x.Target, Family: x.Family, Via: order.Via, StartedAt: now, Outcome: plan.Running})
	}
	if err := c.store.BeginTraces(ctx, list); err != nil {
		return list, err
	}
	c.mu.Lock()
	for _, x := range order.Targets {
		addr, _ := netip.ParseAddr(x.Target)
		c.tracing[x.ID] = &tracing{gather: route.NewGather(addr), rounds: order.Probes}
	}
	c.mu.Unlock()
	go c.carryOutTrace(a, order, backs)
	return list, nil
}

// tracing is a trace that goes on.
type tracing struct {
	mu     sync.Mutex
	gather *route.Gather
	heard  int
	rounds int
}

// standsAt is the agent that stands at a target, or at its site.
func (c *Controller) standsAt(target string, besides *agentState) (*agentState, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	var near *agentState
	for _, a := range c.agents {
		if a == besides || a.hand == nil || a.Address == "" {
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

func (c *Controller) carryOutTrace(a *agentState, order plan.TraceOrder, backs []*agentState) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Duration(order.Probes)*order.Interval+tracePatience)
	defer cancel()
	back := make([]*finding.TraceReport, len(backs))
	var wg sync.WaitGroup
	forth := make(chan []plan.Trace, len(backs)) // once a copy for each way back
	for i, b := range backs {
		if b == nil {
			continue
		}
		wg.Go(func() {
			o, home := order, a.Address
			// Where it stands, by the family that the trace goes by, is known when it has
			// traced.
			if home == "" || a.Kind == Remote {
				if made := <-forth; i < len(made) && made[i].Report != nil {
					home = made[i].Report.Source
				}
			}
			if home == "" {
				return
			}
			o.Targets = []plan.TraceTarget{{ID: ident.New(), Target: home, Family: order.Targets[i].Family}}
			if made := b.hand.Trace(ctx, o, nil); len(made) == 1 {
				back[i] = made[0].Report
			}
		})
	}
	made := a.hand.Trace(ctx, order, func(i int, p route.Probe) {
		c.mu.RLock()
		x := c.tracing[order.Targets[i].ID]
		c.mu.RUnlock()
		if x == nil {
			return
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		x.gather.Add(p)
		x.heard++
	})
	for range backs {
		forth <- made
	}
	wg.Wait()
	for i := range made {
		if made[i].Report != nil && back[i] != nil {
			made[i].Report.BesideBack(*back[i])
		}
	}
	a.hand.Deliver(made)
	// What is heard so far is shown until the whole is kept.
	wait := time.NewTimer(5 * time.Second)
	defer wait.Stop()
	<-wait.C
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range order.Targets {
		delete(c.tracing, x.ID)
	}
}

// TraceSoFar is what a trace on demand has found while it goes on; false when it
// does not.
func (c *Controller) TraceSoFar(id ident.ID) (finding.TraceReport, int, bool) {
	c.mu.RLock()
	x := c.tracing[id]
	c.mu.RUnlock()
	if x == nil {
		return finding.TraceReport{}, 0, false
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	r := finding.Traced{Route: x.gather.Route()}.Report()
	// What is not over allows no conclusions.
	r.Findings = []finding.Finding{}
	return r, x.heard, true
}

// compareTraces lays each trace of an upload beside the usual route of its lane.
func (c *Controller) compareTraces(ctx context.Context, u *plan.Upload) error {
	for i := range u.Traces {
		x := &u.Traces[i]
		if x.Report == nil {
			continue
		}
		x.Report.Own(c.options.Owners)
		if x.Outcome != plan.Done {
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

// sendTraces gives each agent the traces of all watches that are not paused. It is
// called with mu held.
func (c *Controller) sendTraces() {
	tasks := map[ident.ID][]plan.TraceTask{}
	for _, w := range c.sortedWatches() {
		if w.Paused || w.Spec.Kind != KindTrace {
			continue
		}
		for id, a := range c.agents {
			if slices.Contains(w.Spec.From, a.Name) {
				tasks[id] = append(tasks[id], plan.TraceTask{Watch: w.ID, Every: w.Spec.Every, Order: w.Spec.traceOrder()})
			}
		}
	}
	for id, a := range c.agents {
		if a.hand != nil {
			a.hand.SetTraces(tasks[id])
		}
	}
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
