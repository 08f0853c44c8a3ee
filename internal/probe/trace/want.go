package trace

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
)

// rounds are those of measuring.
type rounds struct {
	begun time.Time
	next  int // round
	flows []int
	left  []wish // of the round that goes on
}

// want is the next probe that is wanted; false when there is none now. It goes on
// to the next stage when a stage wants no more.
func (t *tracer) want(now time.Time) (wish, bool) {
	for !t.done {
		list := t.wanted[:0]
		switch t.stage {
		case discovering:
			list = append(list, t.feel()...)
			if t.feelers.sent[0] == 0 {
				break // it may tell how far the target is
			}
			list = append(list, t.toDiscover()...)
			if !t.OneFlow { // branches are looked for as far as the hops are known, or the target is likely
				list = t.unseen(list, max(t.knownTo(), min(t.hint, t.LastTTL)))
			}
		case branching:
			list = append(append(list, t.feel()...), t.toBranch()...)
		case sizing:
			list = t.sizes.want(t)
		case measuring:
			if w, ok := t.toMeasure(now); ok {
				return w, true
			}
		case waiting:
			if len(t.line) == 0 || !slices.ContainsFunc(t.line, func(s *shot) bool { return !s.fate }) {
				t.finish()
			}
			return wish{}, false
		}
		t.wanted = list
		if t.serial {
			list = slices.DeleteFunc(list, t.busy)
		}
		if len(list) > 0 {
			// Whoever may go first does, so that one slow hop does not hold up others.
			return slices.MinFunc(list, func(a, b wish) int { return t.mayAt(a).Compare(t.mayAt(b)) }), true
		}
		if t.stage != measuring && t.open() > 0 {
			return wish{}, false
		}
		t.stage++
		switch {
		case t.stage == branching && (t.OneFlow || t.ended == AtLoop):
			t.stage++
		}
		if t.stage == sizing && !t.PathMTU {
			t.stage++
		}
		if t.stage == measuring {
			t.beginRounds(now)
		}
	}
	return wish{}, false
}

// busy reports whether a probe of the same flow is on its way.
func (t *tracer) busy(w wish) bool {
	return slices.ContainsFunc(t.line, func(s *shot) bool { return !s.fate && s.flow%mostDatagramFlows == w.flow%mostDatagramFlows })
}

// toDiscover is what is wanted to find the hops of the leading flow.
func (t *tracer) toDiscover() []wish {
	last := t.LastTTL
	if t.limit > 0 {
		last = min(last, t.limit)
	}
	most := window
	if t.Via.Kind == reading.ByUDP {
		most = udpWindow
	}
	var list []wish
	ahead := 0      // hops that are asked and not known
	silent := 0     // hops in a row that are silent for good
	settled := true // all before
	for ttl := t.FirstTTL; ttl <= last; ttl++ {
		s := t.spot(ttl, t.lead)
		switch {
		case s == nil:
			if hint := t.spot(t.hint, t.lead); t.hint > 0 && ttl > t.hint && hint != nil && hint.open > 0 {
				return list // that one is likely the target
			}
			if ahead < most || ttl <= t.hint {
				list = append(list, wish{ttl: ttl, flow: t.lead})
			}
			return list
		case s.answered > 0:
			silent = 0
			if settled && t.circles(ttl) {
				t.limit, t.ended = ttl, AtLoop
				return nil
			}
		case s.open > 0:
			ahead++
			settled = false
		case s.sent <= t.Retries:
			settled = false
			ahead++
			list = append(list, wish{ttl: ttl, flow: t.lead})
		default:
			if silent++; settled && silent >= t.Silent && ttl >= t.hint {
				t.limit, t.ended = ttl, AtSilence
				return nil
			}
		}
	}
	if t.limit == 0 && len(list) == 0 && settled {
		t.limit, t.ended = last, AtLastTTL
	}
	if t.limit > 0 && settled && len(list) == 0 {
		return t.nearer()
	}
	return list
}

// moreTries is how often a hop is asked again, slowly, that may be the target
// itself.
const moreTries = 3

// nearer is wanted when the target answered behind a row of silent hops: it may be
// nearer, and have spared its answers to the probes that were meant for those. The
// first silent one is asked again slowly, and the one that the way back suggests.
func (t *tracer) nearer() []wish {
	if s := t.spot(t.limit, t.lead); s == nil || !s.ends {
		return nil
	}
	first := t.limit
	for first > t.FirstTTL {
		if s := t.spot(first-1, t.lead); s == nil || s.answered > 0 {
			break
		}
		first--
	}
	if first == t.limit {
		return nil
	}
	ttls := []int{first}
	if t.hint > first && t.hint < t.limit {
		ttls = []int{t.hint, first}
	}
	for _, ttl := range ttls {
		s := t.spot(ttl, t.lead)
		if s.open > 0 {
			return nil
		}
		if s.sent <= t.Retries+moreTries {
			t.hopAt(ttl).gap = mostGap
			return []wish{{ttl: ttl, flow: t.lead, after: t.hopAt(ttl).next}}
		}
	}
	return nil
}

// circles reports whether the hops up to one repeat: a pair of neighbours that was
// there before, in the same order, and other hops between.
func (t *tracer) circles(ttl int) bool {
	addr := func(i int) netip.Addr {
		if s := t.spot(i, t.lead); s != nil && s.answered > 0 && !s.ends {
			return s.addr
		}
		return netip.Addr{}
	}
	a, b := addr(ttl-1), addr(ttl)
	if !a.IsValid() || !b.IsValid() || a == b {
		return false
	}
	for i := t.FirstTTL; i+1 < ttl-1; i++ {
		if addr(i) == a && addr(i+1) == b {
			return true
		}
	}
	return false
}

// toBranch is what is wanted to have seen all branches: behind each node, as many
// flows as the stopping rule asks for; where several nodes answered, one flow
// often enough to tell balancing by packet; and the retries of silent ones.
func (t *tracer) toBranch() []wish {
	list := t.unseen(nil, t.limit)
	if len(list) > 0 {
		return list
	}
	return t.wholeWays()
}

// knownTo is the last hop up to which all have answered one flow.
func (t *tracer) knownTo() int {
	ttl := t.FirstTTL
	for {
		s := t.spot(ttl, t.lead)
		if s == nil || s.answered == 0 || t.limit > 0 && ttl > t.limit {
			return ttl - 1
		}
		if s.ends {
			return ttl
		}
		ttl++
	}
}

// sameFlow is how often one flow is sent through a hop with several nodes: two
// that share its packets evenly would show with 1 − 2^−6.
const sameFlow = 7

// unseen adds to a list what is wanted of the hops up to one.
func (t *tracer) unseen(list []wish, last int) []wish {
	for ttl := t.FirstTTL; ttl <= last && ttl <= t.LastTTL; ttl++ {
		r := t.row(ttl)
		if !r.wished {
			r.wishes, r.wished = t.unseenIn(ttl), true
		}
		list = append(list, r.wishes...)
	}
	return list
}

// unseenIn is what is wanted of one hop.
func (t *tracer) unseenIn(ttl int) []wish {
	if t.byPacket(ttl) || ttl > t.FirstTTL && t.byPacket(ttl-1) {
		return nil // flows tell nothing there
	}
	var list []wish
	if len(t.vertices(ttl)) > 1 {
		if s := t.spot(ttl, t.lead); s == nil || s.answered < sameFlow && s.sent < 2*sameFlow && s.open == 0 {
			list = append(list, wish{ttl: ttl, flow: t.lead})
		}
	}
	return append(list, t.unseenAt(ttl)...)
}

func (t *tracer) unseenAt(ttl int) (list []wish) {
	var nodes []netip.Addr
	if ttl > t.FirstTTL {
		nodes = t.vertices(ttl - 1)
	}
	if len(nodes) == 0 {
		nodes = []netip.Addr{{}} // this host, or one that is silent
	}
	retry := !t.answers(ttl)
	for _, node := range nodes {
		if t.isTarget(ttl-1, node) {
			continue
		}
		flows, others := t.through(ttl-1, node), len(nodes) == 1
		if others { // all flows pass there, as far as is known
			flows = flows[:0]
			for f := range mostFlows {
				flows = append(flows, f)
			}
		}
		next := map[netip.Addr]bool{}
		asked, fresh, ends, hidden := 0, []int{}, false, false
		for _, f := range flows {
			if s := t.spot(ttl-1, f); s != nil && s.ends {
				ends = true
				continue // it is there already
			}
			s := t.spot(ttl, f)
			switch {
			case s == nil:
				fresh = append(fresh, f)
			case s.answered > 0:
				next[s.addr] = true
				asked++
			case s.open > 0:
				asked++
			case !retry && s.sent <= t.Retries && t.hopAt(ttl).gap < mostGap:
				list = append(list, wish{ttl: ttl, flow: f})
				asked++
			default:
				asked++
				hidden = hidden || t.feelers.vanishes(f)
			}
		}
		if hidden { // behind a way that lets nothing through another node may be
			next[netip.Addr{}] = true
		}
		missing := route.Enough(len(next)) - asked
		for _, f := range fresh {
			if missing <= 0 {
				break
			}
			list = append(list, wish{ttl: ttl, flow: f})
			missing--
		}
		if missing > 0 && !others && !ends {
			list = append(list, t.newFlows(ttl-1, missing)...)
		}
	}
	return list
}

// newFlows are probes of flows that were not asked at a hop, to find more that
// pass one of its nodes.
func (t *tracer) newFlows(ttl, n int) (list []wish) {
	for f := 0; f < mostFlows && n > 0; f++ {
		s := t.spot(ttl, f)
		switch {
		case s == nil:
			list = append(list, wish{ttl: ttl, flow: f})
			n--
		case s.open > 0:
			n--
		}
	}
	return list
}

const (
	// leastWays is how many flows are followed all the way where ways part: so many
	// tell the shares.
	leastWays = route.FairFlows
	// mostWays are followed where so many do not tell the ways apart: where too few of them
	// take one, or the target answers some later than others. Which way back a flow
	// is put on is chance, too.
	mostWays = 3 * leastWays
	// leastTurns is how often each flow has its turn in the rounds, at least, when more are
	// followed: of one probe alone it is not known whether the flow vanishes.
	leastTurns = 2
	// leastMet is how many flows have to meet a router so that what it does to them is
	// not one flow's own way back.
	leastMet = 3
	// uneven is by how much, and by which part, some flows take longer when more are followed.
	uneven, unevenPart = 2 * time.Millisecond, 10
)

// enoughWays is how many flows are followed all the way, whatever they meet.
func (t *tracer) enoughWays() int {
	rounds := t.Probes
	if t.For > 0 {
		rounds = int(t.For / t.Interval)
	}
	n, most := leastWays, min(mostWays, rounds/leastTurns)
	for n+leastWays <= most && !t.tellsWays(n) {
		n += leastWays
	}
	return n
}

// tellsWays reports whether the first n flows are enough to tell ways apart.
func (t *tracer) tellsWays(n int) bool {
	var least, most time.Duration
	for ttl := t.FirstTTL; ttl <= t.limit; ttl++ {
		met := map[netip.Addr]int{}
		for f, s := range t.row(ttl).states {
			if f >= n || s == nil || s.answered == 0 {
				continue
			}
			met[s.addr]++
			if !s.ends {
				continue
			}
			if least == 0 || s.took < least {
				least = s.took
			}
			most = max(most, s.took)
		}
		if t.byPacket(ttl) || len(met) < 2 {
			continue
		}
		for _, flows := range met {
			if flows < leastMet {
				return false
			}
		}
	}
	return most-least < max(uneven, least/unevenPart)
}

// followed are the flows that are followed all the way: one when there is one way
// only, else enough to tell shares and to meet every node.
func (t *tracer) followed() []int {
	parted := t.balanced() || t.feelers.uneven()
	if t.OneFlow || !parted && t.Flows == 0 {
		return []int{t.lead}
	}
	least := t.Flows
	if parted {
		least = max(least, t.enoughWays())
	}
	var flows []int
	for f := range least {
		flows = append(flows, f)
	}
	for ttl := t.FirstTTL; ttl <= t.limit; ttl++ {
		met := map[netip.Addr]int{}
		for f, s := range t.row(ttl).states {
			if s == nil || s.answered == 0 {
				continue
			}
			if _, ok := met[s.addr]; !ok {
				met[s.addr] = f
			}
		}
		for _, f := range met {
			if !slices.Contains(flows, f) {
				flows = append(flows, f)
			}
		}
	}
	slices.Sort(flows)
	return flows
}

// wholeWays is what is not known yet of the ways of the flows that are followed.
func (t *tracer) wholeWays() (list []wish) {
	if !t.balanced() && !t.feelers.uneven() {
		return nil
	}
	for _, f := range t.followed() {
		for ttl := t.FirstTTL; ttl <= t.limit && ttl <= t.LastTTL; ttl++ {
			s := t.spot(ttl, f)
			if s != nil && s.ends {
				break
			}
			switch {
			case s == nil && (len(t.vertices(ttl)) > 1 || ttl == t.limit || t.feelers.vanishes(f)):
				list = append(list, wish{ttl: ttl, flow: f})
			case s != nil && s.answered == 0 && s.open == 0 && s.sent <= t.Retries && t.answers(ttl) && t.hopAt(ttl).gap < mostGap:
				list = append(list, wish{ttl: ttl, flow: f})
			}
		}
	}
	return list
}

// beginRounds sets out to measure.
func (t *tracer) beginRounds(now time.Time) {
	t.rounds = rounds{begun: now, flows: t.followed()}
	for _, h := range t.pacing {
		h.gap, h.next = 0, time.Time{} // the rounds are pace enough
	}
}

// everyRound is how seldom hops are asked that never answered: every so many
// rounds.
const everyRound = 16

// toMeasure is the next probe of the rounds. Each round follows one flow; the
// flows take turns.
func (t *tracer) toMeasure(now time.Time) (wish, bool) {
	r := &t.rounds
	for len(r.left) == 0 {
		due := r.begun.Add(time.Duration(r.next) * t.Interval)
		if t.For > 0 && due.Sub(r.begun) >= t.For || t.For <= 0 && r.next >= t.Probes || t.limit == 0 {
			return wish{}, false
		}
		if late := now.Sub(due); late > t.Interval { // this host slept
			r.next += int(late / t.Interval)
			due = r.begun.Add(time.Duration(r.next) * t.Interval)
		}
		turn := r.next % len(r.flows)
		if turn == 0 { // or what answers every n-th probe would always answer the same flows
			t.e.random.Shuffle(len(r.flows), func(i, k int) { r.flows[i], r.flows[k] = r.flows[k], r.flows[i] })
		}
		flow := r.flows[turn]
		end := cmp.Or(t.endOf(flow), t.limit)
		for ttl := t.FirstTTL; ttl <= end; ttl++ {
			if t.answers(ttl) || r.next%everyRound == everyRound-1 {
				r.left = append(r.left, wish{ttl: ttl, flow: flow, after: due})
			}
		}
		// In no fixed order: what drops every n-th packet would else always hit the
		// same hop.
		t.e.random.Shuffle(len(r.left), func(i, k int) { r.left[i], r.left[k] = r.left[k], r.left[i] })
		r.next++
		if len(r.left) == 0 && r.next > 1<<20 {
			return wish{}, false
		}
	}
	w := r.left[0]
	if t.serial && t.busy(w) {
		w.after = now.Add(leastGap)
		return w, true
	}
	if t.mayAt(w).After(now) {
		return w, true
	}
	r.left = r.left[1:]
	return w, true
}
