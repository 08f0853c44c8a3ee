package route

import "maps"

// levelled is what was gathered with the target at one place: where flows reached
// it at different TTLs, but those with the larger ones were never seen beyond the
// least, probes went past a target that spared its answers. A flow that met a
// router there does take a longer way.
func (g *Gather) levelled() *Gather {
	least := 0
	for _, end := range g.ends {
		if least == 0 || end < least {
			least = end
		}
	}
	var past []int
	for flow, end := range g.ends {
		if end > least && !g.beyond(flow, least, end) {
			past = append(past, flow)
		}
	}
	if len(past) == 0 {
		return g
	}
	out := &Gather{target: g.target, spots: maps.Clone(g.spots), ends: maps.Clone(g.ends), stops: maps.Clone(g.stops), measured: g.measured, about: g.about, log: g.log, began: g.began}
	for _, flow := range past {
		whole := &tally{}
		for ttl := least; ttl <= g.ends[flow]; ttl++ {
			if t := g.spots[spot{ttl, flow}]; t != nil {
				whole.join(t)
				delete(out.spots, spot{ttl, flow})
			}
		}
		out.spots[spot{least, flow}] = whole
		out.ends[flow], out.stops[flow] = least, least
	}
	return out
}

// beyond reports whether a router answered a flow at one of the TTLs.
func (g *Gather) beyond(flow, from, to int) bool {
	for ttl := from; ttl < to; ttl++ {
		t := g.spots[spot{ttl, flow}]
		if t == nil {
			continue
		}
		for _, h := range t.heard {
			if h.passed {
				return true
			}
		}
	}
	return false
}

// join adds what another spot sent and heard.
func (t *tally) join(other *tally) {
	t.sent += other.sent
	t.searching += other.searching
	t.answered += other.answered
	t.whileSearched += other.whileSearched
	for _, h := range other.heard {
		own := t.of(h.addr)
		own.times += h.times
		own.passed = own.passed || h.passed
		own.rtts = append(own.rtts[:len(own.rtts):len(own.rtts)], h.rtts...)
	}
}
