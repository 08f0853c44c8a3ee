package guard

import (
	"slices"
	"time"

	"woodlark.example/core/incident"
)

// routes of a path are remembered while their changes may explain an episode.
const routesKept = 64

// routeSeen is a route with the time from which it was seen, and the last time at which the
// one before was.
type routeSeen struct {
	At     time.Time `json:"at"`
	Before time.Time `json:"before_at"`
	Hops   []string  `json:"hops"` // "" where nobody answers
}

// Route notes the route that the path was found to have; it reports whether it is another
// than before.
func (p *Path) Route(at time.Time, hops []string) bool {
	for len(hops) > 0 && hops[len(hops)-1] == "" {
		hops = hops[:len(hops)-1]
	}
	if len(hops) == 0 {
		return false
	}
	if n := len(p.routes); n > 0 {
		last := &p.routes[n-1]
		if k := min(len(hops), len(last.Hops)); sameRoute(last.Hops[:k], hops[:k]) {
			// One that was cut off, or not heard of to its end, is no other route.
			if len(hops) > k {
				last.Hops = slices.Clone(hops)
			}
			p.traced = at
			return false
		}
	}
	before := p.traced
	p.traced = at
	p.routes = append(p.routes, routeSeen{At: at, Before: before, Hops: slices.Clone(hops)})
	if len(p.routes) > routesKept {
		p.routes = slices.Delete(p.routes, 0, 1)
	}
	return true
}

// sameRoute compares two routes where both know a hop.
func sameRoute(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != "" && b[i] != "" && a[i] != b[i] {
			return false
		}
	}
	return true
}

// RouteAt is the route that the path had at a time, as far as is known; nil when it is not.
func (p *Path) RouteAt(t time.Time) []string {
	for i := len(p.routes) - 1; i >= 0; i-- {
		if !p.routes[i].At.After(t) || i == 0 {
			return p.routes[i].Hops
		}
	}
	return nil
}

// RouteChange is a change of route that came with an episode.
type RouteChange struct {
	At     time.Time `json:"at"`        // when the new one was first seen
	Before time.Time `json:"before_at"` // when the old one was last seen
	// The first hop that differs, the one before it, and what stood there before; empty where
	// nobody answered.
	Hop  string   `json:"hop"`
	Near string   `json:"near"`
	Was  string   `json:"was"`
	Old  []string `json:"old"`
	New  []string `json:"new"`
}

// agree is how far from the doubt of an episode's begin a change of route may be.
const agree = 3 * time.Minute

// RouteChangeOf is the change of route that agrees with the begin of an episode.
func (p *Path) RouteChangeOf(e Episode) (RouteChange, bool) {
	from, to := e.Doubt.From.Add(-agree), e.Doubt.To.Add(agree)
	if from.After(e.From.Add(-agree)) {
		from = e.From.Add(-agree)
	}
	for i := len(p.routes) - 1; i > 0; i-- {
		r := p.routes[i]
		if r.Before.After(to) || r.At.Before(from) {
			continue
		}
		old := p.routes[i-1].Hops
		c := RouteChange{At: r.At, Before: r.Before, Old: old, New: r.Hops}
		k := 0
		for k < len(old) && k < len(r.Hops) && (old[k] == r.Hops[k] || old[k] == "" || r.Hops[k] == "") {
			k++
		}
		if k < len(r.Hops) {
			c.Hop = r.Hops[k]
		}
		if k < len(old) {
			c.Was = old[k]
		}
		for n := k - 1; n >= 0 && c.Near == ""; n-- {
			c.Near = r.Hops[n]
		}
		return c, true
	}
	return RouteChange{}, false
}

// linksOf are the links of a route from an agent to a target. Hops that do not answer are
// filled from other routes where those leave no doubt; else what leads to them, and what leads
// on from them, are links of their own, for others may share the one and not the other.
func linksOf(from, to string, hops []string, known map[incident.Link]string) []incident.Link {
	if len(hops) == 0 || hops[len(hops)-1] != to {
		last := ""
		if n := len(hops); n > 0 {
			last = hops[n-1]
		}
		if last == "" {
			hops = append(slices.Clone(hops), to)
		}
	}
	var links []incident.Link
	near, gap := from, false
	for _, h := range hops {
		if h == "" {
			gap = true
			continue
		}
		if h == near {
			continue
		}
		between := known[incident.Link{From: near, To: h}]
		switch {
		case gap && between != "":
			links = append(links, incident.Link{From: near, To: between}, incident.Link{From: between, To: h})
		case gap:
			links = append(links, incident.Link{From: near, To: h}, incident.Link{From: near}, incident.Link{To: h})
		default:
			links = append(links, incident.Link{From: near, To: h})
		}
		near, gap = h, false
	}
	return links
}

// betweens are the hops that stand alone between two others, over all routes.
func betweens(routes [][]string) map[incident.Link]string {
	known := map[incident.Link]string{}
	for _, hops := range routes {
		for i := 2; i < len(hops); i++ {
			a, b, c := hops[i-2], hops[i-1], hops[i]
			if a == "" || b == "" || c == "" {
				continue
			}
			l := incident.Link{From: a, To: c}
			if was, ok := known[l]; ok && was != b {
				b = "" // there are several
			}
			known[l] = b
		}
	}
	return known
}
