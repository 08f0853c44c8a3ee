package controller

import (
	"context"

	"woodlark.example/core/reading"
	"woodlark.example/internal/store"
)

// ensurePaths returns the paths between ends, in their order, made where they are not there.
func (c *Controller) ensurePaths(ctx context.Context, list []store.Ends) ([]*pathState, error) {
	out := make([]*pathState, len(list))
	var missing []store.Ends
	c.mu.RLock()
	for i, e := range list {
		if out[i] = c.byEnds[e]; out[i] == nil {
			missing = append(missing, e)
		}
	}
	c.mu.RUnlock()
	if len(missing) == 0 {
		return out, nil
	}
	made, err := c.store.EnsurePaths(ctx, missing, c.options.SiteOf)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, p := range made {
		if c.paths[p.ID] == nil {
			c.addPath(c.newPathState(p))
		}
	}
	for i, e := range list {
		out[i] = c.byEnds[e]
	}
	return out, nil
}

// addPath takes in a path; c.mu is held.
func (c *Controller) addPath(p *pathState) {
	c.paths[p.ID], c.byEnds[p.Ends()] = p, p
}

// viaOf reads by what a path is asked.
func viaOf(p store.Path) reading.Via {
	v, err := reading.ParseVia(p.Via)
	if err != nil { // of a later version of the program
		return reading.Via{}
	}
	return v
}
