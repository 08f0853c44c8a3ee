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

// Planted is one fault of a hard network.
type Planted struct {
	From, To netip.Addr // of the link; one that is not valid is a host
	FromName string
	TTL      int     // of the hop that the link leads to
	Loss     float64 // on the way there; 1 for a way that lets nothing through
	Share    float64 // of the flows that pass it
}

// HardTruth is a network with up to three faults, decoys beside them.
type HardTruth struct {
	File   string
	Hops   int
	Target netip.Addr
	Faults []Planted
}

// Hard makes a network from a seed: a line of routers with up to two places where flows
// part over two or three ways, on it none to three faults (a link that loses, also one
// of a way; a way that lets nothing through), and routers that spare their answers.
func Hard(seed uint64) HardTruth {
	r := rand.New(rand.NewPCG(seed, 417))
	t := HardTruth{Target: netip.MustParseAddr("203.0.113.2")}
	type node struct {
		name string
		addr netip.Addr
		ttl  int
	}
	type edge struct {
		from, to node
		share    float64
		way      bool // the first of one of several ways
	}
	var nodes, links strings.Builder
	var edges []edge
	n := 0
	router := func(ttl int) node {
		n++
		x := node{fmt.Sprintf("r%d.example", n), netip.AddrFrom4([4]byte{198, 51, 100, byte(n)}), ttl}
		extra := ""
		if ttl > 1 && r.IntN(7) == 0 {
			extra = fmt.Sprintf(", icmp_limit: %d/s burst %d", 1+r.IntN(3), 1+r.IntN(6))
		}
		fmt.Fprintf(&nodes, "  - {name: %s, router: true, addresses: [%s]%s}\n", x.name, x.addr, extra)
		return x
	}
	last := router(1)
	edges = append(edges, edge{node{name: "here.example"}, last, 1, false})
	ttl, parted := 1, 0
	for most := 4 + r.IntN(6); ttl < most; {
		if parted < 2 && r.IntN(3) == 0 {
			parted++
			width := 2 + r.IntN(2)
			ends := make([]node, width)
			for w := range width {
				ends[w] = router(ttl + 1)
				edges = append(edges, edge{last, ends[w], 1 / float64(width), true})
			}
			ttl += 2
			meet := router(ttl)
			for _, e := range ends {
				edges = append(edges, edge{e, meet, 1 / float64(width), true})
			}
			last = meet
			continue
		}
		ttl++
		x := router(ttl)
		edges = append(edges, edge{last, x, 1, false})
		last = x
	}
	ttl++
	t.Hops = ttl
	edges = append(edges, edge{last, node{"there.example", t.Target, ttl}, 1, false})
	loss := map[int]float64{}
	dead := map[int]bool{} // TTLs of partings that have a dead way
	for range r.IntN(4) {
		i := r.IntN(len(edges))
		e := edges[i]
		if loss[i] > 0 || dead[e.to.ttl] || dead[e.to.ttl-1] || dead[e.to.ttl+1] {
			continue
		}
		loss[i] = 0.03 + 0.2*r.Float64()
		if e.way && r.IntN(2) == 0 && !slices.ContainsFunc(t.Faults, func(p Planted) bool { return p.Share < 1 }) {
			loss[i], dead[e.to.ttl] = 1, true
		}
		t.Faults = append(t.Faults, Planted{e.from.addr, e.to.addr, e.from.name, e.to.ttl, loss[i], e.share})
	}
	for i, e := range edges {
		extra := ""
		if loss[i] > 0 { // answers of the hops before do not cross it
			extra = fmt.Sprintf(", toward: {%s: {loss: %.4f%%}}", e.to.name, 100*loss[i])
		}
		fmt.Fprintf(&links, "  - {between: [%s, %s], delay: %dus, variation: gamma %dus%s}\n", e.from.name, e.to.name, 200+r.IntN(4000), 20+r.IntN(200), extra)
	}
	t.File = fmt.Sprintf("world: hard %d\nseed: %d\nnodes:\n  - {name: here.example, addresses: [192.0.2.2]}\n  - {name: there.example, addresses: [%s]}\n%slinks:\n%s", seed, seed+1, t.Target, nodes.String(), links.String())
	return t
}

// HardVerdict is how a trace did with a hard network.
type HardVerdict struct {
	HardTruth
	Told   []bool // of the planted faults, by place and part
	False  int    // that were told and are not there
	Off    int    // whose own part is not in the interval that was told, widened by one point
	Result trace.Result
}

// TryHard traces a hard network with so many probes to each hop.
func TryHard(ctx context.Context, seed uint64, probes int) (HardVerdict, error) {
	v := HardVerdict{HardTruth: Hard(seed)}
	start := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	m, err := world.Read([]byte(v.File), world.Options{Reference: start})
	if err != nil {
		return v, fmt.Errorf("hard network %d: %w", seed, err)
	}
	h, err := live.Virtual(m, start).At("here.example")
	if err != nil {
		return v, err
	}
	results, err := trace.Measure(ctx, h, h, trace.Options{Mark: seed + 1}, trace.Request{Addr: v.Target, Probes: probes, Interval: 250 * time.Millisecond})
	if err != nil {
		return v, err
	}
	if results[0].Err != nil {
		return v, results[0].Err
	}
	v.Result = results[0]
	v.judge()
	return v, nil
}

func (v *HardVerdict) judge() {
	v.Told = make([]bool, len(v.Faults))
	for _, f := range v.Result.Faults {
		i := slices.IndexFunc(v.Faults, func(p Planted) bool { return p.Loss < 1 && p.within(f) && f.From == p.From && f.To == p.To })
		if i < 0 {
			i = slices.IndexFunc(v.Faults, func(p Planted) bool { return p.Loss < 1 && p.within(f) })
		}
		if i < 0 {
			v.False++
			continue
		}
		v.Told[i] = true
		if p := v.Faults[i].Loss; p < f.Low-0.01 || p > f.High+0.01 {
			v.Off++
		}
	}
	for _, d := range v.Result.Dead {
		i := slices.IndexFunc(v.Faults, func(p Planted) bool { return p.Loss == 1 && p.TTL == d.TTL && p.From == d.From })
		if i < 0 {
			v.False++
			continue
		}
		v.Told[i] = true
	}
}

// within reports whether a planted fault lies in the stretch that is named, and on the
// way that is, if one is.
func (p Planted) within(f route.Fault) bool {
	if f.FromTTL >= p.TTL || f.TTL < p.TTL || (p.Share == 1) != f.Share.All() && p.Share == 1 {
		return false
	}
	return p.Share == 1 || f.To == p.To || f.From == p.From || f.From == p.To || f.To == p.From || f.TTL > p.TTL && f.FromTTL < p.TTL-1
}
