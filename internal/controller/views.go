package controller

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

// Filter selects paths; zero fields select all.
type Filter struct {
	States []guard.State // any of them
	Site   string        // of the agent or of the target
	Agent  string
	Tag    string
	Search string // in agent, target and sites
	All    bool   // those too that no watch measures
}

func (f Filter) takes(v View) bool {
	switch {
	case !f.All && len(v.Watches) == 0,
		len(f.States) > 0 && !slices.Contains(f.States, v.Verdict.State),
		f.Site != "" && f.Site != v.Site && f.Site != v.Agent.Site,
		f.Agent != "" && f.Agent != v.Agent.Name,
		f.Tag != "" && !slices.Contains(v.Tags, f.Tag):
		return false
	case f.Search == "":
		return true
	}
	text := strings.ToLower(strings.Join([]string{v.Agent.Name, v.Agent.Site, v.Target, v.Site}, " "))
	return strings.Contains(text, strings.ToLower(f.Search))
}

// Views are the paths that a filter takes, worst first.
func (c *Controller) Views(f Filter) []View {
	now := time.Now()
	c.mu.RLock()
	defer c.mu.RUnlock()
	views := make([]View, 0, len(c.paths))
	with := c.about(now)
	for _, p := range c.paths {
		if v := c.view(p, with); f.takes(v) {
			views = append(views, v)
		}
	}
	slices.SortFunc(views, func(a, b View) int {
		return cmp.Or(cmp.Compare(b.Severity(), a.Severity()), cmp.Compare(a.Agent.Name, b.Agent.Name),
			cmp.Compare(a.Target, b.Target), cmp.Compare(a.Family, b.Family))
	})
	return views
}

// View is one path; the error wraps store.ErrNotFound.
func (c *Controller) View(id ident.ID) (View, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	p := c.paths[id]
	if p == nil {
		return View{}, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
	}
	return c.view(p, c.about(time.Now())), nil
}

// PathKeys are what the paths are called by their ends, by identifier.
func (c *Controller) PathKeys() map[ident.ID]guard.Key {
	c.mu.RLock()
	defer c.mu.RUnlock()
	keys := make(map[ident.ID]guard.Key, len(c.paths))
	for id, p := range c.paths {
		keys[id] = c.keyOf(p)
	}
	return keys
}

// PathIDs are the identifiers of the paths by their ends.
func (c *Controller) PathIDs() map[guard.Key]ident.ID {
	ids := map[guard.Key]ident.ID{}
	for id, k := range c.PathKeys() {
		ids[k] = id
	}
	return ids
}

// noteStates tells listeners of states that changed with time alone.
func (c *Controller) noteStates(now time.Time) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	with := c.about(now)
	for id, p := range c.paths {
		state := c.view(p, with).Verdict.State
		p.mu.Lock()
		changed := state != p.told
		p.told = state
		p.mu.Unlock()
		if changed {
			c.publish(Event{Kind: StateChanged, Path: id})
		}
	}
}

// Ends are the agent and the path of an identifier.
func (c *Controller) Ends(id ident.ID) (store.Agent, store.Path, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	p := c.paths[id]
	if p == nil {
		return store.Agent{}, store.Path{}, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
	}
	if a := c.agents[p.AgentID]; a != nil {
		return a.Agent, p.Path, nil
	}
	return store.Agent{}, p.Path, nil
}
