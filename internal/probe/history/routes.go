package history

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/trace"
)

// Way is a route that is traced again and again.
type Way struct {
	Agent, Host string // the name of the agent, and of the node that it stands at
	Target      string
	To          netip.Addr
	Every       time.Duration
	Probes      int
	Owners      route.Owners
}

// Traced is one trace.
type Traced struct {
	At     time.Time
	Took   time.Duration
	Report finding.TraceReport
}

// Routes are the traces that a watch would have made in a world from start (inclusive) to end
// (exclusive), in virtual time.
func Routes(ctx context.Context, m *world.Model, w Way, start, end time.Time) (list []Traced, err error) {
	names := map[netip.Addr]string{}
	for at := start.Truncate(w.Every); at.Before(end) && ctx.Err() == nil; at = at.Add(w.Every) {
		if at.Before(start) {
			continue
		}
		h, err := live.Virtual(m, at).At(w.Host)
		if err != nil {
			return nil, err
		}
		results, err := trace.Measure(ctx, h, h, trace.Options{Mark: uint64(at.UnixNano())}, trace.Request{Addr: w.To, Probes: w.Probes, Interval: time.Second, OneFlow: true})
		if err != nil {
			return nil, err
		}
		r := results[0]
		if r.Err != nil {
			return nil, fmt.Errorf("the past of the route to %s: %w", w.Target, r.Err)
		}
		report := r.Report(ctx, h, h, trace.Context{Target: w.Target, From: w.Agent, Names: true, Known: names, Owners: w.Owners})
		for a, name := range report.Names() {
			names[a] = name
		}
		list = append(list, Traced{At: at, Took: r.Took, Report: report})
	}
	return list, ctx.Err()
}
