package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/trace"
)

// SetTraces replaces the traces that the agent is to make.
func (a *Agent) SetTraces(tasks []plan.TraceTask) {
	byWatch := map[ident.ID]plan.TraceTask{}
	for _, t := range tasks {
		if t.Every < leastEvery {
			a.log.Error("a trace of the plan cannot be made so often", "watch", t.Watch, "every", t.Every)
			continue
		}
		byWatch[t.Watch] = t
	}
	a.mu.Lock()
	a.given.Traces = tasks
	a.mu.Unlock()
	a.traces.want(byWatch)
	a.tellChanged()
}

// tracePeriodically makes the traces of a watch at each multiple of its interval.
func (a *Agent) tracePeriodically(ctx context.Context, t plan.TraceTask) {
	// none is a trace of each target that was not made.
	none := func(from, to time.Time, outcome plan.Outcome, reason string) {
		var list []plan.Trace
		for _, x := range t.Order.Targets {
			list = append(list, plan.Trace{ID: ident.New(), Watch: t.Watch, Target: x.Target, Family: x.Family, Via: t.Order.Via, Started: from, Ended: to, Outcome: outcome, Reason: reason})
		}
		a.Deliver(list)
	}
	a.atMultiples(ctx, periodic{
		key: t.Watch.String(), every: t.Every,
		do: func(ctx context.Context, _ ident.ID) {
			o := t.Order
			o.Targets = append([]plan.TraceTarget{}, t.Order.Targets...)
			for i := range o.Targets {
				o.Targets[i].ID = ident.New()
			}
			list := a.Trace(ctx, o, nil)
			for i := range list {
				list[i].Watch = t.Watch
			}
			a.Deliver(list)
		},
		missed: func(from, to time.Time, reason string) { none(from, to, plan.Missed, reason) },
		broken: func(x due) { none(x.Began, time.Now(), plan.Failed, wasKilled) },
	})
}

// Deliver uploads traces; see plan.Tracer.
func (a *Agent) Deliver(list []plan.Trace) {
	for _, x := range list {
		a.spool.addTrace(x)
	}
}

// ground is what the agent knows of how it sends.
func (a *Agent) ground() (trace.Ground, error) {
	if g, ok := a.options.Network.(trace.Ground); ok {
		return g, nil
	}
	if a.options.Ground != nil {
		return a.options.Ground, nil
	}
	return nil, errors.New("this agent does not know its own links")
}

// Trace makes the traces of an order; see plan.Tracer.
func (a *Agent) Trace(ctx context.Context, o plan.TraceOrder, heard func(int, route.Probe)) []plan.Trace {
	now := time.Now()
	list := make([]plan.Trace, len(o.Targets))
	for i, x := range o.Targets {
		list[i] = plan.Trace{ID: x.ID, Target: x.Target, Family: x.Family, Via: o.Via, Started: now, Outcome: plan.Failed}
	}
	if err := a.traceAll(ctx, o, list, heard); err != nil {
		for i := range list {
			if list[i].Report == nil && list[i].Reason == "" {
				list[i].Reason = err.Error()
			}
		}
	}
	for i := range list {
		list[i].Ended = time.Now()
	}
	return list
}

func (a *Agent) traceAll(ctx context.Context, o plan.TraceOrder, list []plan.Trace, heard func(int, route.Probe)) error {
	ground, err := a.ground()
	if err != nil {
		return err
	}
	vias, err := reading.ParseVias(o.Via)
	if err != nil {
		return err
	}
	var requests []trace.Request
	var at []int // in list, of each request
	for i, x := range o.Targets {
		addr, err := netip.ParseAddr(x.Target)
		if err != nil {
			found, err := a.options.Network.Lookup(ctx, x.Target, x.Family)
			if err != nil {
				list[i].Reason = err.Error()
				continue
			}
			addr = found.Addrs[0]
		}
		r := trace.Request{Addr: addr, Via: vias[0], Probes: o.Probes, Interval: o.Interval, Wait: o.Wait, LastTTL: o.LastTTL, OneFlow: o.OneFlow, PathMTU: o.PathMTU, DSCP: o.DSCP}
		if heard != nil {
			r.Heard = func(p route.Probe) { heard(i, p) }
		}
		requests, at = append(requests, r), append(at, i)
	}
	if len(requests) == 0 {
		return nil
	}
	results, err := trace.Measure(ctx, a.options.Network, ground, trace.Options{}, requests...)
	if err != nil && results == nil {
		return err
	}
	for k, r := range results {
		i := at[k]
		if r.Err != nil {
			list[i].Reason = r.Err.Error()
			continue
		}
		report := r.Report(ctx, a.options.Network, ground, trace.Context{Target: o.Targets[i].Target, From: a.options.Name, Names: true})
		list[i].Report, list[i].Outcome = &report, plan.Done
		if r.Ended == trace.Cut {
			list[i].Outcome, list[i].Reason = plan.Cancelled, "stopped before its end; what was found is kept"
		}
		if r.Dropped > 0 {
			list[i].Reason = fmt.Sprintf("this host's own buffer had no room for %d packets", r.Dropped)
		}
	}
	return err
}
