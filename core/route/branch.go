package route

import (
	"cmp"
	"math"
	"net/netip"
	"slices"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// branches groups the flows whose whole way was asked by the ways they take. A hop
// that was silent to one flow, or that balances by packet, does not tell ways
// apart.
func (g *Gather) branches(r *Route, last int) {
	flows := map[int]bool{}
	for s := range g.spots {
		flows[s.flow] = true
	}
	type way struct {
		hops  []netip.Addr
		flows []int
		dead  bool
	}
	var ways []way
	for _, d := range g.vanished() {
		hops := make([]netip.Addr, d.FromTTL)
		for _, flow := range d.Flows {
			for ttl := 1; ttl <= d.FromTTL; ttl++ {
				if t := g.spots[spot{ttl, flow}]; t != nil && len(t.heard) > 0 && !r.Hops[ttl-1].PerPacket {
					hops[ttl-1] = t.first()
				}
			}
			delete(flows, flow)
		}
		ways = append(ways, way{hops, d.Flows, true})
	}
	for _, flow := range sortedFlows(flows) {
		hops, ok := g.way(r, flow, last)
		if _, stops := g.stops[flow]; !ok || r.Reached && !stops {
			continue // whether it is lost or led astray is not known
		}
		i := slices.IndexFunc(ways, func(w way) bool { return !w.dead && agree(w.hops, hops) })
		if i < 0 {
			ways = append(ways, way{hops, []int{flow}, false})
			continue
		}
		ways[i].flows = append(ways[i].flows, flow)
		for k, a := range hops { // what one flow did not hear another may have
			if !ways[i].hops[k].IsValid() {
				ways[i].hops[k] = a
			}
		}
	}
	for _, w := range ways {
		b := Branch{Hops: w.hops, Flows: w.flows, Dead: w.dead}
		for _, flow := range w.flows {
			end, ok := g.ends[flow]
			if !ok {
				end = g.lastTTL()
			}
			t := g.spots[spot{end, flow}]
			if t == nil {
				continue
			}
			b.Loss = g.count(t, b.Loss)
			own := FlowFigures{Flow: flow, Loss: g.count(t, loss.Ratio{}), RTT: math.NaN(), Low: math.NaN(), High: math.NaN()}
			from := len(b.RTTs)
			for _, h := range t.heard {
				b.RTTs = append(b.RTTs, h.rtts...)
			}
			if m := medianOf(b.RTTs[from:]); m.set {
				own.RTT, own.Low, own.High = figure.Millis(m.median), figure.Millis(m.low), figure.Millis(m.high)
			}
			b.ByFlow = append(b.ByFlow, own)
		}
		r.Branches = append(r.Branches, b)
	}
	for i, b := range r.Branches {
		r.Branches[i].Share = r.Share(func(flow int) bool { return slices.Contains(b.Flows, flow) })
	}
	slices.SortStableFunc(r.Branches, func(a, b Branch) int { return cmp.Compare(b.Share.Value(), a.Share.Value()) })
	for i := range r.Branches {
		r.Branches[i].Own = own(r.Branches, i)
	}
}

func sortedFlows(set map[int]bool) []int {
	var list []int
	for f := range set {
		list = append(list, f)
	}
	slices.Sort(list)
	return list
}

// way is a flow's hops; false when not all of them were asked.
func (g *Gather) way(r *Route, flow, last int) ([]netip.Addr, bool) {
	end := g.end(flow, last)
	hops := make([]netip.Addr, end)
	for ttl := 1; ttl <= end; ttl++ {
		t := g.spots[spot{ttl, flow}]
		switch {
		case t != nil && !r.Hops[ttl-1].PerPacket:
			hops[ttl-1] = t.first()
		case t == nil && len(r.Hops[ttl-1].Nodes) > 1 && !r.Hops[ttl-1].PerPacket:
			return nil, false
		case t == nil && len(r.Hops[ttl-1].Nodes) == 1:
			hops[ttl-1] = r.Hops[ttl-1].Nodes[0].Addr
		}
	}
	return hops, true
}

func agree(a, b []netip.Addr) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].IsValid() && b[i].IsValid() && a[i] != b[i] {
			return false
		}
	}
	return true
}

// own are the TTLs at which one branch differs from others; from a dead one, where that
// is all that differs, at the hop that it does not get to.
func own(all []Branch, i int) []int {
	differs := func(beyond bool) (ttls []int) {
		for k, a := range all[i].Hops {
			for j, other := range all {
				if j == i || !a.IsValid() {
					continue
				}
				ends := k >= len(other.Hops) && (!other.Dead || beyond && k == len(other.Hops))
				if ends || k < len(other.Hops) && other.Hops[k].IsValid() && other.Hops[k] != a {
					ttls = append(ttls, k+1)
					break
				}
			}
		}
		return ttls
	}
	if ttls := differs(false); len(ttls) > 0 {
		return ttls
	}
	return differs(true)
}
