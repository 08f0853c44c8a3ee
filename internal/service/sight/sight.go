// Package sight says what of the network somebody sees who is let in for a part of it: agents by
// their sites and labels, paths and runs by either of their ends.
//
//	x := sight.New(people.Of(ctx), paths, fleet)
//	if x.Path(p) { … }
package sight

import (
	"strings"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/store"
)

// Sight is what somebody sees; nil sees everything. It is as of when it was made, and not for
// concurrent use.
type Sight struct {
	who    people.Who
	paths  *paths.Paths
	agents map[ident.ID]bool // that are seen
	about  map[ident.ID]standing
	pairs  map[ends]bool // see between
}

type ends struct {
	agent  ident.ID
	target string
}

type standing struct {
	name   string
	sites  []string
	labels []string
}

// New is what somebody sees.
func New(w people.Who, p *paths.Paths, f *fleet.Fleet) *Sight {
	if !w.Scoped() {
		return nil
	}
	x := &Sight{who: w, paths: p, agents: map[ident.ID]bool{}, about: map[ident.ID]standing{}}
	for _, a := range f.Agents() {
		s := standing{name: a.Name, labels: words(a.Labels)}
		if a.Site != "" {
			s.sites = []string{a.Site}
		}
		x.about[a.ID] = s
		x.agents[a.ID] = w.Sees(s.sites, s.labels)
	}
	return x
}

func words(list string) (out []string) {
	for _, l := range strings.Split(list, ",") {
		if l = strings.TrimSpace(l); l != "" {
			out = append(out, l)
		}
	}
	return out
}

// All reports whether it is everything.
func (x *Sight) All() bool { return x == nil }

// Agent reports whether an agent is seen: what it measures may be asked for, too.
func (x *Sight) Agent(id ident.ID) bool { return x == nil || x.agents[id] }

// Named is Agent by its name.
func (x *Sight) Named(name string) bool {
	if x == nil {
		return true
	}
	for id, a := range x.about {
		if a.name == name {
			return x.agents[id]
		}
	}
	return false
}

// Path reports whether a path is seen: of either end, and by what of them there is to know.
func (x *Sight) Path(p *paths.Path) bool {
	if x == nil {
		return true
	}
	near := x.about[p.AgentID]
	return x.who.Sees(append(sitesOf(x.paths.SiteOf(p.Target)), near.sites...), near.labels)
}

// PathID is Path by its identifier; one that there is none of is not seen.
func (x *Sight) PathID(id ident.ID) bool {
	if x == nil {
		return true
	}
	p := x.paths.ByID(id)
	return p != nil && x.Path(p)
}

// Run reports whether a run is seen: by an agent at either end, or by a path between the same ends.
// As Within has it.
func (x *Sight) Run(r store.Run) bool {
	if x == nil {
		return true
	}
	return x.agents[r.AgentID] || x.agents[r.FarID] || x.between()[ends{r.AgentID, r.Target}]
}

// between are the ends of the paths that are seen by their far ends alone.
func (x *Sight) between() map[ends]bool {
	if x.pairs == nil {
		x.pairs = map[ends]bool{}
		for _, p := range x.paths.All() {
			if !x.agents[p.AgentID] && x.Path(p) {
				x.pairs[ends{p.AgentID, p.Target}] = true
			}
		}
	}
	return x.pairs
}

// Site reports whether a site is seen: as one of the scope, or as that of an agent that is seen.
func (x *Sight) Site(name string) bool {
	if x == nil || x.who.Sees([]string{name}, nil) {
		return true
	}
	for id, a := range x.about {
		if x.agents[id] && len(a.sites) > 0 && strings.EqualFold(a.sites[0], name) {
			return true
		}
	}
	return false
}

func sitesOf(site string) []string {
	if site == "" {
		return nil
	}
	return []string{site}
}

// Within is what is seen, for a search in the database; nil for everything.
func (x *Sight) Within() *store.Within {
	if x == nil {
		return nil
	}
	w := &store.Within{}
	for id, seen := range x.agents {
		if seen {
			w.Agents = append(w.Agents, id)
		}
	}
	for e := range x.between() {
		w.Ends = append(w.Ends, []any{e.agent, e.target})
	}
	return w
}
