package route

import (
	"math"
	"net/netip"
	"slices"

	"woodlark.example/core/loss"
)

// Dead is a way by flow that lets nothing through: flows that are put on it vanish.
type Dead struct {
	TTL     int        // at which they are first not heard of any more
	FromTTL int        // of the last hop that answered them; 0 for this host
	From    netip.Addr // who that is; not valid for this host
	Flows   []int
	Share   Share
	Chance  float64 // that so much of them is lost without such a way, at most
}

const (
	// mostVanishing is the chance at which the flows of a way whose probes are all lost
	// are still taken for unlucky, and mostUnlucky that of each of them.
	mostVanishing = 1e-5
	mostUnlucky   = 0.05
	// leastVanishing is the least loss that is reckoned with where none was seen.
	leastVanishing = 0.02
	// tellsSilent is how often a hop that answers others must be silent to a flow
	// to say that it does not get there.
	tellsSilent = 2
)

// lastTTL is where flows end that never reached the target: where most others did.
func (g *Gather) lastTTL() int {
	count := map[int]int{}
	for _, end := range g.ends {
		count[end]++
	}
	best := 0
	for end, n := range count {
		if n > count[best] || n == count[best] && end > best {
			best = end
		}
	}
	return best
}

// vanished finds the flows that never reach the target where others do, and groups them
// by where they vanish. How likely it is that the losses of one are by chance follows
// from what the others lose at the same hops: a router, or a target, that spares its
// answers spares those of all flows.
func (g *Gather) vanished() []Dead {
	last := g.lastTTL()
	if last == 0 {
		return nil
	}
	usual := g.usualLoss(last)
	type gone struct {
		flow   int
		way    []netip.Addr // by TTL; not valid where not heard
		silent []bool       // at a hop that would have answered
		chance float64
	}
	flows := map[int]bool{}
	for s := range g.spots {
		flows[s.flow] = true
	}
	var list []gone
	for _, f := range sortedFlows(flows) {
		if _, ends := g.stops[f]; ends {
			continue
		}
		x := gone{flow: f, way: make([]netip.Addr, last+1), silent: make([]bool, last+1)}
		heard := 0
		for ttl := 1; ttl <= last; ttl++ {
			if t := g.spots[spot{ttl, f}]; t != nil && len(t.heard) > 0 {
				x.way[ttl], heard = t.first(), ttl
			}
		}
		surprise := 0.0
		for ttl := heard + 1; ttl <= last; ttl++ {
			t := g.spots[spot{ttl, f}]
			if t == nil {
				continue
			}
			x.silent[ttl] = t.sent >= tellsSilent && usual[ttl] < 0.5
			surprise += float64(t.sent) * math.Log(usual[ttl])
		}
		if x.chance = math.Exp(surprise); x.chance*float64(len(flows)) < mostUnlucky {
			list = append(list, x)
		}
	}
	var out []Dead
	var ways []gone // of out
	for _, x := range list {
		i := slices.IndexFunc(ways, func(w gone) bool {
			for ttl := 1; ttl <= last; ttl++ {
				a, b := w.way[ttl], x.way[ttl]
				if a.IsValid() && b.IsValid() && a != b || a.IsValid() && x.silent[ttl] || b.IsValid() && w.silent[ttl] {
					return false
				}
			}
			return true
		})
		if i < 0 {
			x.way, x.silent = slices.Clone(x.way), slices.Clone(x.silent)
			ways, out = append(ways, x), append(out, Dead{Chance: x.chance * float64(len(flows)), Flows: []int{x.flow}})
			continue
		}
		for ttl := 1; ttl <= last; ttl++ {
			if x.way[ttl].IsValid() {
				ways[i].way[ttl] = x.way[ttl]
			}
			ways[i].silent[ttl] = ways[i].silent[ttl] || x.silent[ttl]
		}
		out[i].Flows = append(out[i].Flows, x.flow)
		out[i].Chance *= x.chance * float64(len(flows))
	}
	for i := range out {
		d := &out[i]
		for ttl := 1; ttl <= last; ttl++ {
			if a := ways[i].way[ttl]; a.IsValid() {
				d.FromTTL, d.From = ttl, a
			}
		}
		d.TTL = d.FromTTL + 1
	}
	return slices.DeleteFunc(out, func(d Dead) bool { return d.Chance >= mostVanishing })
}

// usualLoss is, by TTL, what flows that reach the target lose there; of the others
// nothing is known.
func (g *Gather) usualLoss(last int) []float64 {
	sums := make([]loss.Ratio, last+1)
	for s, t := range g.spots {
		if end, ok := g.ends[s.flow]; ok && s.ttl <= end && s.ttl <= last {
			sums[s.ttl].Sent += t.sent
			sums[s.ttl].Lost += t.sent - t.answered
		}
	}
	usual := make([]float64, last+1)
	for ttl, r := range sums {
		usual[ttl] = 1
		if r.Sent > 0 { // no more certain than so many probes allow
			_, high, _ := r.Interval()
			usual[ttl] = min(1, max(leastVanishing, (r.Value().Or(0)+high)/2))
		}
	}
	return usual
}

// Dead are the ways of a route that let nothing through, the one with the most flows
// first.
func (g *Gather) Dead(r Route) []Dead {
	list := g.levelled().vanished()
	for i, d := range list {
		list[i].Share = r.Share(func(flow int) bool { return slices.Contains(d.Flows, flow) })
	}
	slices.SortStableFunc(list, func(a, b Dead) int { return len(b.Flows) - len(a.Flows) })
	return list
}

// deadFlows are those that vanish, and the TTL at which they do.
func deadFlows(list []Dead) map[int]int {
	out := map[int]int{}
	for _, d := range list {
		for _, f := range d.Flows {
			out[f] = d.TTL
		}
	}
	return out
}
