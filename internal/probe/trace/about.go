package trace

import (
	"context"
	"maps"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
)

// Traced is the result as findings want it.
func (r Result) Traced() finding.Traced {
	m := r.MTU
	return finding.Traced{Route: r.Route, Faults: r.Faults, Names: map[netip.Addr]string{},
		MTU: finding.RouteMTU{Link: m.Link, Path: m.Path, TTL: m.TTL, By: m.By, Before: m.Before, Lost: m.Lost}}
}

const namesAtOnce = 32

// Names looks up the names of a route's hops, side by side, each within a limit.
// Those that have none, or not in time, are left out; those that are known already
// are not asked for.
func Names(ctx context.Context, n network.Network, r route.Route, known map[netip.Addr]string, limit time.Duration) map[netip.Addr]string {
	names := map[netip.Addr]string{}
	maps.Copy(names, known)
	asked := map[netip.Addr]bool{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	gate := make(chan struct{}, namesAtOnce)
	ctx, cancel := context.WithTimeout(ctx, 2*limit)
	defer cancel()
	for _, h := range r.Hops {
		for _, node := range h.Nodes {
			a := node.Addr
			if asked[a] || known[a] != "" || a.IsLoopback() || ctx.Err() != nil {
				continue
			}
			asked[a] = true
			gate <- struct{}{}
			n.Clock().Go(&wg, func() {
				defer func() { <-gate }()
				ctx, cancel := context.WithTimeout(ctx, limit)
				defer cancel()
				if name, err := n.Reverse(ctx, a); err == nil {
					mu.Lock()
					names[a] = name
					mu.Unlock()
				}
			})
		}
	}
	wg.Wait()
	return names
}

// otherKinds are tried where a target answers no probe of the kind that was asked
// for: what is most often open.
var otherKinds = []reading.Via{{Kind: reading.ByTCP, Port: 443}, {Kind: reading.ByTCP, Port: 80}, {Kind: reading.ByTCP, Port: 22}, {}}

// ByOther is the kind of probe that the target answers when it does not answer the
// one of r; empty when it answers none that is tried.
func ByOther(ctx context.Context, n network.Network, ground Ground, o Options, r Request) string {
	asked := r.Via
	for _, via := range otherKinds {
		if via == asked || ctx.Err() != nil {
			continue
		}
		r := Request{Addr: r.Addr, Via: via, OneFlow: true, FirstTTL: feelerTTL, LastTTL: feelerTTL, Wait: time.Second, Silent: 1}
		results, err := Measure(ctx, n, ground, o, r)
		if err == nil && results[0].Err == nil && results[0].Alive {
			return via.String()
		}
	}
	return ""
}
