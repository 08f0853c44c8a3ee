package controller

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// Watches are all watches, by name.
func (c *Controller) Watches() []Watch {
	c.mu.RLock()
	defer c.mu.RUnlock()
	list := make([]Watch, 0, len(c.watches))
	for _, w := range c.sortedWatches() {
		list = append(list, *w)
	}
	return list
}

// FindWatch finds a watch by name or identifier; the error wraps
// store.ErrNotFound.
func (c *Controller) FindWatch(what string) (Watch, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for _, w := range c.watches {
		if w.Name == what || w.ID.String() == what {
			return *w, nil
		}
	}
	return Watch{}, fmt.Errorf("watch %q: %w", shorten(what), store.ErrNotFound)
}

// SaveWatch adds a watch, or changes the one of the given identifier.
func (c *Controller) SaveWatch(ctx context.Context, id ident.ID, name string, spec Spec, paused bool) (Watch, error) {
	spec = spec.WithDefaults()
	name = strings.TrimSpace(name)
	if name == "" || len(name) > mostNameLength {
		return Watch{}, fmt.Errorf("%w: a watch needs a name of 1 to %d characters", ErrInvalid, mostNameLength)
	}
	if err := spec.Check(); err != nil {
		return Watch{}, err
	}
	paths, err := c.pathsOf(ctx, spec)
	if err != nil {
		return Watch{}, err
	}
	text, err := json.Marshal(spec)
	if err != nil {
		return Watch{}, err
	}
	now := time.Now().UTC()
	w := &Watch{Watch: store.Watch{ID: id, Name: name, Paused: paused, Spec: string(text), CreatedAt: now, UpdatedAt: now}, Spec: spec, Paths: paths}
	what, before := "watch_added", any(nil)
	if id.IsZero() {
		w.ID = ident.New()
	} else if old, err := c.FindWatch(id.String()); err == nil {
		w.CreatedAt = old.CreatedAt
		what, before = "watch_changed", noted(old)
	}
	if err := c.store.SaveWatch(ctx, w.Watch, paths); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return Watch{}, fmt.Errorf("the name %q %w by another watch; choose another, or change that one", name, store.ErrTaken)
		}
		return Watch{}, err
	}
	c.mu.Lock()
	c.watches[w.ID] = w
	c.mu.Unlock()
	c.sendPlans()
	c.publish(Event{Kind: WatchChanged})
	c.noteChange(ctx, what, name, before, noted(*w))
	return *w, nil
}

// noted is what of a watch stands in the record of changes.
func noted(w Watch) any {
	return struct {
		Name   string
		Paused bool
		Spec   Spec
	}{w.Name, w.Paused, w.Spec}
}

// pathsOf makes the paths that a spec measures.
func (c *Controller) pathsOf(ctx context.Context, spec Spec) ([]ident.ID, error) {
	k := spec.kindOf()
	rule := k.Lanes(spec.How)
	var ends []store.Ends
	for _, from := range spec.From {
		c.mu.RLock()
		a, err := c.agentNamed(from)
		c.mu.RUnlock()
		if err != nil {
			return nil, err
		}
		if !k.Paths {
			continue // its agents must be there
		}
		lanes := rule.Split(spec.To)
		if rule.All && !rule.Definite(spec.To) {
			if lanes, err = c.locate(ctx, a, k, spec); err != nil {
				return nil, err
			}
		}
		ends = append(ends, endsOf(a.ID, rule, lanes)...)
	}
	if len(ends) == 0 {
		return nil, nil
	}
	paths, err := c.ensurePaths(ctx, ends)
	if err != nil {
		return nil, err
	}
	var ids []ident.ID
	seen := make(map[ident.ID]bool, len(paths))
	for _, p := range paths {
		if !seen[p.ID] {
			seen[p.ID] = true
			ids = append(ids, p.ID)
		}
	}
	return ids, nil
}

// locate finds all addresses of the names of a watch, where they are measured from.
func (c *Controller) locate(ctx context.Context, a *agentState, k *kind.Kind, spec Spec) ([]kind.Lane, error) {
	if a.worker == nil {
		return nil, fmt.Errorf("%w: agent %q is not running, and only there it is known which addresses the names have", ErrInvalid, a.Name)
	}
	how, err := k.Encode(spec.How)
	if err != nil {
		return nil, err
	}
	lanes, err := a.worker.Locate(ctx, protocol.LocateOrder{Kind: k.Name, Version: k.Version, Spec: how, Targets: spec.To})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	for _, l := range lanes {
		if l.Problem != "" {
			return nil, fmt.Errorf("%w: %s has no addresses at %s to measure all of: %s", ErrInvalid, shorten(l.Target), a.Name, l.Problem)
		}
	}
	return lanes, nil
}

// SetPaused pauses a watch or lets it go on.
func (c *Controller) SetPaused(ctx context.Context, w Watch, paused bool) (Watch, error) {
	return c.SaveWatch(ctx, w.ID, w.Name, w.Spec, paused)
}

// RemoveWatch removes a watch. What it measured stays.
func (c *Controller) RemoveWatch(ctx context.Context, w Watch) error {
	if err := c.store.DeleteWatch(ctx, w.ID); err != nil {
		return err
	}
	c.mu.Lock()
	delete(c.watches, w.ID)
	c.mu.Unlock()
	c.sendPlans()
	c.publish(Event{Kind: WatchChanged})
	c.noteChange(ctx, "watch_removed", w.Name, noted(w), nil)
	return nil
}
