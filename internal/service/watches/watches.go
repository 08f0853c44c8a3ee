package watches

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/store"
)

const (
	defaultBudget = 5 << 30 // bytes that load runs of a watch may send a day
)

// Options of Watches; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Events  *events.Stream
	Notices *notices.Notices
	Fleet   *fleet.Fleet
	Paths   *paths.Paths
	Runs    *runs.Runs
}

// Watches are what is measured again and again. It is safe for concurrent use.
type Watches struct {
	Options
	mu        sync.RWMutex
	byID      map[ident.ID]*Watch // a watch that changes is replaced by another
	planning  sync.Mutex          // held while plans are made and sent: the last sent is the newest
	timetable timetable
}

// Watch is a watch with its spec read.
type Watch struct {
	store.Watch
	Spec  Spec
	Paths []ident.ID
}

// New is without a watch.
func New(o Options) *Watches { return &Watches{Options: o, byID: map[ident.ID]*Watch{}} }

// Load takes up the watches that the database knows.
func (x *Watches) Load(ctx context.Context) error {
	list, err := x.Store.Watches(ctx)
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, w := range list {
		watch := &Watch{Watch: w}
		if err := json.Unmarshal([]byte(w.Spec), &watch.Spec); err != nil {
			return fmt.Errorf("read watch %q: %w", w.Name, err)
		}
		x.byID[w.ID] = watch
	}
	measured, err := x.Store.WatchPaths(ctx)
	for _, m := range measured {
		if w := x.byID[m.WatchID]; w != nil {
			w.Paths = append(w.Paths, m.PathID)
		}
	}
	return err
}

// sorted are the watches by name.
func (x *Watches) sorted() []*Watch {
	x.mu.RLock()
	list := make([]*Watch, 0, len(x.byID))
	for _, w := range x.byID {
		list = append(list, w)
	}
	x.mu.RUnlock()
	slices.SortFunc(list, func(a, b *Watch) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// OfPaths are the watches by the paths that they measure, those of a path by name.
func (x *Watches) OfPaths() map[ident.ID][]*Watch {
	index := map[ident.ID][]*Watch{}
	for _, w := range x.sorted() {
		for _, id := range w.Paths {
			index[id] = append(index[id], w)
		}
	}
	return index
}

// All are all watches, by name.
func (x *Watches) All() []Watch {
	sorted := x.sorted()
	list := make([]Watch, len(sorted))
	for i, w := range sorted {
		list[i] = *w
	}
	return list
}

// Find finds a watch by name or identifier; the error wraps
// store.ErrNotFound.
func (x *Watches) Find(what string) (Watch, error) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	for _, w := range x.byID {
		if w.Name == what || w.ID.String() == what {
			return *w, nil
		}
	}
	return Watch{}, fmt.Errorf("watch %q: %w", kind.Shorten(what), store.ErrNotFound)
}

// Save adds a watch, or changes the one of the given identifier.
func (x *Watches) Save(ctx context.Context, id ident.ID, name string, spec Spec, paused bool) (Watch, error) {
	spec = spec.WithDefaults()
	name = strings.TrimSpace(name)
	if name == "" || len(name) > mostNameLength {
		return Watch{}, fmt.Errorf("%w: a watch needs a name of 1 to %d characters", kind.ErrInvalid, mostNameLength)
	}
	if err := spec.check(func(t string) bool { _, err := x.Fleet.Named(t); return err == nil }); err != nil {
		return Watch{}, err
	}
	measured, err := x.pathsOf(ctx, spec)
	if err != nil {
		return Watch{}, err
	}
	text, err := json.Marshal(spec)
	if err != nil {
		return Watch{}, err
	}
	now := time.Now().UTC()
	w := &Watch{Watch: store.Watch{ID: id, Name: name, Paused: paused, Spec: string(text), CreatedAt: now, UpdatedAt: now}, Spec: spec, Paths: measured}
	what, before := "watch_added", any(nil)
	if id.IsZero() {
		w.ID = ident.New()
	} else if old, err := x.Find(id.String()); err == nil {
		w.CreatedAt = old.CreatedAt
		what, before = "watch_changed", noted(old)
	}
	if err := x.Store.SaveWatch(ctx, w.Watch, measured); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return Watch{}, fmt.Errorf("the name %q %w by another watch; choose another, or change that one", name, store.ErrTaken)
		}
		return Watch{}, err
	}
	x.mu.Lock()
	x.byID[w.ID] = w
	x.mu.Unlock()
	x.SendPlans()
	x.Events.Publish(events.Event{Kind: events.WatchChanged})
	x.Notices.Changed(ctx, what, name, before, noted(*w))
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
func (x *Watches) pathsOf(ctx context.Context, spec Spec) ([]ident.ID, error) {
	k := spec.kindOf()
	rule := k.Lanes(spec.How)
	var ends []store.Ends
	pairs, err := x.endsOf(spec)
	if err != nil || !k.Paths {
		return nil, err
	}
	for _, e := range pairs {
		lanes := rule.Split(e.to)
		if rule.All && !rule.Definite(e.to) {
			if lanes, err = x.locate(ctx, e, k, spec); err != nil {
				return nil, err
			}
		}
		ends = append(ends, runs.EndsOf(e.near.ID, rule, lanes)...)
	}
	if len(ends) == 0 {
		return nil, nil
	}
	list, err := x.Paths.Ensure(ctx, ends)
	if err != nil {
		return nil, err
	}
	var ids []ident.ID
	seen := make(map[ident.ID]bool, len(list))
	for _, p := range list {
		if !seen[p.ID] {
			seen[p.ID] = true
			ids = append(ids, p.ID)
		}
	}
	return ids, nil
}

// locate finds all addresses of the names of a watch, where they are measured from.
func (x *Watches) locate(ctx context.Context, e ends, k *kind.Kind, spec Spec) ([]kind.Lane, error) {
	a := e.near
	if a.Worker == nil {
		return nil, fmt.Errorf("%w: agent %q is not running, and only there it is known which addresses the names have", kind.ErrInvalid, a.Name)
	}
	how, err := k.Encode(spec.How)
	if err != nil {
		return nil, err
	}
	lanes, err := a.Worker.Locate(ctx, protocol.LocateOrder{Kind: k.Name, Version: k.Version, Spec: how, Targets: e.to})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	for _, l := range lanes {
		if l.Problem != "" {
			return nil, fmt.Errorf("%w: %s has no addresses at %s to measure all of: %s", kind.ErrInvalid, kind.Shorten(l.Target), a.Name, l.Problem)
		}
	}
	return lanes, nil
}

// Refresh has agents take part that came, where words mean them, and gives all their plans.
func (x *Watches) Refresh(ctx context.Context) {
	for _, w := range x.sorted() {
		if !w.Spec.IsByWords() || !w.Spec.kindOf().Paths {
			continue
		}
		measured, err := x.pathsOf(ctx, w.Spec)
		if err != nil && !errors.Is(err, kind.ErrInvalid) || slices.Equal(measured, w.Paths) || len(measured) == 0 {
			continue // those that measured do so on
		}
		other := *w
		other.Paths = measured
		if err := x.Store.SaveWatch(ctx, other.Watch, measured); err != nil {
			x.Log.Error("agents that came could not be taken into a watch; they are with the next that comes", "watch", w.Name, "error", err)
			continue
		}
		x.mu.Lock()
		if x.byID[w.ID] == w { // nobody changed it meanwhile
			x.byID[w.ID] = &other
		}
		x.mu.Unlock()
		x.Events.Publish(events.Event{Kind: events.WatchChanged})
	}
	x.SendPlans()
}

// SetPaused pauses a watch or lets it go on.
func (x *Watches) SetPaused(ctx context.Context, w Watch, paused bool) (Watch, error) {
	return x.Save(ctx, w.ID, w.Name, w.Spec, paused)
}

// Remove removes a watch. What it measured stays.
func (x *Watches) Remove(ctx context.Context, w Watch) error {
	if err := x.Store.DeleteWatch(ctx, w.ID); err != nil {
		return err
	}
	x.mu.Lock()
	delete(x.byID, w.ID)
	x.mu.Unlock()
	x.SendPlans()
	x.Events.Publish(events.Event{Kind: events.WatchChanged})
	x.Notices.Changed(ctx, "watch_removed", w.Name, noted(w), nil)
	return nil
}
