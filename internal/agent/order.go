package agent

import (
	"context"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/ping"
)

// Measure carries out an order; see plan.Hand.
func (a *Agent) Measure(ctx context.Context, o plan.Order, heard func(int, reading.Probe)) {
	var addrs []netip.Addr
	var vias []reading.Via
	var paths []plan.OrderPath
	var places []int // in the order, of each address
	run := func(p plan.OrderPath, from time.Time, address string, outcome plan.Outcome, reason string) {
		a.spool.addRun(plan.Run{ID: p.Run, Path: p.Path, Started: from, Ended: time.Now(), Address: address, Outcome: outcome, Reason: reason})
	}
	began := time.Now()
	for i, p := range o.Paths {
		addr, err := a.address(ctx, plan.Task{Target: p.Target, Family: p.Family})
		if err != nil {
			run(p, began, "", plan.Failed, err.Error())
			continue
		}
		addrs, vias, paths = append(addrs, addr), append(vias, p.Via), append(paths, p)
		places = append(places, i)
	}
	if len(addrs) == 0 {
		return
	}
	results, err := ping.Measure(ctx, a.options.Network, ping.Request{
		Addrs: addrs, Vias: vias, Probes: o.Probes, Interval: o.Interval, Wait: o.Wait, Payload: o.Payload,
		Socket: network.SocketOptions{DSCP: o.DSCP},
		Heard:  func(i int, p reading.Probe) { heard(places[i], p) },
	})
	if err != nil {
		for _, p := range paths {
			run(p, began, "", plan.Failed, err.Error())
		}
		return
	}
	for i, r := range results {
		if r.Err != nil {
			run(paths[i], began, r.Addr.String(), plan.Failed, r.Err.Error())
			continue
		}
		if len(r.Probes) > 0 {
			a.spool.add(plan.Record{Path: paths[i].Path, Run: paths[i].Run, Reading: r.Reading, Packed: reading.Pack(r.Reading.At, r.Probes), Flags: plan.OnDemand})
		}
		outcome, reason := plan.Done, ""
		if ctx.Err() != nil {
			outcome, reason = plan.Cancelled, "stopped before its end; what was measured is kept"
		}
		if cause, all := allUnsent(r.Probes); all {
			outcome, reason = plan.Failed, "no probe could be sent: "+cause
		}
		run(paths[i], r.Started, r.Addr.String(), outcome, reason)
	}
}
