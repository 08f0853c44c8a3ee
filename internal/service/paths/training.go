package paths

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/store"
)

// TrainDue makes new rolling baselines for the paths whose time has come: each has its own
// minute of the day.
func (x *Paths) TrainDue(ctx context.Context, now time.Time) error {
	var due []*Path
	for _, p := range x.All() {
		p.mu.Lock()
		if p.last != nil && p.due(now) {
			due = append(due, p)
		}
		p.mu.Unlock()
	}
	for _, p := range due {
		if ctx.Err() != nil {
			return nil
		}
		if err := x.train(ctx, p, now); err != nil {
			return err
		}
	}
	return nil
}

// firstBaseline is how long after its first reading a path gets its first baseline, so that
// there is something to see.
const firstBaseline = 30 * time.Minute

// due reports whether the path is to be trained; p.mu is held.
func (p *Path) due(now time.Time) bool {
	return p.guard.Due(now) || p.guard.Judge().Baseline() == nil && now.Sub(p.first) >= firstBaseline && now.Sub(p.tried) >= 5*time.Minute
}

// train makes a new baseline of a path and asks what the path has come to be. While another
// is pinned, the new one is kept beside it and not used.
func (x *Paths) train(ctx context.Context, p *Path, now time.Time) error {
	h, err := x.Store.History(ctx, p.ID, now.Add(-x.Training), now)
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
	if err := x.Happened(ctx, p, changes); err != nil {
		return err
	}
	if b != nil && b != before {
		if _, err := x.keepBaseline(ctx, p, b, false, !pinned); err != nil {
			return err
		}
	}
	return x.SaveGuards(ctx, p)
}

// Happened keeps what happened to the episodes of a path, and tells the listeners.
func (x *Paths) Happened(ctx context.Context, p *Path, changes []guard.Change) error {
	p.mu.Lock()
	noted, changed := p.noteAll(changes)
	p.mu.Unlock()
	if err := x.SaveEpisodes(ctx, rowsOf(noted), p); err != nil {
		return err
	}
	x.Tell(p, changes)
	if err := x.Incidents.Happened(ctx, changes); err != nil {
		return err
	}
	if changed {
		x.Events.Publish(events.Event{Kind: events.StateChanged, Path: p.ID})
	}
	return nil
}

// Tell tells of what happened to the episodes of a path.
func (x *Paths) Tell(p *Path, changes []guard.Change) {
	if x.Changed != nil && len(changes) > 0 {
		x.Changed(p, changes)
	}
}

// SaveGuards keeps how paths are guarded.
func (x *Paths) SaveGuards(ctx context.Context, paths ...*Path) error {
	list, err := records(paths)
	if err != nil {
		return err
	}
	return x.Store.SaveGuards(ctx, list)
}

// records are how paths are guarded, to be stored.
func records(paths []*Path) (list []store.Guard, err error) {
	for _, p := range paths {
		p.mu.Lock()
		state, err := p.record()
		p.mu.Unlock()
		if err != nil {
			return nil, fmt.Errorf("write how path %s is guarded: %w", p.ID, err)
		}
		list = append(list, store.Guard{PathID: p.ID, State: state, UpdatedAt: time.Now().UTC()})
	}
	return list, nil
}

// keepBaseline keeps a baseline of a path; it is what the path is judged by when it is used.
func (x *Paths) keepBaseline(ctx context.Context, p *Path, b *baseline.Baseline, pin, use bool) (*store.Baseline, error) {
	p.mu.Lock()
	body, err := json.Marshal(b)
	p.mu.Unlock()
	if err != nil {
		return nil, err
	}
	kept := store.Baseline{ID: ident.New(), PathID: p.ID, TakenAt: time.Now().UTC(), Pinned: pin, Readings: b.Readings, Body: string(body)}
	if err := x.Store.SaveBaseline(ctx, kept); err != nil {
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
func (x *Paths) take(ctx context.Context, p *Path, from, to time.Time, pin bool) (*store.Baseline, error) {
	h, err := x.Store.History(ctx, p.ID, from, to)
	if err != nil {
		return nil, err
	}
	t := baseline.Training{Calendar: x.Guards.Calendar, Tolerances: x.Guards.Tolerances, Trusted: true}
	if !pin {
		p.mu.Lock()
		t.Weigh = p.guard.Weights(to) // who pins a window says that all of it is normal
		p.mu.Unlock()
	}
	b, err := baseline.Build(h, t)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	return x.keepBaseline(ctx, p, b, pin, true)
}

// TakeBaseline makes a baseline from the last readings of a path, and pins it
// when asked to.
func (x *Paths) TakeBaseline(ctx context.Context, path ident.ID, last time.Duration, pin bool) (*store.Baseline, error) {
	p, err := x.find(path)
	if err != nil {
		return nil, err
	}
	if last <= 0 {
		last = x.Training
	}
	now := time.Now()
	kept, err := x.take(ctx, p, now.Add(-last), now, pin)
	if err == nil {
		x.Notices.Changed(ctx, "baseline_taken", x.nameOf(p), nil, map[string]any{"path": path, "readings": kept.Readings, "last": last.String(), "pinned": pin})
	}
	return kept, err
}

// Roll makes the rollups that are due and takes the fine ones into the small
// plots.
func (x *Paths) Roll(ctx context.Context, now time.Time) error {
	return x.Store.RollDue(ctx, now, func(path ident.ID, s store.Slot) {
		if s.Span != TraceSpan {
			return
		}
		if p, err := x.find(path); err == nil {
			p.mu.Lock()
			p.keepSlot(s)
			p.mu.Unlock()
		}
	})
}

// SaveEpisodes keeps episodes, and with them how their paths are guarded, in one: a service that
// is killed knows of both or of neither. Those that cannot be kept now are with the next reading.
func (x *Paths) SaveEpisodes(ctx context.Context, list []store.Episode, moved ...*Path) error {
	guards, err := records(moved)
	if err == nil {
		err = x.Store.SaveEpisodes(ctx, list, guards...)
	}
	if err != nil {
		x.retry(list)
	}
	return err
}

// retry marks episodes so that they are saved with the next reading.
func (x *Paths) retry(list []store.Episode) {
	for _, e := range list {
		if p := x.ByID(e.PathID); p != nil {
			p.mu.Lock()
			p.unsaved = append(p.unsaved, e)
			p.mu.Unlock()
		}
	}
}
