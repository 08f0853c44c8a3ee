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
	talks     []Talked
	// unfollowed is why an agent does not tell whom programs talk to, for a watch.
	unfollowed map[[2]ident.ID]string
}

// Watch is a watch with its spec read.
type Watch struct {
	store.Watch
	Spec  Spec
	Paths []ident.ID
	Also  []*Watch // its parts, of one that was asked for
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
		for _, t := range x.allTalks() {
			for _, id := range t.Paths[w.ID] {
				if !slices.Contains(index[id], w) {
					index[id] = append(index[id], w)
				}
			}
		}
	}
	return index
}

// All are all watches, by name, with their parts.
func (x *Watches) All() []Watch {
	var list []Watch
	for _, w := range x.sorted() {
		if w.Spec.Of.IsZero() {
			list = append(list, x.whole(w))
		}
	}
	return list
}

// whole is a watch with its parts, in their order.
func (x *Watches) whole(w *Watch) Watch {
	out := *w
	if len(w.Spec.Also) == 0 {
		return out
	}
	names := w.Spec.namesOfParts(w.Name)
	x.mu.RLock()
	defer x.mu.RUnlock()
	out.Also = make([]*Watch, 0, len(names))
	for _, p := range x.byID {
		if p.Spec.Of == w.ID {
			out.Also = append(out.Also, p)
		}
	}
	slices.SortFunc(out.Also, func(a, b *Watch) int {
		return cmp.Compare(slices.Index(names, a.Name), slices.Index(names, b.Name))
	})
	return out
}

// Find finds a watch by name or identifier; the error wraps
// store.ErrNotFound.
func (x *Watches) Find(what string) (Watch, error) {
	x.mu.RLock()
	var found *Watch
	for _, w := range x.byID {
		if w.Name == what || w.ID.String() == what {
			found = w
			break
		}
	}
	x.mu.RUnlock()
	if found == nil {
		return Watch{}, fmt.Errorf("watch %q: %w", kind.Shorten(what), store.ErrNotFound)
	}
	return x.whole(found), nil
}

// Whole finds a watch that is no part of another; the error says of which it is.
func (x *Watches) Whole(what string) (Watch, error) {
	w, err := x.Find(what)
	if err != nil || w.Spec.Of.IsZero() {
		return w, err
	}
	of, err := x.Find(w.Spec.Of.String())
	if err != nil {
		return Watch{}, err
	}
	return Watch{}, fmt.Errorf("%w: %q is a part of the watch %q; change that", kind.ErrInvalid, w.Name, of.Name)
}

// IDs are those of a watch and of its parts.
func (w *Watch) IDs() []ident.ID {
	list := []ident.ID{w.ID}
	for _, p := range w.Also {
		list = append(list, p.ID)
	}
	return list
}

// Save adds a watch, or changes the one of the given identifier.
func (x *Watches) Save(ctx context.Context, id ident.ID, name string, spec Spec, paused bool) (Watch, error) {
	w, before, err := x.prepare(ctx, id, name, spec, paused, false)
	if err != nil {
		return Watch{}, err
	}
	if err := x.keep(ctx, []*Watch{w}, []*Watch{before}); err != nil {
		return Watch{}, err
	}
	return *w, nil
}

// prepare makes a watch, and finds what it was before; nil when it is new. Of one that is only
// to be shown no paths are made: there are as many as it would have, without identifiers.
func (x *Watches) prepare(ctx context.Context, id ident.ID, name string, spec Spec, paused, show bool) (w, before *Watch, err error) {
	spec = spec.WithDefaults()
	name = strings.TrimSpace(name)
	if name == "" || len(name) > mostNameLength {
		return nil, nil, fmt.Errorf("%w: a watch needs a name of 1 to %d characters", kind.ErrInvalid, mostNameLength)
	}
	if err := spec.check(func(t string) bool { _, err := x.Fleet.Named(t); return err == nil }); err != nil {
		return nil, nil, err
	}
	began := time.Now().UTC()
	if id.IsZero() {
		id = ident.New()
	} else if old, err := x.Find(id.String()); err == nil {
		before, began, spec.Of = &old, old.CreatedAt, old.Spec.Of
	}
	if w, err = x.makeOf(ctx, store.Watch{ID: id, Name: name, Paused: paused, CreatedAt: began}, spec, show); err != nil {
		return nil, nil, err
	}
	for i, called := range spec.namesOfParts(name) {
		row := store.Watch{ID: ident.New(), Name: called, Paused: paused, CreatedAt: w.UpdatedAt}
		if before != nil {
			if old := before.partLike(spec.Also[i].Kind, w.Also); old != nil {
				row.ID, row.CreatedAt = old.ID, old.CreatedAt
			}
		}
		part, err := x.makeOf(ctx, row, spec.part(i, id), show)
		if err != nil {
			return nil, nil, err
		}
		w.Also = append(w.Also, part)
	}
	return w, before, nil
}

// partLike is a part of a kind that is not taken yet: what was measured stays its own.
func (w *Watch) partLike(kind string, taken []*Watch) *Watch {
	for _, p := range w.Also {
		if p.Spec.Kind == kind && !slices.ContainsFunc(taken, func(t *Watch) bool { return t.ID == p.ID }) {
			return p
		}
	}
	return nil
}

// makeOf makes a watch, or part of one, with its paths.
func (x *Watches) makeOf(ctx context.Context, row store.Watch, spec Spec, show bool) (*Watch, error) {
	measured, err := x.pathsOf(ctx, spec, show)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(spec)
	if err != nil {
		return nil, err
	}
	row.Spec, row.UpdatedAt = string(text), time.Now().UTC()
	return &Watch{Watch: row, Spec: spec, Paths: measured}, nil
}

// keep keeps watches, all or none, and gives agents their plans.
func (x *Watches) keep(ctx context.Context, list, before []*Watch) error {
	var each []*Watch // parts, too
	var gone []ident.ID
	for i, w := range list {
		each = append(append(each, w), w.Also...)
		if before[i] != nil {
			for _, id := range before[i].IDs() {
				if !slices.Contains(w.IDs(), id) {
					gone = append(gone, id)
				}
			}
		}
	}
	rows, measured := make([]store.Watch, len(each)), make([][]ident.ID, len(each))
	for i, w := range each {
		rows[i], measured[i] = w.Watch, w.Paths
	}
	if err := x.Store.SaveWatches(ctx, rows, measured, gone); err != nil {
		if errors.Is(err, store.ErrTaken) {
			return fmt.Errorf("the name %q %w by another watch; choose another, or change that one", list[0].Name, store.ErrTaken)
		}
		return err
	}
	x.mu.Lock()
	for _, w := range each {
		kept := *w
		kept.Also = nil // is put together when it is asked for
		x.byID[w.ID] = &kept
	}
	for _, id := range gone {
		delete(x.byID, id)
	}
	x.mu.Unlock()
	x.SendPlans()
	x.Events.Publish(events.Event{Kind: events.WatchChanged})
	for i, w := range list {
		what, was := "watch_added", any(nil)
		if before[i] != nil {
			what, was = "watch_changed", noted(*before[i])
		}
		x.Notices.Changed(ctx, what, w.Name, was, noted(*w))
	}
	return nil
}

// Wanted is a watch as somebody wants it to be.
type Wanted struct {
	Name   string
	Spec   Spec
	Paused bool
}

// Change is what becomes of a watch: Before is nil for one that is new, and both are the same
// where nothing changes.
type Change struct {
	Before *Watch
	After  Watch
}

// Same reports whether nothing changes.
func (c Change) Same() bool {
	return c.Before != nil && c.Before.Name == c.After.Name && c.Before.Paused == c.After.Paused && c.Before.Watch.Spec == c.After.Watch.Spec
}

// Apply brings the watches of some names to what is wanted, all of them or none; others stay as
// they are. When only showing it says what would become, and does nothing. An error names the
// watch that cannot be.
func (x *Watches) Apply(ctx context.Context, list []Wanted, show bool) (changes []Change, err error) {
	names := map[string]bool{}
	var errs []error
	for _, want := range list {
		want.Name = strings.TrimSpace(want.Name)
		if names[want.Name] {
			errs = append(errs, fmt.Errorf("%w: watch %q is there twice", kind.ErrInvalid, kind.Shorten(want.Name)))
			continue
		}
		names[want.Name] = true
		var id ident.ID
		if old, err := x.Whole(want.Name); err == nil && old.Name == want.Name {
			id = old.ID
		} else if errors.Is(err, kind.ErrInvalid) {
			errs = append(errs, err)
			continue
		}
		w, before, err := x.prepare(ctx, id, want.Name, want.Spec, want.Paused, true)
		if err != nil {
			errs = append(errs, fmt.Errorf("watch %q: %w", kind.Shorten(want.Name), err))
			continue
		}
		changes = append(changes, Change{before, *w})
	}
	if err := errors.Join(errs...); err != nil || show {
		return changes, err
	}
	var after, before []*Watch
	for i := range changes {
		c := &changes[i]
		if c.Same() {
			c.After = *c.Before
			continue
		}
		// Only now are their paths made: all of them can be.
		for _, w := range append([]*Watch{&c.After}, c.After.Also...) {
			if w.Paths, err = x.pathsOf(ctx, w.Spec, false); err != nil {
				return nil, err
			}
		}
		after, before = append(after, &c.After), append(before, c.Before)
	}
	if len(after) == 0 {
		return changes, nil
	}
	return changes, x.keep(ctx, after, before)
}

// noted is what of a watch stands in the record of changes.
func noted(w Watch) any {
	return struct {
		Name   string
		Paused bool
		Spec   Spec
	}{w.Name, w.Paused, w.Spec}
}

// pathsOf makes the paths that a spec measures, or only counts them.
func (x *Watches) pathsOf(ctx context.Context, spec Spec, count bool) ([]ident.ID, error) {
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
	if count {
		slices.SortFunc(ends, func(a, b store.Ends) int {
			return cmp.Or(slices.Compare(a.Agent[:], b.Agent[:]), cmp.Compare(a.Target, b.Target), cmp.Compare(a.Family, b.Family), cmp.Compare(a.Via, b.Via))
		})
		return make([]ident.ID, len(slices.Compact(ends))), nil
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
		measured, err := x.pathsOf(ctx, w.Spec, false)
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
	if err := x.Store.SaveWatches(ctx, nil, nil, w.IDs()); err != nil {
		return err
	}
	x.mu.Lock()
	for _, id := range w.IDs() {
		delete(x.byID, id)
	}
	x.mu.Unlock()
	x.SendPlans()
	x.Events.Publish(events.Event{Kind: events.WatchChanged})
	x.Notices.Changed(ctx, "watch_removed", w.Name, noted(w), nil)
	return nil
}
