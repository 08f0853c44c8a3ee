package route

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"

	"woodlark.example/core/loss"
)

// Fault is where loss begins that carries on to the target.
type Fault struct {
	TTL      int        // of the first hop that shows it
	To       netip.Addr // who that is
	FromTTL  int        // of the last hop before it that would have shown it and does not; 0 for this host
	From     netip.Addr // who that is; not valid for this host
	Loss     loss.Ratio // of the probes that passed the link, at all hops behind it
	End      loss.Ratio // the same, of those to the target alone
	Share    float64    // of the flows that pass it
	Evidence float64    // twice the gain in log likelihood over no fault there
}

const (
	// leastEvidence for a fault somewhere: likelihood ratio for one more rate, far
	// in its tail since many links are tried.
	leastEvidence = 20
	// leastEndEvidence is the same for the target alone, without the hops on the
	// way: they may spare answers, the target's losses are what matters.
	leastEndEvidence = 10
	// leastSparing is that for a router that spares its own answers.
	leastSparing = 9
	mostFaults   = 3
)

// cell is what was lost of the probes of one flow at one TTL.
type cell struct {
	ttl, flow  int
	lost, sent float64
	node       netip.Addr // that the flow meets there
	end        bool       // it is the target
}

// Locate finds the links at which loss begins that carries on to the target, the
// surest first. It weighs every link by how likely the losses are if it, and it
// alone, loses: at all hops behind it, of the flows that pass it. Hops that spare
// their own answers are left out.
func (g *Gather) Locate(r Route) []Fault {
	g = g.levelled()
	if !r.Reached {
		return nil
	}
	spares := g.sparing(r)
	silent := g.silent()
	var cells []cell
	for s, t := range g.spots {
		end, ok := g.ends[s.flow]
		if !ok || s.ttl > end || s.ttl < end && silent[s.ttl] && (len(t.heard) == 0 || t.sent < tellsSilence) {
			continue
		}
		n := g.count(t, loss.Ratio{})
		if n.Sent == 0 {
			continue
		}
		c := cell{ttl: s.ttl, flow: s.flow, lost: float64(n.Lost), sent: float64(n.Sent), node: t.first(), end: s.ttl == g.ends[s.flow]}
		if !c.end && (spares[s.ttl-1][c.node] || len(t.heard) == 0 && len(spares[s.ttl-1]) > 0) {
			continue
		}
		cells = append(cells, c)
	}
	for flow, end := range g.ends { // this host loses nothing to itself
		cells = append(cells, cell{flow: flow, sent: float64(g.count(g.spots[spot{end, flow}], loss.Ratio{}).Sent)})
	}
	var found []Fault
	for len(found) < mostFaults {
		best, ok := g.worst(r, cells)
		if !ok {
			return found
		}
		found = append(found, best.Fault)
		// What it explains is taken out, so that a second fault shows.
		cells = slices.DeleteFunc(cells, func(c cell) bool { return best.passes(c) })
	}
	return found
}

// tellsSilence is how many probes of a flow must stay unanswered to say that who
// it meets is silent, not that it was lost.
const tellsSilence = 2

// silent are the hops at which some flow meets one who never answers. There, who
// answers nothing says nothing of loss, and one probe alone does not tell which.
func (g *Gather) silent() map[int]bool {
	out := map[int]bool{}
	for s, t := range g.spots {
		if len(t.heard) == 0 && t.sent >= tellsSilence {
			out[s.ttl] = true
		}
	}
	return out
}

type candidate struct {
	Fault
	flows map[int]bool
}

func (c candidate) passes(x cell) bool { return x.ttl >= c.TTL && c.flows[x.flow] }

// worst is the surest place of all: behind each edge, at its own hop or at a later
// one, since what lies between may be silent.
func (g *Gather) worst(r Route, cells []cell) (candidate, bool) {
	var best candidate
	tried := map[string]bool{}
	for _, e := range r.Edges {
		flows := map[int]bool{}
		for _, f := range e.Flows {
			flows[f] = true
		}
		for ttl := e.TTL; ttl <= len(r.Hops); ttl++ {
			key := fmt.Sprint(ttl, e.Flows)
			if tried[key] {
				continue
			}
			tried[key] = true
			c := candidate{Fault: Fault{TTL: ttl}, flows: flows}
			if g.weigh(&c, cells) && cmp.Or(cmp.Compare(c.Evidence, best.Evidence), best.TTL-c.TTL) > 0 {
				c.Share = g.share(e.Flows)
				best = c
			}
		}
	}
	if best.Evidence == 0 {
		return best, false
	}
	g.place(&best, cells, len(r.Hops))
	return best, true
}

// doubt is by how much less evident another hop may be for the loss to begin there
// all the same: one in a hundred.
const doubt = 6.6

// place tells between which hops the loss begins, as narrowly as the losses allow.
func (g *Gather) place(c *candidate, cells []cell, hops int) {
	first, last := c.TTL, c.TTL
	for ttl := 1; ttl <= hops; ttl++ {
		other := candidate{Fault: Fault{TTL: ttl}, flows: c.flows}
		if g.weigh(&other, cells) && other.Evidence >= c.Evidence-doubt {
			first, last = min(first, ttl), max(last, ttl)
		}
	}
	c.TTL = last
	for _, x := range cells {
		switch {
		case !c.flows[x.flow]:
		case x.ttl == last:
			c.To = x.node
		case x.ttl < first && x.ttl > c.FromTTL:
			c.FromTTL, c.From = x.ttl, x.node
		}
	}
}

// weigh tells how likely the losses are if they begin where a candidate has them;
// false when they surely do not.
func (g *Gather) weigh(c *candidate, cells []cell) bool {
	var behind, before, end rate
	shown := false
	for _, x := range cells {
		if !c.passes(x) {
			before.add(x)
			continue
		}
		behind.add(x)
		// A hop that tells nothing of its own is not where it is first seen.
		shown = shown || x.ttl == c.TTL
		if x.end {
			end.add(x)
		}
	}
	if !shown || behind.sent == 0 || end.sent == 0 || behind.ratio() <= before.ratio() {
		return false
	}
	if gain(end, before) < leastEndEvidence || end.ratio() <= before.ratio() {
		return false
	}
	c.Evidence = gain(behind, before)
	c.Loss = loss.Ratio{Lost: int(behind.lost), Sent: int(behind.sent)}
	c.End = loss.Ratio{Lost: int(end.lost), Sent: int(end.sent)}
	return c.Evidence >= leastEvidence
}

// share of the flows that reach the target which are among these.
func (g *Gather) share(flows []int) float64 {
	if len(g.ends) == 0 {
		return 0
	}
	n := 0
	for _, f := range flows {
		if _, ok := g.ends[f]; ok {
			n++
		}
	}
	return float64(n) / float64(len(g.ends))
}

type rate struct{ lost, sent float64 }

func (r *rate) add(c cell) { r.lost, r.sent = r.lost+c.lost, r.sent+c.sent }

func (r rate) ratio() float64 {
	if r.sent == 0 {
		return 0
	}
	return r.lost / r.sent
}

// likelihood is the logarithm of that of the losses at their own ratio.
func (r rate) likelihood() float64 {
	if r.lost == 0 || r.lost == r.sent {
		return 0
	}
	p := r.ratio()
	return r.lost*math.Log(p) + (r.sent-r.lost)*math.Log(1-p)
}

// gain is twice what two ratios explain better than a common one.
func gain(a, b rate) float64 {
	both := rate{a.lost + b.lost, a.sent + b.sent}
	return 2 * (a.likelihood() + b.likelihood() - both.likelihood())
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

// sparing are the nodes, by hop, that lose more of their own answers than the
// flows that pass them lose to the target.
func (g *Gather) sparing(r Route) []map[netip.Addr]bool {
	out := make([]map[netip.Addr]bool, len(r.Hops))
	for i, h := range r.Hops {
		out[i] = map[netip.Addr]bool{}
		for _, n := range h.Nodes {
			if n.Target {
				continue
			}
			own, end := loss.Ratio{}, loss.Ratio{}
			for _, f := range n.Flows {
				last, ok := g.ends[f]
				if !ok || last <= h.TTL {
					continue
				}
				own = g.count(g.spots[spot{h.TTL, f}], own)
				end = g.count(g.spots[spot{last, f}], end)
			}
			if end.Sent == 0 || own.Sent == 0 {
				continue
			}
			a, b := rate{float64(own.Lost), float64(own.Sent)}, rate{float64(end.Lost), float64(end.Sent)}
			if a.ratio() > b.ratio() && gain(a, b) > leastSparing {
				out[i][n.Addr] = true
			}
		}
	}
	return out
}
