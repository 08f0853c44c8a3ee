package trace

import (
	"context"
	"maps"
	"math"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
)

// Traced is the result as findings want it.
func (r Result) Traced() finding.Traced {
	m := r.MTU
	var before []finding.Before
	for _, p := range r.Past {
		before = append(before, finding.Before{Route: p.Route, Faults: p.Faults, Dead: p.Dead, Until: p.Last, Doubt: p.Doubt, Between: p.Between})
	}
	return finding.Traced{Route: r.Route, Faults: r.Faults, Spared: r.Spared, Dead: r.Dead, Before: before, Names: map[netip.Addr]string{},
		MTU: finding.RouteMTU{Link: m.Link, Path: m.Path, TTL: m.TTL, By: m.By, Before: m.Before, Lost: m.Lost}}
}

const namesAtOnce = 32

// Names looks up the names of a trace's hops, past ones too, side by side, each within a limit.
// Those that have none, or not in time, are left out; those that are known already
// are not asked for.
func Names(ctx context.Context, n network.Network, r Result, known map[netip.Addr]string, limit time.Duration) map[netip.Addr]string {
	hops := slices.Clone(r.Route.Hops)
	for _, p := range r.Past {
		hops = append(hops, p.Route.Hops...)
	}
	names := map[netip.Addr]string{}
	maps.Copy(names, known)
	asked := map[netip.Addr]bool{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	gate := make(chan struct{}, namesAtOnce)
	ctx, cancel := context.WithTimeout(ctx, 2*limit)
	defer cancel()
	for _, h := range hops {
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

// leastDoubted and mostDoubted bound how many probes of another kind are sent to a target
// whose last link alone seems to lose; they leave doubtedGap apart.
const (
	leastDoubted = 20
	mostDoubted  = 400
	doubtedGap   = 25 * time.Millisecond
)

// Doubted asks a target by another kind of probe where it alone, and no hop before it,
// leaves probes unanswered: a link that loses does so whatever the kind, a target may
// spare its answers of one kind. The result is nil where nothing is in doubt, and has no
// probes where it answers no other kind that was tried.
func Doubted(ctx context.Context, n network.Network, ground Ground, o Options, r Result) *finding.OtherKind {
	f, ok := r.atTheLast()
	if !ok {
		return nil
	}
	probes := max(leastDoubted, min(mostDoubted, int(math.Ceil(math.Log(0.001)/math.Log1p(-min(0.99, f.Ratio))))))
	for _, via := range otherKinds {
		if via == r.Via || via.Kind == r.Via.Kind && via.Kind == reading.ByICMP || ctx.Err() != nil {
			continue
		}
		// By several flows: one of them may be put on a way that lets nothing through, or on
		// another way back than those before.
		ask := Request{Addr: r.Addr, Via: via, FirstTTL: feelerTTL, LastTTL: feelerTTL, Wait: time.Second, Silent: 1}
		first, err := Measure(ctx, n, ground, o, ask)
		if err != nil || first[0].Err != nil || !first[0].Alive {
			continue
		}
		ask.Probes, ask.Interval, ask.Flows = probes, doubtedGap, leastWays
		results, err := Measure(ctx, n, ground, o, ask)
		if err != nil || results[0].Err != nil {
			continue
		}
		var through loss.Ratio
		for _, b := range results[0].Route.Branches {
			if !b.Dead {
				through.Sent, through.Lost = through.Sent+b.Loss.Sent, through.Lost+b.Loss.Lost
			}
		}
		if through.Sent == 0 {
			continue
		}
		return &finding.OtherKind{Via: via.String(), Loss: through}
	}
	return &finding.OtherKind{}
}

// atTheLast is the fault on the last link, if there is one.
func (r Result) atTheLast() (route.Fault, bool) {
	for _, f := range r.Faults {
		if f.To == r.Route.Target && f.TTL == len(r.Route.Hops) {
			return f, true
		}
	}
	return route.Fault{}, false
}
