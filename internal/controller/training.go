package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

// trainDue makes new rolling baselines for the paths whose time has come.
func (c *Controller) trainDue(ctx context.Context, now time.Time) error {
	c.mu.RLock()
	var due []*pathState
	for _, p := range c.paths {
		p.mu.Lock()
		if !p.pinned && p.last != nil && !now.Before(p.nextTraining) {
			due = append(due, p)
		}
		p.mu.Unlock()
	}
	c.mu.RUnlock()
	for _, p := range due {
		if ctx.Err() != nil {
			return nil
		}
		if _, err := c.train(ctx, p, now.Add(-c.options.Training), now, false); err != nil {
			return err
		}
		p.mu.Lock()
		// A young path learns again soon: its first baseline after half an hour
		// of readings, hours for the first day, then each midnight.
		switch {
		case p.judge.Baseline() == nil:
			p.nextTraining = now.Add(5 * time.Minute)
		default:
			p.nextTraining = baseline.NextTraining([]baseline.Point{{At: p.first}}, now, c.zone)
		}
		p.findDaily(now, c.zone)
		p.mu.Unlock()
	}
	return nil
}

// train makes a baseline from a window and keeps it. It returns nil when there
// are too few readings.
func (c *Controller) train(ctx context.Context, p *pathState, from, to time.Time, pin bool) (*store.Baseline, error) {
	points, err := c.store.Points(ctx, p.ID, from, to)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	exclude := baseline.Spans(p.pastEpisodes())
	p.mu.Unlock()
	if pin {
		exclude = nil // who pins a window says that it is normal
	}
	b, err := baseline.Build(points, baseline.Training{Zone: c.zone, Exclude: exclude})
	if err != nil {
		if pin {
			return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
		}
		return nil, nil
	}
	return c.keepBaseline(ctx, p, b, pin)
}

func (c *Controller) keepBaseline(ctx context.Context, p *pathState, b *baseline.Baseline, pin bool) (*store.Baseline, error) {
	body, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	kept := store.Baseline{ID: ident.New(), PathID: p.ID, TakenAt: time.Now().UTC(), Pinned: pin, Readings: b.Readings, Body: string(body)}
	if err := c.store.SaveBaseline(ctx, kept); err != nil {
		return nil, err
	}
	p.mu.Lock()
	p.judge.SetBaseline(b)
	p.pinned, p.taken = pin, kept.TakenAt
	p.mu.Unlock()
	return &kept, nil
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
	kept, err := c.train(ctx, p, now.Add(-last), now, pin)
	if err == nil && kept == nil {
		return nil, fmt.Errorf("%w: in the last %v there are fewer than %d readings outside episodes; take a longer stretch, or wait", ErrInvalid, last, baseline.MinReadings)
	}
	if err == nil {
		c.noteChange(ctx, "baseline_taken", c.nameOf(p), nil, map[string]any{"path": path, "readings": kept.Readings, "last": last.String(), "pinned": pin})
	}
	return kept, err
}

// PinBaseline pins a path's baseline, or lets it roll again.
func (c *Controller) PinBaseline(ctx context.Context, path ident.ID, pin bool) error {
	p, err := c.path(path)
	if err != nil {
		return err
	}
	if err := c.store.PinBaselines(ctx, path, pin); err != nil {
		return err
	}
	p.mu.Lock()
	before := p.pinned
	p.pinned = pin
	p.nextTraining = time.Time{}
	p.mu.Unlock()
	what := "baseline_unpinned"
	if pin {
		what = "baseline_pinned"
	}
	c.noteChange(ctx, what, c.nameOf(p), map[string]any{"path": path, "pinned": before}, map[string]any{"path": path, "pinned": pin})
	return nil
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
