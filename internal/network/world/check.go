package world

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// Warning is something odd in a file that may be meant.
type Warning struct {
	Line int    `json:"line,omitempty"` // 0 when it is about no line
	Text string `json:"text"`
}

func (w Warning) String() string {
	if w.Line == 0 {
		return w.Text
	}
	return fmt.Sprintf("line %d: %s", w.Line, w.Text)
}

// Check reads a world file as Read does, and says what is odd in it.
func Check(data []byte, o Options) (*Model, []Warning, error) {
	r, err := readFile(data, o)
	if err != nil {
		return nil, nil, err
	}
	c := checker{m: r.m, tree: r}
	c.nodes()
	c.links()
	c.ways()
	slices.SortStableFunc(c.found, func(a, b Warning) int { return cmp.Compare(a.Line, b.Line) })
	return r.m, c.found, nil
}

type checker struct {
	m     *Model
	tree  *reader
	found []Warning
}

func (c *checker) odd(place, format string, args ...any) {
	c.found = append(c.found, Warning{c.tree.tree.Line(place), fmt.Sprintf(format, args...)})
}

func (c *checker) nodes() {
	linked := map[int]bool{}
	for _, l := range c.m.links {
		linked[l.from] = true
	}
	for i, n := range c.m.nodes {
		place := fmt.Sprintf("$.nodes[%d]", i)
		switch {
		case !linked[i] && len(c.m.nodes) > 1:
			c.odd(place, "%s has no link: nothing reaches it", n.Name)
		case len(n.Addresses) == 0 && !n.Router:
			c.odd(place, "%s has no address: nothing can be sent to it", n.Name)
		case n.Router && len(n.Addresses) == 0 && !n.state.silent:
			c.odd(place, "router %s has no address: it cannot answer or send errors; say \"silent: true\" if that is meant", n.Name)
		}
		if n.state.resolver == ResolverGood && n.Router {
			c.odd(place, "router %s is a resolver too; in a lab that works, but few networks have it so", n.Name)
		}
		for _, r := range n.Resolvers {
			s := c.m.nodes[c.m.byAddr[r]].state
			if (s.resolver == "" || s.resolver == NoResolver) && !c.becomesResolver(c.m.byAddr[r]) {
				c.odd(place+".resolvers", "%s asks %s for names, which is no resolver: say \"resolver: answer\" there", n.Name, c.m.nodes[c.m.byAddr[r]].Name)
			}
		}
		for _, p := range n.Prefixes {
			if !n.Router {
				c.odd(place+".prefixes", "prefix %s leads to %s, which is no router and answers for none of it", p, n.Name)
			}
		}
	}
}

// becomesResolver reports whether a change may make a node a resolver.
func (c *checker) becomesResolver(node int) bool {
	for _, x := range c.m.changes {
		if x.node != node {
			continue
		}
		var s nodeState
		if x.set(&s); s.resolver != "" && s.resolver != NoResolver {
			return true
		}
	}
	return false
}

func (c *checker) links() {
	for i := 0; i < len(c.m.links); i += 2 {
		place := fmt.Sprintf("$.links[%d]", i/2)
		for _, d := range c.m.links[i : i+2] {
			p := d.props
			way := c.m.nodes[d.from].Name + " → " + c.m.nodes[d.to].Name
			if p.Delay+p.Variation.Least() < 0 {
				c.odd(place, "%s: the delay of %v varies by more than itself; what would be less than 0 becomes 0", way, p.Delay)
			}
			if p.Rate == 0 && (p.Load > 0) {
				c.odd(place, "%s has cross traffic and no rate; 12 Mbit/s are taken", way)
			}
			if p.Rate > 0 && p.Policer.Rate >= p.Rate {
				c.odd(place, "%s: the policer lets through more than the link's rate and never acts", way)
			}
			if p.Loss.Mean() == 1 {
				c.odd(place, "%s loses everything; \"linked: false\" would make routers take another way", way)
			}
			if p.Loss.Kind == link.BurstLoss && p.Loss.Enter > 0 && p.Loss.Leave == 0 {
				c.odd(place, "%s: its bursts of loss never end", way)
			}
			if p.Reorders > 0 && p.Unordered {
				c.odd(place, "%s: both \"reorders\" and \"order: free\" put packets out of order", way)
			}
		}
	}
}

// ways looks for hosts that cannot reach each other, or are not answered.
func (c *checker) ways() {
	w := c.m.Walker()
	w.c.settle(c.m.Reference.UnixNano())
	for from, a := range c.m.nodes {
		if a.Router {
			continue
		}
		for to, b := range c.m.nodes {
			if from == to || b.Router {
				continue
			}
			c.pair(w, from, to)
		}
		if len(c.found) > mostWarnings {
			return
		}
	}
}

// mostWarnings is where more would only repeat themselves.
const mostWarnings = 100

func (c *checker) pair(w *Walker, from, to int) {
	a, b := c.m.nodes[from], c.m.nodes[to]
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		_, ok1 := a.Addr(f)
		there, ok2 := b.Addr(f)
		if !ok1 || !ok2 {
			continue
		}
		place := fmt.Sprintf("$.nodes[%d]", from)
		nodes, end := w.wayTo(from, there)
		if end == reachedIt {
			continue
		}
		var names []string
		for _, n := range nodes[:min(len(nodes), 6)] {
			names = append(names, c.m.nodes[n].Name)
		}
		back, _ := a.Addr(f)
		_, answered := w.wayTo(to, back)
		switch {
		case end == wentInCircles:
			c.odd(place, "what %s sends to %s goes in circles: %s …", a.Name, b.Name, strings.Join(names, ", "))
		case answered == reachedIt:
			c.odd(place, "there is no way from %s to %s, but one back: it hears what it cannot answer", a.Name, b.Name)
		case from < to:
			c.odd(place, "there is no way between %s and %s", a.Name, b.Name)
		}
		return
	}
}

type wayEnd int

const (
	reachedIt wayEnd = iota
	noWay
	wentInCircles
)

// wayTo follows the routes to an address without sending anything.
func (w *Walker) wayTo(from int, to netip.Addr) ([]int, wayEnd) {
	target, own := w.m.Owner(to)
	p := parcel{dst: to, target: int32(target), own: own, origin: int32(from)}
	nodes := []int{from}
	for at := int32(from); at != p.target; {
		next := w.c.next(&p, at)
		if next < 0 || !w.c.links[next].Up {
			return nodes, noWay
		}
		at = int32(w.m.links[next].to)
		nodes = append(nodes, int(at))
		if !w.c.nodes[at].up || at != p.target && !w.m.nodes[at].Router {
			return nodes, noWay
		}
		if len(nodes) > len(w.m.nodes)+1 {
			return nodes, wentInCircles
		}
	}
	return nodes, reachedIt
}
