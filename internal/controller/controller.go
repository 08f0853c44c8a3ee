// Package controller decides what is measured where, takes in what agents
// measured, keeps baselines, and opens and closes episodes.
//
//	c, err := controller.New(ctx, controller.Options{Store: s, Zone: time.Local})
//	c.AddAgent(ctx, store.Agent{Name: "local", Kind: "builtin"}, func(id ident.ID) (protocol.Worker, error) { … })
//	err = c.Run(ctx)
package controller

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	_ "woodlark.example/internal/kind/all" // what can be measured
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/store"
)

// Options of a controller.
type Options struct {
	Store *store.Store
	Log   *slog.Logger
	// Now is the clock that agents' clocks are held against; this machine's when nil.
	Now func() time.Time
	// Zone is whose hours baselines go by; the local one when nil.
	Zone *time.Location
	// Holidays are days off beside Saturdays and Sundays.
	Holidays []time.Time
	// Tolerances are what is not worth caring about, where that is otherwise than usual.
	Tolerances baseline.Tolerances
	// Maintenance are stretches that are measured, but neither judged nor learnt from.
	Maintenance []baseline.Interval
	// Training is the window of a rolling baseline; 14 days when 0.
	Training time.Duration
	// Keep is how long readings are kept; 90 days when 0.
	Keep   time.Duration
	Owners route.Owners // of prefixes, for the hops of traces
	// Disk says which disk is full, if one is that the service needs; "" otherwise.
	Disk func() string
	// SiteOf names the site of a target, if that is known.
	SiteOf func(target string) string
}

// Controller is the heart of the service. It is safe for concurrent use.
type Controller struct {
	eventStream
	options Options
	store   *store.Store
	log     *slog.Logger
	zone    *time.Location
	guards  guard.Options // by which paths are guarded

	mu          sync.RWMutex
	agents      map[ident.ID]*agentState
	paths       map[ident.ID]*pathState
	byEnds      map[store.Ends]*pathState // the same
	watches     map[ident.ID]*Watch
	runs        runs
	loadHistory loadHistory

	incidents incidents
	devices   devices

	awaySince time.Time // the database; guarded by mu
	awayWhy   string
	troubles  troubles
}

type agentState struct {
	store.Agent
	worker protocol.Worker
}

// here reports whether the agent can be told something now.
func (a *agentState) here() bool {
	if far, ok := a.worker.(*remote.Proxy); ok {
		connected, _ := far.Connected()
		return connected
	}
	return a.worker != nil
}

// Watch is a watch with its spec read.
type Watch struct {
	store.Watch
	Spec  Spec
	Paths []ident.ID
}

// New loads what the database knows.
func New(ctx context.Context, o Options) (*Controller, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Zone == nil {
		o.Zone = time.Local
	}
	if o.Training == 0 {
		o.Training = 14 * 24 * time.Hour
	}
	if o.Keep == 0 {
		o.Keep = 90 * 24 * time.Hour
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Disk == nil {
		o.Disk = func() string { return "" }
	}
	if o.SiteOf == nil {
		o.SiteOf = func(string) string { return "" }
	}
	c := &Controller{options: o, store: o.Store, log: o.Log, zone: o.Zone, agents: map[ident.ID]*agentState{},
		paths: map[ident.ID]*pathState{}, byEnds: map[store.Ends]*pathState{}, watches: map[ident.ID]*Watch{}}
	c.guards = guard.Options{Calendar: baseline.Calendar{Zone: o.Zone, Holidays: o.Holidays}, Tolerances: o.Tolerances, Maintenance: o.Maintenance, Training: o.Training, Elsewhere: true, Same: c.devices.same}
	if err := c.load(ctx); err != nil {
		return nil, err
	}
	return c, nil
}

// Zone is whose hours baselines go by.
func (c *Controller) Zone() *time.Location { return c.zone }

// Maintenance are the stretches of maintenance that touch a stretch of time.
func (c *Controller) Maintenance(from, to time.Time) (list []baseline.Interval) {
	for _, w := range c.guards.Maintenance {
		if w.From.Before(to) && w.To.After(from) {
			list = append(list, w)
		}
	}
	return list
}

// Store is where the records are.
func (c *Controller) Store() *store.Store { return c.store }

// atOnce is how many paths are read side by side as the service starts: most of it is waiting
// for the database.
const atOnce = 8

func (c *Controller) loadPaths(ctx context.Context, paths []store.Path) error {
	states := make([]*pathState, len(paths))
	side, ctx := errgroup.WithContext(ctx)
	side.SetLimit(atOnce)
	for i, p := range paths {
		states[i] = c.newPathState(p)
		side.Go(func() error { return states[i].load(ctx, c) })
	}
	if err := side.Wait(); err != nil {
		return err
	}
	for _, s := range states {
		c.addPath(s)
	}
	return nil
}

func (c *Controller) load(ctx context.Context) error {
	if err := c.store.EndRunning(ctx); err != nil {
		return err
	}
	agents, err := c.store.Agents(ctx)
	if err != nil {
		return err
	}
	for _, a := range agents {
		if a.Kind == store.Removed {
			continue
		}
		state := &agentState{Agent: a}
		if a.Kind == Remote && len(a.KeyHash) > 0 {
			state.worker = remote.NewProxy(a.ID, a.Name, c)
			c.troubles.known(a)
		}
		c.agents[a.ID] = state
	}
	watches, err := c.store.Watches(ctx)
	if err != nil {
		return err
	}
	for _, w := range watches {
		watch := &Watch{Watch: w}
		if err := json.Unmarshal([]byte(w.Spec), &watch.Spec); err != nil {
			return fmt.Errorf("read watch %q: %w", w.Name, err)
		}
		c.watches[w.ID] = watch
	}
	measured, err := c.store.WatchPaths(ctx)
	if err != nil {
		return err
	}
	for _, m := range measured {
		if w := c.watches[m.WatchID]; w != nil {
			w.Paths = append(w.Paths, m.PathID)
		}
	}
	paths, err := c.store.Paths(ctx)
	if err != nil {
		return err
	}
	if err := c.loadPaths(ctx, paths); err != nil {
		return err
	}
	if err := c.loadIncidents(ctx); err != nil {
		return err
	}
	if err := c.loadDevices(ctx); err != nil {
		return err
	}
	if err := c.loadLoads(ctx); err != nil {
		return err
	}
	return c.loadCarried(ctx)
}

// AddAgent makes an agent known and hands it its plan. join is given the
// agent's identifier and returns the worker that holds it; without join the agent
// is known but does not run yet.
func (c *Controller) AddAgent(ctx context.Context, a store.Agent, join func(ident.ID) (protocol.Worker, error)) error {
	now := time.Now().UTC()
	a.SeenAt = &now
	kept, err := c.store.EnsureAgent(ctx, a)
	if err != nil {
		return err
	}
	var worker protocol.Worker
	if join != nil {
		if worker, err = join(kept.ID); err != nil {
			return fmt.Errorf("start agent %q: %w", a.Name, err)
		}
	}
	c.mu.Lock()
	c.agents[kept.ID] = &agentState{Agent: kept, worker: worker}
	c.mu.Unlock()
	if worker == nil {
		return nil
	}
	now = time.Now()
	if x, ok := worker.(interface{ Began() time.Time }); ok {
		now = x.Began() // it measured before the database was there
	}
	c.noteGaps(ctx, kept.ID, now)
	c.sendPlans()
	return nil
}

// Agents are all agents, by name.
func (c *Controller) Agents() []store.Agent {
	c.mu.RLock()
	defer c.mu.RUnlock()
	list := make([]store.Agent, 0, len(c.agents))
	for _, a := range c.agents {
		list = append(list, a.Agent)
	}
	slices.SortFunc(list, func(a, b store.Agent) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// agentNamed is called with mu held.
func (c *Controller) agentNamed(name string) (*agentState, error) {
	for _, a := range c.agents {
		if a.Name == name {
			return a, nil
		}
	}
	names := make([]string, 0, len(c.agents))
	for _, a := range c.agents {
		names = append(names, a.Name)
	}
	slices.Sort(names)
	return nil, fmt.Errorf("%w: there is no agent %q; there are %q", ErrInvalid, shorten(name), names)
}

func shorten(s string) string {
	if len(s) > 60 {
		return s[:60] + "…"
	}
	return s
}

// Phase spreads paths over the interval, always the same for a path.
func Phase(id ident.ID, interval time.Duration) time.Duration {
	var h uint64 = 14695981039346656037
	for _, b := range id {
		h = (h ^ uint64(b)) * 1099511628211
	}
	return time.Duration(h % uint64(interval))
}

// sortedWatches is called with mu held.
func (c *Controller) sortedWatches() []*Watch {
	list := make([]*Watch, 0, len(c.watches))
	for _, w := range c.watches {
		list = append(list, w)
	}
	slices.SortFunc(list, func(a, b *Watch) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// Run trains baselines, makes rollups and drops old days until ctx ends.
func (c *Controller) Run(ctx context.Context) error {
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(func() { c.runLoads(ctx) })
	defer c.runs.stop()
	// One whose episodes ended as the service was being killed is not told as going on for ever.
	c.housekeeping(ctx, "end incidents", func() error { return c.endIncidents(ctx) })
	tick := time.NewTicker(20 * time.Second)
	defer tick.Stop()
	var swept time.Time
	for {
		now := time.Now()
		c.housekeeping(ctx, "train baselines", func() error { return c.trainDue(ctx, now) })
		c.housekeeping(ctx, "look for incidents", func() error { return c.lookDue(ctx, now) })
		c.housekeeping(ctx, "make rollups", func() error { return c.roll(ctx, now) })
		if now.Sub(swept) > time.Hour {
			swept = now
			c.housekeeping(ctx, "drop what is old", func() error { return c.store.DropOld(ctx, now, now.Add(-c.options.Keep)) })
		}
		c.noteStates(now)
		c.noteTroubles(ctx)
		c.seeAgents(ctx, now)
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

func (c *Controller) housekeeping(ctx context.Context, what string, work func() error) {
	if err := work(); err != nil && ctx.Err() == nil {
		c.noteAway(err)
		c.log.Error("could not "+what, "error", err)
	}
}

// seeAgents notes that agents are here.
func (c *Controller) seeAgents(ctx context.Context, now time.Time) {
	seen := now.UTC()
	var here []ident.ID
	c.mu.Lock()
	for id, a := range c.agents {
		if a.here() {
			a.SeenAt = &seen
			here = append(here, id)
		}
	}
	c.mu.Unlock()
	c.noteAway(c.store.SeenAgents(ctx, here, now))
}
