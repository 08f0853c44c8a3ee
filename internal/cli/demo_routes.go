package cli

import (
	"bytes"
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/demo"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
)

// The past of routes: every second hour of the last days.
const (
	routeHistory = 4 * 24 * time.Hour
	routeEvery   = 2 * time.Hour
	routeProbes  = 10
)

// demoRoutes makes the past of the routes that the demo's watches trace, in virtual
// time.
func (c *call) demoRoutes(to *service.Service, past *paths.Past, m *world.Model, end time.Time) error {
	group, ctx := errgroup.WithContext(c.ctx)
	group.SetLimit(3)
	for _, a := range to.Fleet.Agents() {
		for _, w := range to.Watches.All() {
			if !traces(w.Spec) {
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
						return to.Store.ImportTraces(ctx, a.ID, list)
					})
				}
			}
		}
	}
	return group.Wait()
}

// pastTraces are the traces that a watch would have made.
func pastTraces(ctx context.Context, m *world.Model, agent, host, target string, watch ident.ID, end time.Time) ([]protocol.Trace, error) {
	addr, err := addressIn(m, target, 4)
	if err != nil {
		return nil, err
	}
	owners, err := route.ParseOwners(bytes.NewReader(demo.Owners))
	if err != nil {
		return nil, err
	}
	way := history.Way{Agent: agent, Host: host, Target: target, To: addr, Every: routeEvery, Probes: routeProbes, Owners: owners}
	traced, err := history.Routes(ctx, m, way, end.Add(-routeHistory).Truncate(routeEvery), end)
	list := make([]protocol.Trace, len(traced))
	for i, t := range traced {
		list[i] = protocol.Trace{ID: ident.New(), Watch: watch, Target: target, Family: 4, Via: reading.Via{}.String(), Started: t.At, Ended: t.At.Add(t.Took), Outcome: protocol.Done, Report: &t.Report}
	}
	return list, err
}

// traces reports whether a watch finds routes.
func traces(s watches.Spec) bool {
	k, err := kind.Find(s.Kind)
	if err != nil {
		return false
	}
	_, is := k.Result().(kind.Routed)
	return is
}
