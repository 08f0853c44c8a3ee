// Package proving makes random networks whose truth is known, and tells how much of
// it a trace found.
//
//	v, err := proving.Try(ctx, 17, 1000)
package proving

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/route"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/trace"
)

// router of a random network.
type router struct {
	name   string
	addr   netip.Addr
	ttl    int
	silent bool
	spares bool
}

// Truth is a random network: its file, and what is true of it.
type Truth struct {
	File    string
	Hops    int                  // to the target
	At      map[int][]netip.Addr // by TTL, who answers there
	Target  netip.Addr
	Loss    float64 // of the lossy link, in each direction; 0 when none loses
	LossTTL int     // of the hop that the lossy link leads to
	// LossFrom and LossTo are its ends; one that is not valid is a host.
	LossFrom, LossTo netip.Addr
	Share            float64 // of the flows that pass it
	spares           map[netip.Addr]bool
}

const (
	mostHops     = 20
	mostDiamonds = 3
	mostWidth    = 4
	silentOf     = 20 // one router of so many
	sparesOf     = 8
	lossyOf      = 3 // two networks of so many have a lossy link
)

// Random makes a network from a seed: up to 20 hops, up to three places where flows
// part and meet again, routers that are silent or spare their answers, and loss on
// one link at most.
func Random(seed uint64) Truth {
	r := rand.New(rand.NewPCG(seed, 99))
	t := Truth{At: map[int][]netip.Addr{}, Target: netip.MustParseAddr("203.0.113.2"), spares: map[netip.Addr]bool{}}
	var nodes, links strings.Builder
	n, ttl, diamonds := 0, 0, 0
	most := 5 + r.IntN(mostHops-5) // hops, with the target
	type edge struct {
		from, to router
		share    float64
	}
	var edges []edge
	make1 := func(plain bool) router {
		n++
		x := router{name: fmt.Sprintf("r%d.example", n), addr: netip.AddrFrom4([4]byte{198, 51, 100, byte(n)}), ttl: ttl}
		extra := ""
		switch {
		case plain:
		case r.IntN(silentOf) == 0:
			x.silent, extra = true, ", silent: true"
		case r.IntN(sparesOf) == 0:
			x.spares, extra = true, fmt.Sprintf(", icmp_limit: %d/s burst %d", 1+r.IntN(3), 1+r.IntN(6))
		}
		fmt.Fprintf(&nodes, "  - {name: %s, router: true, addresses: [%s]%s}\n", x.name, x.addr, extra)
		if !x.silent {
			t.At[ttl] = append(t.At[ttl], x.addr)
		}
		t.spares[x.addr] = x.spares
		return x
	}
	join := func(from, to router, share float64) { edges = append(edges, edge{from, to, share}) }
	ttl = 1
	last := make1(true)
	join(router{name: "here.example"}, last, 1)
	for ttl < most-1 {
		long := 1 + r.IntN(2)
		if diamonds < mostDiamonds && ttl+long+1 < most-1 && r.IntN(3) == 0 {
			diamonds++
			width := 2 + r.IntN(mostWidth-1)
			var ends []router
			at := ttl
			for range width {
				before := last
				for k := range long {
					ttl = at + 1 + k
					x := make1(false)
					join(before, x, 1/float64(width))
					before = x
				}
				ends = append(ends, before)
			}
			ttl = at + long + 1
			meet := make1(false)
			for _, e := range ends {
				join(e, meet, 1/float64(width))
			}
			last = meet
			continue
		}
		ttl++
		x := make1(false)
		join(last, x, 1)
		last = x
	}
	ttl++
	join(last, router{name: "there.example", addr: t.Target, ttl: ttl}, 1)
	t.Hops = ttl
	t.At[ttl] = []netip.Addr{t.Target}
	lossy := -1
	if r.IntN(lossyOf) > 0 {
		lossy = r.IntN(len(edges))
		t.Loss = 0.02 + 0.08*r.Float64()
	}
	for i, e := range edges {
		extra := ""
		if i == lossy {
			t.LossTTL, t.LossFrom, t.LossTo, t.Share = e.to.ttl, e.from.addr, e.to.addr, e.share
			// Lost on the way there: the answers of hops before it do not cross it.
			extra = fmt.Sprintf(", toward: {%s: {loss: %.3f%%}}", e.to.name, 100*t.Loss)
		}
		fmt.Fprintf(&links, "  - {between: [%s, %s], delay: %dus, variation: gamma %dus%s}\n", e.from.name, e.to.name, 200+r.IntN(4000), 20+r.IntN(200), extra)
	}
	t.File = fmt.Sprintf("world: random %d\nseed: %d\nnodes:\n  - {name: here.example, addresses: [192.0.2.2]}\n  - {name: there.example, addresses: [%s]}\n%slinks:\n%s", seed, seed+1, t.Target, nodes.String(), links.String())
	return t
}

// Verdict is how much of the truth a trace found.
type Verdict struct {
	Truth
	Parted   int // hops with several answering routers
	Complete int // of those, at which all were found
	Wrong    int // addresses that are not where the trace has them
	Sparing  int // routers that spare their answers
	Reached  bool
	Named    bool // the lossy link is in what was named
	Blamed   bool // loss was placed where there is none
	Spared   bool // and that at a router that only spares its answers
	Result   trace.Result
}

// Try traces a random network with so many probes to each hop.
func Try(ctx context.Context, seed uint64, probes int) (Verdict, error) {
	t := Random(seed)
	start := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	m, err := world.Read([]byte(t.File), world.Options{Reference: start})
	if err != nil {
		return Verdict{}, fmt.Errorf("random network %d: %w", seed, err)
	}
	h, err := live.Virtual(m, start).At("here.example")
	if err != nil {
		return Verdict{}, err
	}
	results, err := trace.Measure(ctx, h, h, trace.Options{Mark: seed + 1}, trace.Request{Addr: t.Target, Probes: probes, Interval: time.Second})
	if err != nil {
		return Verdict{}, err
	}
	if results[0].Err != nil {
		return Verdict{}, results[0].Err
	}
	return t.judge(results[0]), nil
}

func (t Truth) judge(r trace.Result) Verdict {
	v := Verdict{Truth: t, Result: r, Reached: r.Route.Reached && len(r.Route.Hops) == t.Hops}
	for _, is := range t.spares {
		if is {
			v.Sparing++
		}
	}
	for _, h := range r.Route.Hops {
		for _, n := range h.Nodes {
			if !slices.Contains(t.At[h.TTL], n.Addr) {
				v.Wrong++
			}
		}
		if want := t.At[h.TTL]; len(want) > 1 {
			v.Parted++
			found := true
			for _, a := range want {
				found = found && h.Has(a)
			}
			if found {
				v.Complete++
			}
		}
	}
	for i, f := range r.Faults {
		if t.Loss > 0 && t.holds(f) {
			v.Named = v.Named || i == 0
			continue
		}
		v.Blamed = true
		v.Spared = v.Spared || t.spares[f.To]
	}
	return v
}

// holds reports whether the lossy link is in the stretch that a fault names.
func (t Truth) holds(f route.Fault) bool {
	if f.FromTTL >= t.LossTTL || f.TTL < t.LossTTL {
		return false
	}
	// On one of several branches it must be that one, at one end at least.
	if t.Share == 1 {
		return true
	}
	return f.To == t.LossTo || f.From == t.LossFrom || f.From == t.LossTo || f.TTL > t.LossTTL && f.FromTTL < t.LossTTL-1
}
