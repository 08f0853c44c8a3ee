package route

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/figure"
)

// Gather takes the probes of a trace as their fates are known, and makes a Route
// of them at any time. It is for one goroutine at a time.
type Gather struct {
	target netip.Addr
	spots  map[spot]*tally
	ends   map[int]int // by flow, the least TTL that reached the target
	stops  map[int]int // by flow, the least TTL that reached it or was refused
	// measured says that not all probes were of the search.
	measured bool
	about    map[netip.Addr]Probe // the newest answer of each
	log      []event              // all probes, in the order that they were added
	began    time.Time            // the first was sent
}

type spot struct{ ttl, flow int }

// tally is what was heard at one TTL of one flow.
type tally struct {
	sent, searching         int // of all, and of those of the search
	answered, whileSearched int
	heard                   []heard // by address, in order; mostly one
}

// heard is what one address answered there.
type heard struct {
	addr   netip.Addr
	times  int
	passed bool // as a router on the way
	rtts   []time.Duration
}

// of is what an address answered at a spot, made when there is none yet.
func (t *tally) of(a netip.Addr) *heard {
	i, found := slices.BinarySearchFunc(t.heard, a, func(h heard, a netip.Addr) int { return h.addr.Compare(a) })
	if !found {
		t.heard = slices.Insert(t.heard, i, heard{addr: a})
	}
	return &t.heard[i]
}

// NewGather is one without probes.
func NewGather(target netip.Addr) *Gather {
	return &Gather{target: target, spots: map[spot]*tally{}, ends: map[int]int{}, stops: map[int]int{}, about: map[netip.Addr]Probe{}}
}

// Add takes a probe.
func (g *Gather) Add(p Probe) {
	g.keep(p)
	s := spot{p.TTL, p.Flow}
	t := g.spots[s]
	if t == nil {
		t = &tally{}
		g.spots[s] = t
	}
	t.sent++
	if p.Search {
		t.searching++
	} else {
		g.measured = true
	}
	if p.Outcome == Silent {
		return
	}
	t.answered++
	if p.Search {
		t.whileSearched++
	}
	if p.Outcome == Reached {
		least(g.ends, p.Flow, p.TTL)
	}
	if p.Outcome == Reached || p.Outcome == Refused && p.MTU == 0 {
		least(g.stops, p.Flow, p.TTL)
	}
	h := t.of(p.Addr)
	h.times++
	h.rtts = append(h.rtts, p.RTT)
	h.passed = h.passed || p.Outcome == Expired
	g.note(p)
}

// note keeps what the newest answer of an address says of it.
func (g *Gather) note(p Probe) {
	before := g.about[p.Addr]
	if len(p.Labels) == 0 {
		p.Labels = before.Labels
	}
	if p.MTU == 0 {
		p.MTU = before.MTU
	}
	if p.Interface == "" {
		p.Interface = before.Interface
	}
	if p.Outcome != Refused {
		p.Cause = before.Cause
	}
	g.about[p.Addr] = p
}

func least(m map[int]int, k, v int) {
	if old, ok := m[k]; !ok || v < old {
		m[k] = v
	}
}

// first is the one that a spot mostly heard; not valid when it heard nobody.
func (t *tally) first() netip.Addr {
	best := heard{}
	for _, h := range t.heard {
		if h.times > best.times {
			best = h
		}
	}
	return best.addr
}

// end is the TTL at which a flow ends: where it reached the target or was refused,
// or else with the last that was asked.
func (g *Gather) end(flow, last int) int {
	if end, ok := g.stops[flow]; ok {
		return min(end, last)
	}
	return last
}

// Route is what the probes so far show.
func (g *Gather) Route() Route {
	g = g.levelled()
	r := Route{Target: g.target, Reached: len(g.ends) > 0}
	last := 0
	for s, t := range g.spots { // what lies behind the last that answered is not known
		if stop, ok := g.stops[s.flow]; len(t.heard) > 0 && (!ok || s.ttl <= stop) && (!r.Reached || g.ends[s.flow] > 0) {
			last = max(last, s.ttl)
		}
	}
	ordered := slices.SortedFunc(maps.Keys(g.spots), func(a, b spot) int { return cmp.Or(a.ttl-b.ttl, a.flow-b.flow) })
	r.Hops = make([]Hop, last)
	for i := range r.Hops {
		r.Hops[i].TTL = i + 1
	}
	dead := deadFlows(g.vanished())
	for _, s := range ordered {
		// What vanished before a hop is not lost there, nor spared.
		if at, is := dead[s.flow]; is && s.ttl >= at {
			continue
		}
		if s.ttl <= g.end(s.flow, last) && s.ttl <= last {
			r.Hops[s.ttl-1].add(g, s.flow, g.spots[s])
		}
	}
	for i := range r.Hops {
		r.Hops[i].order()
	}
	end := g.lastTTL()
	for s, t := range g.spots {
		own, ok := g.ends[s.flow]
		if !ok {
			own = end // it would have reached the target there
		}
		if s.ttl != own || end == 0 || g.stops[s.flow] > 0 && !ok {
			continue
		}
		r.Loss = g.count(t, r.Loss)
		for _, h := range t.heard {
			r.RTTs = append(r.RTTs, h.rtts...)
		}
	}
	if !r.Reached {
		for i := len(r.Hops) - 1; i >= 0 && r.Refusal == ""; i-- {
			for _, n := range r.Hops[i].Nodes {
				r.Refusal = cmp.Or(r.Refusal, n.Refusal)
			}
			if len(r.Hops[i].Nodes) > 0 {
				break
			}
		}
	}
	g.edges(&r, ordered)
	g.branches(&r, last)
	return r
}

// add counts in what one flow met at the hop.
func (h *Hop) add(g *Gather, flow int, t *tally) {
	h.Loss = g.count(t, h.Loss)
	if len(t.heard) > 1 {
		h.PerPacket = true
	}
	for _, x := range t.heard {
		a := x.addr
		h.RTTs = append(h.RTTs, x.rtts...)
		i := slices.IndexFunc(h.Nodes, func(n Node) bool { return n.Addr == a })
		if i < 0 {
			i = len(h.Nodes)
			h.Nodes = append(h.Nodes, Node{Addr: a, Target: a == g.target})
		}
		h.Nodes[i].add(flow, x, g.about[a])
	}
}

func (n *Node) add(flow int, x heard, p Probe) {
	n.Answered += x.times
	n.Flows = append(n.Flows, flow)
	n.RTTs = append(n.RTTs, x.rtts...)
	if len(p.Labels) > 0 {
		n.Labels = p.Labels
	}
	if p.Interface != "" {
		n.Interface = p.Interface
	}
	if back, ok := p.HopsBack(); ok {
		n.HopsBack = figure.Of(back)
	}
	if p.Quoted.Known {
		n.DSCP = figure.Of(p.Quoted.DSCP)
		n.Rewritten = p.Quoted.To
	}
	if p.Outcome == Refused {
		n.Refusal = p.Cause
	}
	if p.MTU > 0 {
		n.MTU = p.MTU
	}
}

func (h *Hop) order() {
	slices.SortStableFunc(h.Nodes, func(a, b Node) int {
		return cmp.Or(len(b.Flows)-len(a.Flows), b.Answered-a.Answered, a.Addr.Compare(b.Addr))
	})
}

// edges joins what the same flows met at hops one after the other.
func (g *Gather) edges(r *Route, ordered []spot) {
	type key struct {
		ttl      int
		from, to netip.Addr
	}
	at := map[key]int{}
	for _, s := range ordered {
		if s.ttl > g.end(s.flow, len(r.Hops)) || s.ttl > len(r.Hops) {
			continue
		}
		var from []netip.Addr
		if s.ttl > 1 {
			before := g.spots[spot{s.ttl - 1, s.flow}]
			switch {
			case before != nil:
				from = before.all()
			case len(r.Hops[s.ttl-2].Nodes) == 1: // all flows pass there, as far as is known
				from = []netip.Addr{r.Hops[s.ttl-2].Nodes[0].Addr}
			default:
				continue
			}
		} else {
			from = []netip.Addr{{}}
		}
		for _, f := range from {
			for _, to := range g.spots[s].all() {
				k := key{s.ttl, f, to}
				i, ok := at[k]
				if !ok {
					i = len(r.Edges)
					at[k] = i
					r.Edges = append(r.Edges, Edge{TTL: s.ttl, From: f, To: to})
				}
				r.Edges[i].Flows = append(r.Edges[i].Flows, s.flow)
			}
		}
	}
}

// all that a spot heard, in order; one that is not valid when it was nobody.
func (t *tally) all() []netip.Addr {
	if len(t.heard) == 0 {
		return []netip.Addr{{}}
	}
	var list []netip.Addr
	for _, h := range t.heard {
		list = append(list, h.addr)
	}
	return list
}
