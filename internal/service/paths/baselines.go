package paths

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/store"
)

// KeptBaseline is a stored baseline, without what is in it.
type KeptBaseline struct {
	store.Baseline
	InUse bool
}

// Baselines are those that are kept of a path, newest first.
func (x *Paths) Baselines(ctx context.Context, path ident.ID) ([]KeptBaseline, error) {
	p, err := x.find(path)
	if err != nil {
		return nil, err
	}
	list, err := x.Store.Baselines(ctx, path, false)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	using := p.using
	p.mu.Unlock()
	out := make([]KeptBaseline, len(list))
	for i, b := range list {
		out[i] = KeptBaseline{b, b.ID == using}
	}
	return out, nil
}

// StoredBaseline reads a baseline of a path; the error wraps store.ErrNotFound when it is not
// kept, or is of an earlier version, which is not read any more.
func (x *Paths) StoredBaseline(ctx context.Context, path, id ident.ID) (*baseline.Baseline, error) {
	list, err := x.Store.Baselines(ctx, path, true)
	if err != nil {
		return nil, err
	}
	for _, b := range list {
		if b.ID != id {
			continue
		}
		var read baseline.Baseline
		if err := json.Unmarshal([]byte(b.Body), &read); err != nil {
			return nil, fmt.Errorf("read baseline %s: %w", id, err)
		}
		if len(read.Models) == 0 {
			return nil, fmt.Errorf("baseline %s is of an earlier version: take it anew: %w", id, store.ErrNotFound)
		}
		return &read, nil
	}
	return nil, fmt.Errorf("baseline %s of path %s: %w", id, path, store.ErrNotFound)
}

// WriteBaseline writes a baseline of a path as JSON.
func (x *Paths) WriteBaseline(path ident.ID, b *baseline.Baseline) ([]byte, error) {
	p, err := x.find(path)
	if err != nil {
		return nil, err
	}
	p.mu.Lock() // what is expected to come back may be noted in it meanwhile
	defer p.mu.Unlock()
	return json.Marshal(b)
}

// Recurrences are what a path's baseline expects to come back.
func (x *Paths) Recurrences(path ident.ID, m baseline.Measure) []baseline.Recurrence {
	p, err := x.find(path)
	if err != nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if b := p.guard.Judge().Baseline(); b != nil && b.Models[m] != nil {
		return slices.Clone(b.Models[m].Recurs)
	}
	return nil
}

// ImportBaseline gives a path a baseline that was made elsewhere, or of some measures only.
func (x *Paths) ImportBaseline(ctx context.Context, path ident.ID, b *baseline.Baseline, only []baseline.Measure, pin bool) error {
	p, err := x.find(path)
	if err != nil {
		return err
	}
	if len(only) > 0 {
		b = b.Only(only...)
	}
	if len(b.Models) == 0 {
		return fmt.Errorf("%w: the file holds no baseline of a measure that was asked for", kind.ErrInvalid)
	}
	for _, m := range b.Models {
		m.Trusted = true // somebody says that this is normal
	}
	p.mu.Lock()
	before := p.guard.Judge().Baseline()
	if before != nil && len(only) > 0 {
		b = before.With(b)
	}
	p.mu.Unlock()
	kept, err := x.keepBaseline(ctx, p, b, pin, true)
	if err == nil {
		x.Notices.Changed(ctx, "baseline_imported", x.nameOf(p), nil, map[string]any{"path": path, "readings": kept.Readings, "pinned": pin, "measures": only})
	}
	return err
}

// PinBaseline pins the baseline that a path is judged by, or lets it roll again: then the
// newest one that was learnt takes its place.
func (x *Paths) PinBaseline(ctx context.Context, path ident.ID, pin bool) error {
	p, err := x.find(path)
	if err != nil {
		return err
	}
	p.mu.Lock()
	before, using := p.pinned, p.using
	p.mu.Unlock()
	if pin == before {
		return nil
	}
	if pin && using.IsZero() {
		return fmt.Errorf("path %s has no baseline yet: %w", path, store.ErrNotFound)
	}
	if err := x.Store.PinBaseline(ctx, path, using, pin); err != nil {
		return err
	}
	p.mu.Lock()
	p.pinned = pin
	p.mu.Unlock()
	what := "baseline_pinned"
	if !pin {
		what = "baseline_unpinned"
		if err := x.useNewest(ctx, p); err != nil {
			return err
		}
	}
	x.Notices.Changed(ctx, what, x.nameOf(p), map[string]any{"path": path, "pinned": before}, map[string]any{"path": path, "pinned": pin})
	return nil
}

// useNewest judges a path by the newest baseline that is kept of it.
func (x *Paths) useNewest(ctx context.Context, p *Path) error {
	b, from, err := x.readBaseline(ctx, p.ID)
	if err != nil || b == nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.guard.Judge().SetBaseline(b)
	p.pinned, p.taken, p.using = from.Pinned, from.TakenAt, from.ID
	return nil
}

// RollBaseline lets a path's baseline roll, and learns it anew at once.
func (x *Paths) RollBaseline(ctx context.Context, path ident.ID) error {
	p, err := x.find(path)
	if err != nil {
		return err
	}
	if err := x.PinBaseline(ctx, path, false); err != nil {
		return err
	}
	if err := x.train(ctx, p, time.Now()); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "baseline_rolled", x.nameOf(p), nil, map[string]any{"path": path})
	return nil
}

// Accept takes what a path has come to for normal: a new level, or that to which it crept; of
// some measures, or of all when none is named. The error wraps kind.ErrInvalid when nothing waits.
func (x *Paths) Accept(ctx context.Context, path ident.ID, what guard.PropertyKind, list []baseline.Measure) error {
	p, err := x.find(path)
	if err != nil {
		return err
	}
	if what != guard.NewLevel && what != guard.Creeping {
		return fmt.Errorf("%w: kind %q is none of new_level, crept", kind.ErrInvalid, what)
	}
	if len(list) == 0 {
		list = baseline.Measures()
	}
	now := time.Now()
	var changes []guard.Change
	var accepted []string
	p.mu.Lock()
	for _, m := range list {
		happened, ok := p.guard.Accept(what, m, now)
		changes = append(changes, happened...)
		if ok {
			accepted = append(accepted, m.String())
		}
	}
	p.mu.Unlock()
	if len(accepted) == 0 {
		return fmt.Errorf("%w: nothing of the kind %s waits to be accepted on this path", kind.ErrInvalid, what)
	}
	if err := x.Happened(ctx, p, changes); err != nil {
		return err
	}
	x.Notices.Changed(ctx, "level_accepted", x.nameOf(p), nil, map[string]any{"path": path, "kind": what, "measures": accepted})
	x.Events.Publish(events.Event{Kind: events.StateChanged, Path: path})
	return x.train(ctx, p, now)
}
