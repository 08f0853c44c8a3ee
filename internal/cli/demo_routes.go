package cli

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"time"

	"golang.org/x/sync/errgroup"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/demo"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/trace"
)

// The past of routes: every second hour of the last days.
const (
	routeHistory = 4 * 24 * time.Hour
	routeEvery   = 2 * time.Hour
	routeProbes  = 10
)

// demoRoutes makes the past of the routes that the demo's watches trace, in virtual
// time.
func (c *call) demoRoutes(to *controller.Controller, past *controller.Past, m *world.Model, end time.Time) error {
	group, ctx := errgroup.WithContext(c.ctx)
	group.SetLimit(3)
	for _, a := range to.Agents() {
		for _, w := range to.Watches() {
			if w.Spec.Kind != controller.KindTrace {
				continue
			}
			for _, from := range w.Spec.From {
				if from != a.Name {
					continue
				}
				for _, target := range w.Spec.To {
					group.Go(func() error {
						list, err := pastTraces(ctx, m, a.Name, a.Address, target, w.ID, end)
						if err != nil {
							return err
						}
						for _, t := range list {
							past.Trace(a.ID, t)
						}
						return to.Store().ImportTraces(ctx, a.ID, list)
					})
				}
			}
		}
	}
	return group.Wait()
}

// pastTraces are the traces that a watch would have made.
func pastTraces(ctx context.Context, m *world.Model, agent, host, target string, watch ident.ID, end time.Time) ([]plan.Trace, error) {
	addr, err := addressIn(m, target, 4)
	if err != nil {
		return nil, err
	}
	var list []plan.Trace
	names := map[netip.Addr]string{}
	owners, err := route.ParseOwners(bytes.NewReader(demo.Owners))
	if err != nil {
		return nil, err
	}
	for at := end.Add(-routeHistory).Truncate(routeEvery); at.Before(end) && ctx.Err() == nil; at = at.Add(routeEvery) {
		h, err := live.Virtual(m, at).At(host)
		if err != nil {
			return nil, err
		}
		results, err := trace.Measure(ctx, h, h, trace.Options{Mark: uint64(at.UnixNano())}, trace.Request{Addr: addr, Probes: routeProbes, Interval: time.Second, OneFlow: true})
		if err != nil {
			return nil, err
		}
		r := results[0]
		if r.Err != nil {
			return nil, fmt.Errorf("the past of the route to %s: %w", target, r.Err)
		}
		report := r.Report(ctx, h, h, trace.Context{Target: target, From: agent, Names: true, Known: names, Owners: owners})
		for a, name := range report.Names() {
			names[a] = name
		}
		list = append(list, plan.Trace{ID: ident.New(), Watch: watch, Target: target, Family: 4, Via: reading.Via{}.String(), Started: at, Ended: at.Add(r.Took), Outcome: plan.Done, Report: &report})
	}
	return list, ctx.Err()
}
