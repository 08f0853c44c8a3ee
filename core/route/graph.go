package route

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Node is who answered at a hop.
type Node struct {
	Addr     netip.Addr
	Answered int
	Flows    []int // that were seen to pass it, in order
	RTTs     []time.Duration
	Labels   []Label // of the newest answer that had some
	// Interface by which probes came in, as the router says; empty when it does not.
	Interface string
	HopsBack  figure.Opt[int] // of the newest answer
	DSCP      figure.Opt[int] // that probes had when they got there
	Rewritten netip.Addr      // the target that probes had by then, when another; else not valid
	Refusal   string          // why it sent probes back; empty when it did not
	MTU       int             // that it named as too small for a probe; 0 when it named none
	Target    bool            // it is the target itself
}

// Hop is one step of a route.
type Hop struct {
	TTL   int
	Nodes []Node // the one with the most flows first; none when nobody ever answered
	Loss  loss.Ratio
	RTTs  []time.Duration // of all nodes
	// PerPacket says that packets of one and the same flow met different nodes
	// here: a router before balances by packet.
	PerPacket bool
}

// Addr is the hop's first node; not valid when nobody answered.
func (h Hop) Addr() netip.Addr {
	if len(h.Nodes) == 0 {
		return netip.Addr{}
	}
	return h.Nodes[0].Addr
}

// Has reports whether an address answered at the hop.
func (h Hop) Has(a netip.Addr) bool {
	return slices.ContainsFunc(h.Nodes, func(n Node) bool { return n.Addr == a })
}

// Edge leads from a node at one hop to a node at the next. An address that is not
// valid stands for who stayed silent.
type Edge struct {
	TTL      int // of the hop that it leads to
	From, To netip.Addr
	Flows    []int
}

// Share is how many of the flows whose whole way is known go one way.
type Share struct{ Flows, Of int }

// Value is the part of them, 0 to 1; 1 when of none the whole way is known.
func (s Share) Value() float64 { return loss.Ratio{Lost: s.Flows, Sent: s.Of}.Value().Or(1) }

// Interval is the 95 % Wilson score interval of the part.
func (s Share) Interval() (low, high float64) {
	low, high, _ = loss.Ratio{Lost: s.Flows, Sent: s.Of}.Interval()
	return low, high
}

// All reports whether all flows do.
func (s Share) All() bool { return s.Flows == s.Of }

// Branch is one way that flows take.
type Branch struct {
	Share Share
	Dead  bool         // flows that take it vanish behind its last hop
	Hops  []netip.Addr // by TTL, from 1 on; not valid where silent
	Flows []int
	Loss  loss.Ratio      // from end to end
	RTTs  []time.Duration // from end to end
	// ByFlow is the same of each of its flows.
	ByFlow []FlowFigures
	// Own are the TTLs at which it differs from the other branches.
	Own []int
}

// Route is what all probes together show of the way to a target.
type Route struct {
	Target   netip.Addr
	Hops     []Hop // by TTL, from 1 on, to the target or the last that was asked
	Edges    []Edge
	Branches []Branch // the one with the largest share first; one at least when a way is known
	Reached  bool
	Refusal  string // why the last hop sent probes back; empty when it did not
	// End to end, whichever flow.
	Loss loss.Ratio
	RTTs []time.Duration
}

// FairFlows are followed whatever they meet, so that they tell shares. Of those with
// larger numbers only some are, because of whom they were seen to meet.
const FairFlows = 16

// Share is that of some flows among those whose whole way is known. Each share of a
// route is counted over the same flows; of functions beyond the first, all must hold for
// a flow to count at all.
func (r Route) Share(among func(flow int) bool, counts ...func(flow int) bool) Share {
	var fair, any Share
	for _, b := range r.Branches {
		for _, f := range b.Flows {
			if slices.ContainsFunc(counts, func(holds func(int) bool) bool { return !holds(f) }) {
				continue
			}
			if f < FairFlows {
				fair.Count(among(f))
			}
			any.Count(among(f))
		}
	}
	if fair.Flows == 0 {
		return any
	}
	return fair
}

// Count counts one flow more, that is among those or not.
func (s *Share) Count(in bool) {
	s.Of++
	if in {
		s.Flows++
	}
}

// Balanced reports whether flows take different ways.
func (r Route) Balanced() bool { return len(r.Branches) > 1 }

// EndLoss is the part of the probes of any flow that does not come through from end to
// end: of flows that are put on a dead way all, of the others what they lost. Absent when
// nothing was measured.
func (r Route) EndLoss() figure.Number {
	var alive loss.Ratio
	dead, known := 0.0, false
	for _, b := range r.Branches {
		if b.Dead {
			dead, known = dead+b.Share.Value(), true
			continue
		}
		alive.Sent += b.Loss.Sent
		alive.Lost += b.Loss.Lost
	}
	if !known {
		return r.Loss.Value()
	}
	return figure.Of(min(1, dead+(1-dead)*alive.Value().Or(0)))
}

// PathMTU is the least that a router on the way named; 0 when none did.
func (r Route) PathMTU() (mtu, ttl int) {
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			if n.MTU > 0 && (mtu == 0 || n.MTU < mtu) {
				mtu, ttl = n.MTU, h.TTL
			}
		}
	}
	return mtu, ttl
}

// MedianOf is the median of round-trip times; absent when there are none.
func MedianOf(rtts []time.Duration) figure.Duration {
	if len(rtts) == 0 {
		return figure.Duration{}
	}
	sorted := slices.Clone(rtts)
	slices.Sort(sorted)
	return figure.Of(delay.Quantile(sorted, 0.5))
}

// Ways are the lines of hops, each the whole way by addresses, that tell two
// routes apart: one a branch.
func (r Route) Ways() [][]netip.Addr {
	var list [][]netip.Addr
	for _, b := range r.Branches {
		list = append(list, b.Hops)
	}
	return list
}

// Key tells distinct routes apart: the addresses of each hop, in order, without
// their shares. Silent hops are "-", those that balance by packet "~".
func (r Route) Key() string {
	var b strings.Builder
	for i, h := range r.Hops {
		if i > 0 {
			b.WriteByte(' ')
		}
		switch {
		case h.PerPacket:
			b.WriteByte('~')
			continue
		case len(h.Nodes) == 0:
			b.WriteByte('-')
			continue
		}
		var names []string
		for _, n := range h.Nodes {
			names = append(names, n.Addr.String())
		}
		slices.Sort(names)
		b.WriteString(strings.Join(names, "|"))
	}
	return b.String()
}
