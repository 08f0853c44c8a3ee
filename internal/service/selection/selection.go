// Package selection says which paths something is of: by site, agent (name or label), target and tag, in the
// same words for rules, reports, boards and bundles.
//
//	s := selection.Selection{Tags: []string{"islands"}}
//	of := selection.New(paths, fleet, watches)
//	if s.Takes(of.Path(p)) { … }
package selection

import (
	"fmt"
	"slices"
	"strings"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
)

// Selection takes paths: each list that is given must fit, by any of its words, without regard
// to case. One of nothing takes all.
type Selection struct {
	Sites   []string `json:"sites,omitempty" doc:"At either end"`
	Agents  []string `json:"agents,omitempty"`
	Targets []string `json:"targets,omitempty"`
	Tags    []string `json:"tags,omitempty" doc:"Of watches"`
	Labels  []string `json:"labels,omitempty" doc:"Of agents"`
}

const mostWords = 200

// Check says what cannot be.
func (s Selection) Check() error {
	for _, x := range s.lists() {
		if len(x.words) > mostWords {
			return fmt.Errorf("%w: %d %s are more than %d", kind.ErrInvalid, len(x.words), x.name, mostWords)
		}
	}
	return nil
}

type named struct {
	name  string
	words []string
}

func (s Selection) lists() []named {
	return []named{{"sites", s.Sites}, {"agents", s.Agents}, {"targets", s.Targets}, {"tags", s.Tags}, {"labels", s.Labels}}
}

// All reports whether it takes all.
func (s Selection) All() bool {
	return !slices.ContainsFunc(s.lists(), func(x named) bool { return len(x.words) > 0 })
}

// String says what it takes; empty when that is all.
func (s Selection) String() string {
	var parts []string
	for _, x := range s.lists() {
		if len(x.words) > 0 {
			parts = append(parts, x.name+" "+strings.Join(x.words, ", "))
		}
	}
	return strings.Join(parts, "; ")
}

// About is what there is to know of a path, or of several together.
type About struct{ Sites, Agents, Targets, Tags, Labels []string }

// And is what there is to know of both.
func (a About) And(b About) About {
	return About{append(a.Sites, b.Sites...), append(a.Agents, b.Agents...), append(a.Targets, b.Targets...), append(a.Tags, b.Tags...), append(a.Labels, b.Labels...)}
}

// Takes reports whether it takes something.
func (s Selection) Takes(a About) bool {
	return fits(s.Sites, a.Sites) && fits(s.Agents, a.Agents) && fits(s.Targets, a.Targets) && fits(s.Tags, a.Tags) && fits(s.Labels, a.Labels)
}

func fits(list, is []string) bool {
	return len(list) == 0 || slices.ContainsFunc(list, func(w string) bool {
		return slices.ContainsFunc(is, func(x string) bool { return strings.EqualFold(w, x) })
	})
}

// Known knows of paths what selections go by, as of when it was made.
type Known struct {
	paths *paths.Paths
	fleet *fleet.Fleet
	tags  map[ident.ID][]string
}

// New looks up what is known now.
func New(p *paths.Paths, f *fleet.Fleet, w *watches.Watches) Known {
	tags := map[ident.ID][]string{}
	for id, list := range w.OfPaths() {
		for _, x := range list {
			tags[id] = append(tags[id], x.Spec.Tags...)
		}
	}
	return Known{p, f, tags}
}

// Path is what there is to know of a path.
func (k Known) Path(p *paths.Path) About {
	a := About{Agents: []string{k.fleet.NameOf(p.AgentID)}, Targets: []string{p.Target}, Tags: k.tags[p.ID]}
	if near := k.fleet.ByID(p.AgentID); near != nil {
		if near.Site != "" {
			a.Sites = append(a.Sites, near.Site)
		}
		for _, l := range strings.Split(near.Labels, ",") {
			if l = strings.TrimSpace(l); l != "" {
				a.Labels = append(a.Labels, l)
			}
		}
	}
	if site := k.paths.SiteOf(p.Target); site != "" {
		a.Sites = append(a.Sites, site)
	}
	return a
}
