package controller

import (
	"context"
	"slices"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// disturbed reports whether a load run went on at an agent, or on the access of its
// site, in a stretch of time.
func (c *Controller) disturbed(agent ident.ID, site string, from, to time.Time) bool {
	c.runs.mu.Lock()
	defer c.runs.mu.Unlock()
	hit := func(agents []ident.ID, sites []string) bool {
		return overlap(agents, []ident.ID{agent}) || site != "" && overlap(sites, []string{site})
	}
	for _, s := range c.runs.past {
		if s.from.Before(to) && s.to.After(from) && hit(s.agents, s.sites) {
			return true
		}
	}
	for _, x := range c.runs.active {
		if x.load && x.begun && x.since.Before(to) && hit(x.agents, x.sites) {
			return true
		}
	}
	return false
}

// LoadsBeside are the load runs that may have disturbed a path: at its agent, or on the
// access of its site.
func (c *Controller) LoadsBeside(ctx context.Context, path ident.ID, from, to time.Time) ([]store.TwoEnded, error) {
	c.mu.RLock()
	var agents []ident.ID
	if p := c.paths[path]; p != nil && c.agents[p.AgentID] != nil {
		own := c.agents[p.AgentID]
		for _, a := range c.agents {
			if a.ID == own.ID || own.Site != "" && a.Site == own.Site {
				agents = append(agents, a.ID)
			}
		}
	}
	c.mu.RUnlock()
	if len(agents) == 0 {
		return nil, nil
	}
	list, err := c.store.LoadsBeside(ctx, kind.Loads(), agents, from, to)
	c.runs.mu.Lock()
	defer c.runs.mu.Unlock()
	return slices.DeleteFunc(list, func(t store.TwoEnded) bool { // it still waits for its turn
		x := c.runs.active[t.ID]
		return x != nil && !x.begun
	}), err
}

// markDisturbed marks readings beside which a load run went on.
func (c *Controller) markDisturbed(list []protocol.Record) {
	for i := range list {
		r := &list[i]
		c.mu.RLock()
		p := c.paths[r.Path]
		site := ""
		if p != nil && c.agents[p.AgentID] != nil {
			site = c.agents[p.AgentID].Site
		}
		c.mu.RUnlock()
		if p != nil && c.disturbed(p.AgentID, site, r.Reading.At, r.Reading.At.Add(r.Reading.Span)) {
			r.Flags |= protocol.Disturbed
		}
	}
}

// loadsKept is for how long it is remembered in memory which load runs went on: readings
// that an agent held back come late.
const loadsKept = 7 * 24 * time.Hour

// loadLoads takes up the load runs of before. One whose end is not known was cut off with
// the service, and is taken to have gone on no longer than it may.
func (c *Controller) loadLoads(ctx context.Context) error {
	var all []ident.ID
	for id := range c.agents {
		all = append(all, id)
	}
	if len(all) == 0 {
		return nil
	}
	now := time.Now()
	list, err := c.store.LoadsBeside(ctx, kind.Loads(), all, now.Add(-loadsKept), now)
	for _, t := range list {
		s := loadSpan{from: t.StartedAt, to: t.StartedAt.Add(longestTwo)}
		if t.EndedAt != nil && t.EndedAt.Before(s.to) {
			s.to = *t.EndedAt
		}
		for _, id := range []ident.ID{t.AgentID, t.FarID} {
			if a := c.agents[id]; a != nil {
				s.agents = append(s.agents, id)
				if a.Site != "" {
					s.sites = append(s.sites, a.Site)
				}
			}
		}
		c.runs.past = append(c.runs.past, s)
	}
	return err
}

// loadSpan is when a load run went on, and where.
type loadSpan struct {
	from, to time.Time
	agents   []ident.ID
	sites    []string
}

// rememberLoad keeps when a load run went on, and forgets those of long ago; the lock is
// held.
func (t *runs) rememberLoad(s loadSpan) {
	oldest := s.to.Add(-loadsKept)
	t.past = append(slices.DeleteFunc(t.past, func(old loadSpan) bool { return old.to.Before(oldest) }), s)
}
