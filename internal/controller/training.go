package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

// trainDue makes new rolling baselines for the paths whose time has come: each has its own
// minute of the day.
func (c *Controller) trainDue(ctx context.Context, now time.Time) error {
	c.mu.RLock()
	var due []*pathState
	for _, p := range c.paths {
		p.mu.Lock()
		if p.last != nil && p.due(now) {
			due = append(due, p)
		}
		p.mu.Unlock()
	}
	c.mu.RUnlock()
	for _, p := range due {
		if ctx.Err() != nil {
			return nil
		}
		if err := c.train(ctx, p, now); err != nil {
			return err
		}
	}
	return nil
}

// firstBaseline is how long after its first reading a path gets its first baseline, so that
// there is something to see.
const firstBaseline = 30 * time.Minute

// due reports whether the path is to be trained; p.mu is held.
func (p *pathState) due(now time.Time) bool {
	return p.guard.Due(now) || p.guard.Judge().Baseline() == nil && now.Sub(p.first) >= firstBaseline && now.Sub(p.tried) >= 5*time.Minute
}

// train makes a new baseline of a path and asks what the path has come to be. While another
// is pinned, the new one is kept beside it and not used.
func (c *Controller) train(ctx context.Context, p *pathState, now time.Time) error {
	h, err := c.store.History(ctx, p.ID, now.Add(-c.options.Training), now)
	if err != nil {
		return err
	}
	p.mu.Lock()
	before := p.guard.Judge().Baseline()
	changes := p.guard.Train(h, now)
	b := p.guard.Judge().Baseline()
	pinned := p.pinned
	if pinned {
		p.guard.Judge().SetBaseline(before)
	}
	p.tried = now
	p.mu.Unlock()
	if err := c.happened(ctx, p, changes); err != nil {
		return err
	}
	if b != nil && b != before {
		if _, err := c.keepBaseline(ctx, p, b, false, !pinned); err != nil {
			return err
		}
	}
	return c.saveGuards(ctx, p)
}

// happened keeps what happened to the episodes of a path, and tells the listeners.
func (c *Controller) happened(ctx context.Context, p *pathState, changes []guard.Change) error {
	p.mu.Lock()
	noted, changed := p.noteAll(changes)
	p.mu.Unlock()
	keep := rowsOf(noted)
	if err := c.store.SaveEpisodes(ctx, keep); err != nil {
		c.retryEpisodes(keep)
		return err
	}
	if c.noteChanges(changes) {
		if err := c.endIncidents(ctx); err != nil {
			return err
		}
	}
	if changed {
		c.publish(Event{Kind: StateChanged, Path: p.ID})
	}
	return nil
}

// saveGuards keeps how paths are guarded.
func (c *Controller) saveGuards(ctx context.Context, paths ...*pathState) error {
	var list []store.Guard
	for _, p := range paths {
		p.mu.Lock()
		state, err := p.record()
		p.mu.Unlock()
		if err != nil {
			return fmt.Errorf("write how path %s is guarded: %w", p.ID, err)
		}
		list = append(list, store.Guard{PathID: p.ID, State: state, UpdatedAt: time.Now().UTC()})
	}
	return c.store.SaveGuards(ctx, list)
}

// keepBaseline keeps a baseline of a path; it is what the path is judged by when it is used.
func (c *Controller) keepBaseline(ctx context.Context, p *pathState, b *baseline.Baseline, pin, use bool) (*store.Baseline, error) {
	p.mu.Lock()
	body, err := json.Marshal(b)
	p.mu.Unlock()
	if err != nil {
		return nil, err
	}
	kept := store.Baseline{ID: ident.New(), PathID: p.ID, TakenAt: time.Now().UTC(), Pinned: pin, Readings: b.Readings, Body: string(body)}
	if err := c.store.SaveBaseline(ctx, kept); err != nil {
		return nil, err
	}
	if use {
		p.mu.Lock()
		p.guard.Judge().SetBaseline(b)
		p.pinned, p.taken, p.using = pin, kept.TakenAt, kept.ID
		p.mu.Unlock()
	}
	return &kept, nil
}

// take makes a baseline of what somebody says is normal.
func (c *Controller) take(ctx context.Context, p *pathState, from, to time.Time, pin bool) (*store.Baseline, error) {
	h, err := c.store.History(ctx, p.ID, from, to)
	if err != nil {
		return nil, err
	}
	t := baseline.Training{Calendar: c.guards.Calendar, Tolerances: c.guards.Tolerances, Trusted: true}
	if !pin {
		p.mu.Lock()
		t.Weigh = p.guard.Weights(to) // who pins a window says that all of it is normal
		p.mu.Unlock()
	}
	b, err := baseline.Build(h, t)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return c.keepBaseline(ctx, p, b, pin, true)
}

// TakeBaseline makes a baseline from the last readings of a path, and pins it
// when asked to.
func (c *Controller) TakeBaseline(ctx context.Context, path ident.ID, last time.Duration, pin bool) (*store.Baseline, error) {
	p, err := c.path(path)
	if err != nil {
		return nil, err
	}
	if last <= 0 {
		last = c.options.Training
	}
	now := time.Now()
	kept, err := c.take(ctx, p, now.Add(-last), now, pin)
	if err == nil {
		c.noteChange(ctx, "baseline_taken", c.nameOf(p), nil, map[string]any{"path": path, "readings": kept.Readings, "last": last.String(), "pinned": pin})
	}
	return kept, err
}

// nameOf says which path it is, for people.
func (c *Controller) nameOf(p *pathState) string {
	c.mu.RLock()
	defer c.mu.RUnlock()
	from := "?"
	if a := c.agents[p.AgentID]; a != nil {
		from = a.Name
	}
	return from + " to " + p.Target
}

func (c *Controller) path(id ident.ID) (*pathState, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if p := c.paths[id]; p != nil {
		return p, nil
	}
	return nil, fmt.Errorf("path %s: %w", id, store.ErrNotFound)
}

// roll makes the rollups that are due and takes the fine ones into the small
// plots.
func (c *Controller) roll(ctx context.Context, now time.Time) error {
	return c.store.RollDue(ctx, now, func(path ident.ID, s store.Slot) {
		if s.Span != TraceSpan {
			return
		}
		if p, err := c.path(path); err == nil {
			p.mu.Lock()
			p.keepSlot(s)
			p.mu.Unlock()
		}
	})
}
