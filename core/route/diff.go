package route

import (
	"math"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/figure"
)

// Change is what a line of a comparison says of a hop.
type Change int

const (
	// Same: it is in both routes at the same TTL.
	Same Change = iota
	// Moved: it is in both, at another TTL.
	Moved
	// New: only the later route has it.
	New
	// Gone: only the earlier route has it.
	Gone
	// Shared: it is in both, and another share of the flows passes it.
	Shared
)

var changeNames = [...]string{"same", "moved", "new", "gone", "share"}

func (c Change) String() string { return changeNames[c] }

// Line is one address of a comparison.
type Line struct {
	Change    Change
	Addr      netip.Addr
	Was, Is   int     // TTLs; 0 where it is in one route only
	ShareWas  float64 // of the flows at that hop, 0 to 1
	ShareIs   float64
	MedianWas figure.Duration
	MedianIs  figure.Duration
}

// Difference is what two routes to one target have in common and what not.
type Difference struct {
	Lines []Line // in the order of the later route, what is gone where it was
	// Changed says that the later route has hops that the earlier surely had not,
	// or the other way round. A hop silent in one of them is no change; a
	// target that is further or nearer than before is one.
	Changed bool
	First   int // TTL of the first hop that is new or gone; 0 when none is
	// Step is the difference of the medians from end to end, later less earlier;
	// absent when one of the routes did not reach the target.
	Step figure.Duration
}

// shown is an address at its hop.
type shown struct {
	addr     netip.Addr
	ttl      int
	share    float64
	flows    int
	of       int
	median   figure.Duration
	balanced bool
}

func list(r Route) []shown {
	var out []shown
	for _, h := range r.Hops {
		total := 0
		for _, n := range h.Nodes {
			total += len(n.Flows)
		}
		for _, n := range h.Nodes {
			out = append(out, shown{n.Addr, h.TTL, float64(len(n.Flows)) / float64(max(1, total)), len(n.Flows), total, MedianOf(n.RTTs), h.PerPacket})
		}
	}
	return out
}

// Compare puts a later route beside an earlier one, hop by hop.
func Compare(earlier, later Route) Difference {
	was, is := list(earlier), list(later)
	d := Difference{}
	pairs := align(was, is)
	for _, p := range pairs {
		var l Line
		switch {
		case p.was >= 0 && p.is >= 0:
			a, b := was[p.was], is[p.is]
			l = Line{Change: Same, Addr: b.addr, Was: a.ttl, Is: b.ttl, ShareWas: a.share, ShareIs: b.share, MedianWas: a.median, MedianIs: b.median}
			switch {
			case a.ttl != b.ttl:
				l.Change = Moved
			case sharesDiffer(a, b):
				l.Change = Shared
			}
		case p.is >= 0:
			b := is[p.is]
			l = Line{Change: New, Addr: b.addr, Is: b.ttl, ShareIs: b.share, MedianIs: b.median}
			d.note(b, earlier)
		default:
			a := was[p.was]
			l = Line{Change: Gone, Addr: a.addr, Was: a.ttl, ShareWas: a.share, MedianWas: a.median}
			d.note(a, later)
		}
		d.Lines = append(d.Lines, l)
	}
	// Where all flows take one way, the target has its place on it.
	if earlier.Reached && later.Reached && len(earlier.Hops) != len(later.Hops) && !earlier.Balanced() && !later.Balanced() {
		d.Changed = true
		for _, l := range d.Lines {
			if d.First == 0 && l.Change == Moved {
				d.First = min(l.Is, l.Was)
			}
		}
	}
	before, okBefore := MedianOf(earlier.RTTs).Get()
	after, okAfter := MedianOf(later.RTTs).Get()
	if okBefore && okAfter {
		d.Step = figure.Of(after - before)
	}
	return d
}

// note counts a hop that only one route has as a change, if the other would have
// shown it.
func (d *Difference) note(x shown, other Route) {
	if x.ttl > len(other.Hops) && !other.Reached {
		return // the other did not get so far
	}
	if x.ttl <= len(other.Hops) {
		h := other.Hops[x.ttl-1]
		// A silent hop may be this one; of balanced ones few flows show a part only.
		if len(h.Nodes) == 0 || h.PerPacket || x.balanced {
			return
		}
		// A node with a small share is unseen by few flows.
		if unseenBy(x.share, h) > 1-Confidence {
			return
		}
	}
	d.Changed = true
	if d.First == 0 || x.ttl < d.First {
		d.First = x.ttl
	}
}

// unseenBy is the chance that the flows asked at a hop all miss a node with a
// share of them.
func unseenBy(share float64, h Hop) float64 {
	if share >= 1 {
		return 0
	}
	n := 0
	for _, x := range h.Nodes {
		n += len(x.Flows)
	}
	return math.Pow(1-share, float64(n))
}

// sharesDiffer reports whether the shares of flows surely differ.
func sharesDiffer(a, b shown) bool {
	x, y := rate{float64(a.flows), float64(a.of)}, rate{float64(b.flows), float64(b.of)}
	return a.of > 0 && b.of > 0 && gain(x, y) > 10.8 // one in a thousand
}

type pair struct{ was, is int }

// align pairs what is the same in both lists, in their order as far as it goes;
// what is in both but has changed places is paired too.
func align(was, is []shown) []pair {
	common := make([][]int, len(was)+1)
	for i := range common {
		common[i] = make([]int, len(is)+1)
	}
	for i := len(was) - 1; i >= 0; i-- {
		for j := len(is) - 1; j >= 0; j-- {
			if was[i].addr == is[j].addr {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var pairs []pair
	for i, j := 0, 0; i < len(was) || j < len(is); {
		switch {
		case i < len(was) && j < len(is) && was[i].addr == is[j].addr:
			pairs = append(pairs, pair{i, j})
			i, j = i+1, j+1
		case j >= len(is) || i < len(was) && common[i+1][j] >= common[i][j+1]:
			pairs = append(pairs, pair{i, -1})
			i++
		default:
			pairs = append(pairs, pair{-1, j})
			j++
		}
	}
	// The same address, once gone and once new, has moved.
	for n := range pairs {
		if pairs[n].is >= 0 {
			continue
		}
		k := slices.IndexFunc(pairs, func(p pair) bool { return p.was < 0 && p.is >= 0 && is[p.is].addr == was[pairs[n].was].addr })
		if k >= 0 {
			pairs[k].was = pairs[n].was
			pairs[n].was = -1
		}
	}
	return slices.DeleteFunc(pairs, func(p pair) bool { return p.was < 0 && p.is < 0 })
}

// Turned is how the way back differs from the way there.
type Turned struct {
	There, Back int // hops
	// OnlyThere and OnlyBack are addresses that one way alone has. Routers may
	// answer with other addresses on the way back, so they alone are no proof.
	OnlyThere, OnlyBack []netip.Addr
}

// Sighting is a stretch of time in which a route was seen.
type Sighting struct {
	Key         string // that tells routes apart: see Route.Key
	First, Last time.Time
	Times       int
}

// See notes that a route was seen at a time, after those before.
func See(before []Sighting, key string, at time.Time) []Sighting {
	if n := len(before); n > 0 && before[n-1].Key == key {
		before[n-1].Last = at
		before[n-1].Times++
		return before
	}
	return append(before, Sighting{Key: key, First: at, Last: at, Times: 1})
}

// Stability is how long routes live.
type Stability struct {
	Distinct int           // routes
	Changes  int           // from one to another
	Longest  time.Duration // that one stayed
	// Prevalence is the part of all sightings that the most seen route has, 0 to 1
	// (in the sense of Paxson, 1997).
	Prevalence float64
}

// StabilityOf sums up sightings in the order of time.
func StabilityOf(list []Sighting) Stability {
	s := Stability{Changes: max(0, len(list)-1)}
	seen, all := map[string]int{}, 0
	for i, x := range list {
		seen[x.Key] += x.Times
		all += x.Times
		until := x.Last
		if i+1 < len(list) {
			until = list[i+1].First
		}
		s.Longest = max(s.Longest, until.Sub(x.First))
	}
	s.Distinct = len(seen)
	for _, n := range seen {
		s.Prevalence = max(s.Prevalence, float64(n)/float64(all))
	}
	return s
}

type rate struct{ lost, sent float64 }

// likelihood is the logarithm of that of the losses at their own ratio.
func (r rate) likelihood() float64 {
	if r.lost == 0 || r.lost == r.sent {
		return 0
	}
	p := r.lost / r.sent
	return r.lost*math.Log(p) + (r.sent-r.lost)*math.Log(1-p)
}

// gain is twice what two ratios explain better than a common one.
func gain(a, b rate) float64 {
	both := rate{a.lost + b.lost, a.sent + b.sent}
	return 2 * (a.likelihood() + b.likelihood() - both.likelihood())
}
