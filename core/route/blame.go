package route

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"

	"woodlark.example/core/loss"
)

// Spared is a router that surely spares its own answers, beyond what is lost on the way.
type Spared struct {
	TTL   int
	Addr  netip.Addr
	Ratio float64 // of the probes that it leaves unanswered by itself, 0 to 1
	// Lost are those of the flows that pass it, at the target.
	Lost loss.Ratio
}

// Locate finds the links at which loss begins that carries on to the target, from here
// to there. Every link is weighed by how likely the losses are if it loses by itself,
// at all hops behind it, of the flows that pass it, beside the other links that lose and
// the routers that spare their answers. Flows that vanish altogether are left to Dead.
func (g *Gather) Locate(r Route) ([]Fault, []Spared) {
	if !r.Reached {
		return nil, nil
	}
	g = g.levelled()
	dead := deadFlows(g.vanished())
	links := g.links(r, dead)
	single := g.cells(r, dead)
	cells := alike(single, links)
	m := newModel(cells, g.spread())
	m.single = single
	candidates := append(links, g.sparers(r, dead)...)
	candidates = slices.DeleteFunc(candidates, func(c *cause) bool { return !c.bind(cells) || !c.spares.IsValid() && !shows(cells, c) })
	m.countParts(candidates)
	m.explain(candidates)
	var found []Fault
	var spared []Spared
	for _, c := range m.causes {
		if !c.spares.IsValid() {
			found = append(found, g.fault(m, c, r, dead))
			continue
		}
		spared = append(spared, Spared{TTL: c.ttl, Addr: c.spares, Ratio: -math.Expm1(-c.log), Lost: g.lostBehind(r, c)})
	}
	slices.SortStableFunc(found, func(a, b Fault) int {
		return cmp.Or(cmp.Compare(a.TTL, b.TTL), cmp.Compare(b.Evidence, a.Evidence))
	})
	return found, spared
}

// lostBehind is what the flows that pass a router lose at the target.
func (g *Gather) lostBehind(r Route, c *cause) (end loss.Ratio) {
	for _, n := range r.Hops[c.ttl-1].Nodes {
		if n.Addr != c.spares {
			continue
		}
		for _, f := range n.Flows {
			if last, ok := g.ends[f]; ok && g.spots[spot{last, f}] != nil {
				end = g.count(g.spots[spot{last, f}], end)
			}
		}
	}
	return end
}

// cells are what is known of each flow at each hop; hops that are silent say nothing.
func (g *Gather) cells(r Route, dead map[int]int) []cell {
	last := g.lastTTL()
	silent := g.silent(dead)
	var cells []cell
	for _, s := range slices.SortedFunc(maps.Keys(g.spots), func(a, b spot) int { return cmp.Or(a.ttl-b.ttl, a.flow-b.flow) }) {
		t := g.spots[s]
		end, ends := g.ends[s.flow]
		if !ends {
			end = last
		}
		if at, is := dead[s.flow]; is && s.ttl >= at || s.ttl > end || s.ttl > len(r.Hops) {
			continue
		}
		if s.ttl < end && silent[s.ttl] && len(t.heard) == 0 {
			continue
		}
		n := g.count(t, loss.Ratio{})
		if n.Sent == 0 {
			continue
		}
		c := cell{ttl: s.ttl, flow: s.flow, lost: float64(n.Lost), answered: float64(n.Sent - n.Lost), node: t.first(), end: s.ttl == end}
		if h := r.Hops[s.ttl-1]; !c.node.IsValid() && len(h.Nodes) == 1 {
			c.node = h.Nodes[0].Addr
		}
		if !c.end && !c.node.IsValid() && !r.Hops[s.ttl-1].PerPacket {
			continue // whether it is lost or spared depends on whom it met
		}
		cells = append(cells, c)
	}
	for flow, end := range g.ends { // this host loses nothing to itself
		cells = append(cells, cell{flow: flow, answered: float64(g.count(g.spots[spot{end, flow}], loss.Ratio{}).Sent)})
	}
	return cells
}

// alike puts the cells of flows together that pass the same links.
func alike(cells []cell, links []*cause) []cell {
	class := map[int]string{}
	for _, x := range cells {
		if _, ok := class[x.flow]; !ok {
			bits := make([]byte, 0, len(links))
			for _, l := range links {
				if l.flows[x.flow] {
					bits = append(bits, 1)
				} else {
					bits = append(bits, 0)
				}
			}
			class[x.flow] = string(bits)
		}
	}
	type kind struct {
		ttl   int
		class string
		node  netip.Addr
		end   bool
	}
	at := map[kind]int{}
	var out []cell
	for _, x := range cells {
		k := kind{x.ttl, class[x.flow], x.node, x.end}
		i, ok := at[k]
		if !ok {
			at[k] = len(out)
			out = append(out, x)
			continue
		}
		out[i].lost += x.lost
		out[i].answered += x.answered
	}
	return out
}

// silent are the hops at which some flow meets one who never answers. There, who
// answers nothing says nothing of loss, and one probe alone does not tell which.
func (g *Gather) silent(dead map[int]int) map[int]bool {
	out := map[int]bool{}
	for s, t := range g.spots {
		if at, is := dead[s.flow]; is && s.ttl >= at {
			continue
		}
		if len(t.heard) == 0 && t.sent >= tellsSilence {
			out[s.ttl] = true
		}
	}
	return out
}

// links are where loss may begin: at each hop, of the flows that pass an edge before it.
func (g *Gather) links(r Route, dead map[int]int) []*cause {
	var out []*cause
	tried := map[string]bool{}
	all := map[int]bool{}
	for s := range g.spots {
		if _, vanishes := dead[s.flow]; !vanishes {
			all[s.flow] = true
		}
	}
	add := func(flows []int, from int) {
		set := map[int]bool{}
		for _, f := range flows {
			set[f] = true
		}
		for ttl := from; ttl <= len(r.Hops); ttl++ {
			key := fmt.Sprint(ttl, sortedFlows(set))
			if !tried[key] {
				tried[key] = true
				out = append(out, &cause{ttl: ttl, flows: set, part: len(set) < len(all)})
			}
		}
	}
	whole := map[int]bool{}
	for s := range g.spots {
		whole[s.flow] = true
	}
	add(sortedFlows(whole), 1)
	for _, e := range r.Edges {
		// Packets that are spread one by one pass any of them.
		if r.Hops[e.TTL-1].PerPacket || e.TTL > 1 && r.Hops[e.TTL-2].PerPacket || !e.From.IsValid() && e.TTL > 1 && !e.To.IsValid() {
			continue
		}
		flows := slices.DeleteFunc(slices.Clone(e.Flows), func(f int) bool { at, is := dead[f]; return is && at <= e.TTL })
		if len(flows) > 0 {
			add(flows, e.TTL)
		}
	}
	return out
}

// sparers are the routers that may spare their own answers.
func (g *Gather) sparers(r Route, dead map[int]int) (out []*cause) {
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			if !n.Target {
				out = append(out, &cause{ttl: h.TTL, spares: n.Addr, regular: g.regular(h.TTL, n, dead)})
			}
		}
	}
	return out
}

// regular reports whether a router leaves probes unanswered by turns, more evenly than
// chance would have it: as one does that answers so many a second.
func (g *Gather) regular(ttl int, n Node, dead map[int]int) bool {
	rho, count := g.memory(func(e event) bool {
		at, vanishes := dead[e.flow]
		return e.ttl == ttl && slices.Contains(n.Flows, e.flow) && (!vanishes || at > ttl)
	})
	return count >= 20 && rho < -3/math.Sqrt(float64(count))
}

// shows reports whether a hop tells of its own that a link's loss begins there.
func shows(cells []cell, c *cause) bool {
	here, end := false, false
	for _, x := range cells {
		if c.flows[x.flow] && x.ttl > 0 {
			here = here || x.ttl == c.ttl
			end = end || x.end && x.ttl >= c.ttl
		}
	}
	return here && end
}

// fault describes a cause, as narrowly as the losses allow.
func (g *Gather) fault(m *model, c *cause, r Route, dead map[int]int) Fault {
	f := Fault{Ratio: -math.Expm1(-c.log), Evidence: m.worth(c, m.others(c), nil)}
	f.Low, f.High = m.interval(c)
	for i, x := range m.cells {
		if !x.end || !c.bears[i] {
			continue
		}
		f.End.Lost += int(x.lost)
		f.End.Sent += int(x.lost + x.answered)
	}
	f.Share = r.Share(func(flow int) bool { return c.flows[flow] }, func(flow int) bool {
		at, vanishes := dead[flow]
		return !vanishes || at > c.ttl // the others do not get so far
	})
	first, last := g.stretch(m, c, len(r.Hops))
	f.TTL = last
	for _, x := range m.cells {
		switch {
		case !c.flows[x.flow] || x.ttl == 0:
		case x.ttl == last && x.node.IsValid():
			f.To = x.node
		case x.ttl < first && x.ttl > f.FromTTL && x.node.IsValid():
			f.FromTTL, f.From = x.ttl, x.node
		}
	}
	for ttl := max(1, f.FromTTL); ttl <= f.TTL; ttl++ {
		if h := r.Hops[ttl-1]; h.PerPacket {
			for _, n := range h.Nodes {
				if !slices.Contains(f.Between, n.Addr) {
					f.Between = append(f.Between, n.Addr)
				}
			}
		}
	}
	f.Even = f.Share.All() && (f.To != g.target || len(f.Between) > 0) && f.even()
	return f
}

// even reports whether the loss is that of one dead way of a few, within the interval that
// holds the truth 99.7 times of a hundred: one that is missed is told as another fault.
func (f Fault) even() bool {
	if f.High-f.Low > 0.2 {
		return false
	}
	more := (f.High - f.Low) / 4 // 3 instead of 2 standard deviations
	for _, part := range []float64{1. / 2, 1. / 3, 2. / 3} {
		if f.Low-more <= part && part <= f.High+more {
			return true
		}
	}
	return false
}

// stretch is the hops at which a cause's loss may begin instead, nearly as likely.
func (g *Gather) stretch(m *model, c *cause, hops int) (first, last int) {
	first, last = c.ttl, c.ttl
	others := m.others(c)
	best := m.worth(c, others, nil)
	own := *c
	for own.ttl = 1; own.ttl <= hops; own.ttl++ {
		if own.ttl != c.ttl && shows(m.cells, &own) && own.bind(m.cells) && m.worth(&own, others, nil) >= best-doubt {
			first, last = min(first, own.ttl), max(last, own.ttl)
		}
	}
	return first, last
}

// count adds what a spot sent and lost.
func (g *Gather) count(t *tally, to loss.Ratio) loss.Ratio {
	sent, answered := t.sent, t.answered
	if g.measured {
		sent, answered = sent-t.searching, answered-t.whileSearched
	}
	to.Sent += sent
	to.Lost += sent - answered
	return to
}

// mostSpread bounds what losses in runs take off the evidence.
const mostSpread = 10

// spread is how much more the number of losses varies than that of single ones would:
// by how much a loss at the target foretells the next one there, in order of time.
func (g *Gather) spread() float64 {
	dead := deadFlows(g.vanished())
	rho, count := g.memory(func(e event) bool {
		_, vanishes := dead[e.flow]
		return !vanishes && e.ttl == g.ends[e.flow]
	})
	if count < 20 || rho < 3/math.Sqrt(float64(count)) { // as much comes by chance
		return 1
	}
	// The hops of one round meet the same run of losses, or do not: of what runs add, a part
	// is in common and tells nothing against a place.
	return min(mostSpread, math.Sqrt((1+rho)/(1-min(rho, 0.99))))
}

// memory is by how much one loss foretells the next of some probes, in order of time:
// the autocorrelation at lag one, and of how many. 0 where there is no order.
func (g *Gather) memory(of func(event) bool) (rho float64, count int) {
	events := slices.Clone(g.log)
	slices.SortStableFunc(events, func(a, b event) int { return cmp.Compare(a.at, b.at) })
	if len(events) == 0 || events[0].at == events[len(events)-1].at {
		return 0, 0
	}
	var gone []float64
	mean := 0.0
	for _, e := range events {
		if e.search && g.measured || !of(e) {
			continue
		}
		v := 0.0
		if !e.addr.IsValid() {
			v = 1
		}
		mean += v
		gone = append(gone, v)
	}
	if count = len(gone); mean == 0 || mean == float64(count) {
		return 0, count
	}
	mean /= float64(count)
	for i := range gone[1:] {
		rho += (gone[i] - mean) * (gone[i+1] - mean)
	}
	return rho / float64(count-1) / (mean * (1 - mean)), count
}
