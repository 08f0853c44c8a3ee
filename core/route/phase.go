package route

import (
	"cmp"
	"math"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/loss"
)

// Phase is a stretch of a trace in which the route was one.
type Phase struct {
	// From is the first probe of it and Until the last.
	From, Until time.Time
	Gather      *Gather
	// Between is what was sent to the target between the phase before and this one,
	// when neither way carried it, and what of that was lost.
	Between loss.Ratio
	// Doubt is how far apart the last answer of the old way and the first of the new
	// one are: the change lies in the time of that length before From.
	Doubt time.Duration
}

const (
	// leastOfPhase is how many answers of a hop must tell one way from another, on
	// either side of a change.
	leastOfPhase = 3
	// purePhase is the part of a hop's answers that its own way must give.
	purePhase = 0.9
	// surePhase is how much likelier, as a logarithm, two ways one after the other
	// must be than one that mixes them, beyond what trying each moment gives away.
	surePhase  = 7
	mostPhases = 8
)

// Phases tells routes apart that came one after the other, the oldest first; there is
// one at least when anything was sent. A hop at which one flow meets several routers
// is balanced by packet when they answer by turns, and the way has changed when one
// answers until a moment and another from it on: the moment is sought at which the
// answers part so much better than they would by chance.
func (g *Gather) Phases() []Phase {
	if len(g.log) == 0 {
		return nil
	}
	events := slices.Clone(g.log)
	slices.SortStableFunc(events, func(a, b event) int { return cmp.Compare(a.at, b.at) })
	cuts := g.cuts(events, mostPhases-1)
	var list []Phase
	from := 0
	for i := 0; i <= len(cuts); i++ {
		end, next := len(events), len(events)
		if i < len(cuts) {
			end, next = cuts[i].last+1, cuts[i].first
		}
		if end > from {
			p := Phase{From: g.time(events[from].at), Until: g.time(events[end-1].at), Gather: g.replay(events[from:end])}
			if i > 0 {
				c := cuts[i-1]
				p.Between, p.Doubt = g.meanwhile(events[c.last+1:c.first]), events[c.first].at-events[c.last].at
			}
			list = append(list, p)
		}
		from = next
	}
	return list
}

// cut parts events: the last of the old way, and the first of the new one.
type cut struct{ last, first int }

// cuts finds up to so many, in order: events are split where they part best, and the parts
// again. A split stands when the answers on either side of it are each of their own way.
func (g *Gather) cuts(events []event, most int) (list []cut) {
	bounds := append(append([]int{0}, splits(events, most)...), len(events))
	for i := 1; i+1 < len(bounds); {
		from, at, to := bounds[i-1], bounds[i], bounds[i+1]
		c, ok := parts(events[from:to], at-from)
		if !ok {
			bounds = slices.Delete(bounds, i, i+1)
			continue
		}
		list = append(list, cut{c.last + from, c.first + from})
		i++
	}
	return list
}

// splits are the places of the first events behind each moment at which events part best.
func splits(events []event, most int) []int {
	best, score := 0, 0.0
	for _, pooled := range []bool{true, false} {
		if at, s, ok := scan(events, pooled); ok && s > score {
			best, score = at, s
		}
	}
	if score == 0 || most <= 0 {
		return nil
	}
	left := splits(events[:best], most-1)
	right := splits(events[best:], most-1-len(left))
	for i := range right {
		right[i] += best
	}
	return append(append(left, best), right...)
}

// parts narrows a split to the last answer before and the first behind it; false when it
// does not part two ways.
func parts(events []event, at int) (cut, bool) {
	for _, pooled := range []bool{false, true} {
		if c, ok := pureCut(events, at, pooled); ok && (!pooled || switches(events, at)) {
			return c, true
		}
	}
	return cut{}, false
}

// unit is a hop of a flow, or of all flows when the flow is less than 0.
type unit struct{ ttl, flow int }

// sides counts, by address, what a unit heard in all and before a moment.
type sides struct {
	all, left map[netip.Addr]int
	n, leftN  int
}

// tell are the units at which more than one address was heard, and where their events are.
func tell(events []event, pooled bool) (units map[unit]*sides, order []int, of func(event) unit) {
	of = func(e event) unit {
		if pooled {
			return unit{e.ttl, -1}
		}
		return unit{e.ttl, e.flow}
	}
	units = map[unit]*sides{}
	for _, e := range events {
		if !e.addr.IsValid() {
			continue
		}
		s := units[of(e)]
		if s == nil {
			s = &sides{all: map[netip.Addr]int{}, left: map[netip.Addr]int{}}
			units[of(e)] = s
		}
		s.all[e.addr]++
		s.n++
	}
	for u, s := range units {
		if len(s.all) < 2 {
			delete(units, u)
		}
	}
	for i, e := range events {
		if e.addr.IsValid() && units[of(e)] != nil {
			order = append(order, i)
		}
	}
	return units, order, of
}

// scan looks for the moment that parts events best, by hops of each flow or, pooled, by
// hops of all; false when none does so surely.
func scan(events []event, pooled bool) (at int, score float64, ok bool) {
	units, order, of := tell(events, pooled)
	if len(order) < 2*leastOfPhase {
		return 0, 0, false
	}
	value, sum := map[unit]float64{}, 0.0
	for k, i := range order[:len(order)-1] {
		e := events[i]
		s := units[of(e)]
		s.left[e.addr]++
		s.leftN++
		sum -= value[of(e)]
		value[of(e)] = parted(s)
		sum += value[of(e)]
		if sum > score {
			score, at = sum, order[k]+1
		}
	}
	dof := float64(len(units))
	return at, score, score >= dof/2+3*math.Sqrt(dof/2)+math.Log(float64(len(order)))+surePhase
}

// switches reports whether the flows that were heard at a hop on both sides of a moment
// are heard from others after it. Flows that are balanced keep to their ways, and which
// of them are asked when says nothing.
func switches(events []event, at int) bool {
	_, order, _ := tell(events, true)
	left := map[unit]netip.Addr{}
	switched, stayed := 0, 0
	for _, i := range order {
		u := unit{events[i].ttl, events[i].flow}
		if i < at {
			left[u] = events[i].addr
			continue
		}
		switch a, ok := left[u]; {
		case ok && a == events[i].addr:
			stayed++
		case ok:
			switched++
		}
	}
	return switched > 0 && float64(switched) >= purePhase*float64(switched+stayed)
}

// parted is by how much, as a logarithm, a unit's answers before and after a moment
// are likelier of two ways than of one.
func parted(s *sides) float64 {
	right := s.n - s.leftN
	if s.leftN == 0 || right == 0 {
		return 0
	}
	sum := 0.0
	for a, n := range s.all {
		l := s.left[a]
		sum += xlogx(l, s.leftN) + xlogx(n-l, right) - xlogx(n, s.n)
	}
	return sum
}

func xlogx(k, n int) float64 {
	if k == 0 {
		return 0
	}
	return float64(k) * math.Log(float64(k)/float64(n))
}

// pureCut narrows a split to the last answer of the old way and the first of the new one,
// at the units that it parts purely; false when there is none such.
func pureCut(events []event, at int, pooled bool) (cut, bool) {
	units, order, of := tell(events, pooled)
	for _, i := range order {
		if i < at {
			s := units[of(events[i])]
			s.left[events[i].addr]++
			s.leftN++
		}
	}
	was, is := map[unit]netip.Addr{}, map[unit]netip.Addr{}
	left, right := 0, 0
	for u, s := range units {
		a, n := most(s.left)
		after := map[netip.Addr]int{}
		for addr, k := range s.all {
			after[addr] = k - s.left[addr]
		}
		b, m := most(after)
		if n == 0 || m == 0 || a == b || float64(n) < purePhase*float64(s.leftN) || float64(m) < purePhase*float64(s.n-s.leftN) {
			continue
		}
		was[u], is[u] = a, b
		left, right = left+n, right+m
	}
	if left < leastOfPhase || right < leastOfPhase {
		return cut{}, false
	}
	c := cut{last: -1, first: -1}
	for _, i := range order {
		e := events[i]
		switch u := of(e); {
		case was[u].IsValid() && e.addr == was[u] && i < at:
			c.last = i
		case is[u].IsValid() && e.addr == is[u] && i >= at && c.first < 0:
			c.first = i
		}
	}
	return c, c.last >= 0 && c.first > c.last
}

func most(counts map[netip.Addr]int) (best netip.Addr, n int) {
	for a, k := range counts {
		if k > n || k == n && k > 0 && a.Less(best) {
			best, n = a, k
		}
	}
	return best, n
}

// meanwhile is what was sent to the target while neither way carried it.
func (g *Gather) meanwhile(events []event) (r loss.Ratio) {
	for _, e := range events {
		end, ok := g.ends[e.flow]
		if !ok || e.ttl != end || e.search {
			continue
		}
		r.Sent++
		if !e.addr.IsValid() {
			r.Lost++
		}
	}
	return r
}

// event is a probe as far as telling routes apart in time needs it.
type event struct {
	at        time.Duration // since the first that was added
	ttl, flow int
	search    bool
	outcome   Outcome
	small     bool // it was refused as too large
	addr      netip.Addr
	rtt       time.Duration
}

func (g *Gather) time(at time.Duration) time.Time { return g.began.Add(at) }

// keep notes a probe for Phases.
func (g *Gather) keep(p Probe) {
	if g.began.IsZero() {
		g.began = p.SentAt
	}
	g.log = append(g.log, event{at: p.SentAt.Sub(g.began), ttl: p.TTL, flow: p.Flow, search: p.Search, outcome: p.Outcome, small: p.MTU > 0, addr: p.Addr, rtt: p.RTT})
}

// replay gathers some of the events by themselves. What answers say of their senders
// is what was heard of them at any time.
func (g *Gather) replay(events []event) *Gather {
	out := NewGather(g.target)
	for _, e := range events {
		p := Probe{TTL: e.ttl, Flow: e.flow, SentAt: g.time(e.at), Search: e.search, Outcome: e.outcome, Addr: e.addr, RTT: e.rtt}
		if e.small {
			p.MTU = 1 // which one stands in about
		}
		out.Add(p)
	}
	for a := range out.about {
		out.about[a] = g.about[a]
	}
	return out
}
