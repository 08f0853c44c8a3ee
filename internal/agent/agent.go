// Package agent measures what its plan says, keeps what it measured on disk
// until the service has it, and goes on while the service is away.
//
//	a, err := agent.New(agent.Options{Name: "northquay", Network: kernel.Host(), Service: service, Dir: spool})
//	a.SetPlan(tasks)
//	err = a.Run(ctx)
package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/reading"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
	_ "woodlark.example/internal/kind/all" // what can be measured
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/protocol"
	"woodlark.example/wire"
)

// Options of an agent.
type Options struct {
	ID      ident.ID
	Name    string
	Network network.Network
	Ground  Ground // of this machine; nil in a simulated network, which tells by itself
	Service protocol.Service
	Dir     string // for the spool and the journal; made when it is not there
	// Most is how many bytes the spool may hold: beyond them the oldest readings go. No
	// limit when 0.
	Most int64
	// Listen is where it answers as a far end; it does not when it is not valid.
	// Advertise is how others reach that, when they do not by the same address.
	Listen    netip.AddrPort
	Advertise string
	Wall      paced.Wall         // of a simulated host's clock; this machine's when nil
	End       func() session.End // what it says of itself to other ends
	LoadHours LoadHours          // in which its owner allows load runs
	// MostExtra is how many packets an hour its owner allows because something looks wrong;
	// UsualExtra when 0, none when below.
	MostExtra int
	MostRate  capacity.Rate // that its owner allows; no limit when 0
	// Conversations are the programs of which its owner allows to see whom they talk to; "any" is
	// all of them. Talks looks at that; nil in a simulated network.
	Conversations []string
	Talks         interface{ Look() ([]host.Talk, error) }
	Limits        string // that its owner set, in words
	Log           *slog.Logger
}

// Agent is a measurement agent.
type Agent struct {
	options Options
	began   time.Time
	log     *slog.Logger
	spool   *spool
	changed chan struct{}

	journalFails bool // Run's own

	aside    aside
	dues     *dues
	keptPlan string // as it is on disk; Run's own

	mu       sync.Mutex
	tasks    map[taskKey]*work
	given    protocol.Plan
	planned  bool            // given is what the agent was given, or kept
	before   map[string]bool // periodic tasks of the kept plan
	resumed  map[ident.ID]journalEntry
	engines  map[engineKey]*engine
	standing repeated[protocol.Standing]
	extra    extra
	talks    talks
	away     away
	lasts    lasts
	tickets  tickets
	health   health
}

type taskKey struct{ watch, path ident.ID }

func (k taskKey) String() string { return k.watch.String() + " " + k.path.String() }

type work struct {
	task    protocol.Task
	cancel  context.CancelFunc
	minutes *minutes // of a continuous task
	ended   chan struct{}
}

// engineKey is what an engine's sockets are for.
type engineKey struct {
	dscp uint8
	kind reading.Kind
	out  protocol.Out
}

// engine is a ping engine for one service class and kind of probe.
type engine struct {
	*ping.Engine
	cancel context.CancelFunc
	ended  chan struct{}
}

// New makes an agent and takes up the journal that an earlier one left.
func New(o Options) (*Agent, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the agent's folder: %w", err)
	}
	log := o.Log.With("agent", o.Name)
	a := &Agent{options: o, began: time.Now(), log: log, changed: make(chan struct{}, 1), tasks: map[taskKey]*work{},
		engines: map[engineKey]*engine{}, resumed: map[ident.ID]journalEntry{}}
	a.aside = aside{dir: filepath.Join(o.Dir, "aside"), log: log}
	a.extra.most = float64(cmp.Or(max(o.MostExtra, -1), UsualExtra))
	a.dues = openDues(filepath.Join(o.Dir, "dues.ndjson"), log)
	a.spool = newSpool(o, a.aside, log)
	if o.Listen.IsValid() {
		if err := a.openFarEnd(); err != nil {
			return nil, err
		}
	}
	for _, e := range a.readJournal() {
		if time.Now().Truncate(time.Minute).Equal(e.At) {
			a.resumed[e.Path] = e
			continue
		}
		a.spool.add(e.record(protocol.Cut))
	}
	a.takeUpPlan()
	return a, nil
}

// takeUpPlan goes on by the plan that was kept, until there is another.
func (a *Agent) takeUpPlan() {
	var p protocol.Plan
	if !a.readWhole(a.planFile(), &p) {
		return
	}
	if err := checkPlan(p); err != nil {
		a.aside.file(a.planFile(), err)
		return
	}
	a.before = map[string]bool{}
	for _, t := range p.Tasks {
		a.before[taskKey{t.Watch, t.Path}.String()] = true
	}
	for _, t := range p.Standing {
		a.before[t.Name()] = true
	}
	a.SetPlan(p)
}

const (
	leastEvery = 10 * time.Millisecond // between runs
	leastStep  = time.Millisecond      // between probes
)

// checkTask says what of a task cannot be carried out.
func checkTask(t protocol.Task) error {
	switch {
	case t.Interval < leastStep || t.Continuous() && t.Interval > time.Minute:
		return fmt.Errorf("a task for %q has its probes %v apart", t.Target, t.Interval)
	case !t.Continuous() && (t.Every < leastEvery || t.Probes < 1):
		return fmt.Errorf("a task for %q is %d probes every %v", t.Target, t.Probes, t.Every)
	}
	for _, x := range t.Times {
		if _, err := x.With(0, 0, 0); err != nil {
			return fmt.Errorf("the times of a task for %q: %w", t.Target, err)
		}
	}
	return nil
}

// checkPlan says what of a plan cannot be carried out.
func checkPlan(p protocol.Plan) error {
	for _, t := range p.Tasks {
		if err := checkTask(t); err != nil {
			return err
		}
	}
	for _, t := range p.Standing {
		if err := checkStanding(t); err != nil {
			return err
		}
	}
	return nil
}

// checkStanding says what of a standing measurement cannot be.
func checkStanding(t protocol.Standing) error {
	if t.Times.Cron == "" && t.Every < leastEvery {
		return fmt.Errorf("a %s is to be made every %v", t.Order.Kind, t.Every)
	}
	_, err := t.Schedule()
	return err
}

// SetPlan replaces what the agent is to do. Tasks that stay the same go on
// undisturbed.
func (a *Agent) SetPlan(p protocol.Plan) {
	tasks := slices.DeleteFunc(slices.Clone(p.Tasks), func(t protocol.Task) bool {
		err := checkTask(t)
		if err != nil { // of another version's service
			a.log.Error("a task of the plan cannot be carried out", "error", err)
			a.spool.addRun(protocol.Run{ID: ident.New(), Watch: t.Watch, Path: t.Path, Started: time.Now(), Ended: time.Now(), Outcome: protocol.Failed, Reason: "this agent cannot carry it out: " + err.Error()})
		}
		return err != nil
	})
	standing := map[string]protocol.Standing{}
	for _, t := range p.Standing {
		if err := checkStanding(t); err != nil {
			a.log.Error("a measurement of the plan cannot be made", "kind", t.Order.Kind, "watch", t.Order.Watch, "error", err)
			continue
		}
		standing[t.Name()] = t
	}
	a.mu.Lock()
	a.given, a.planned = p, true
	a.given.Tasks = tasks
	a.mu.Unlock()
	a.standing.want(standing)
	a.tickets.last(p.Tickets)
	a.tellChanged()
}

// tellChanged has Run look at what is wanted.
func (a *Agent) tellChanged() {
	select {
	case a.changed <- struct{}{}:
	default:
	}
}

// Began is when the agent was made: from then on it measures.
func (a *Agent) Began() time.Time { return a.began }

// Network is what the agent measures through.
func (a *Agent) Network() network.Network { return a.options.Network }

// HeldBack is how many readings wait for the service.
func (a *Agent) HeldBack() int { return a.spool.waiting() }

// Dropped is how many readings its full spool had no room for.
func (a *Agent) Dropped() int {
	a.spool.mu.Lock()
	defer a.spool.mu.Unlock()
	return a.spool.dropped
}

// journalEvery is how often the minutes in progress are written down: what a
// kill can cost.
const journalEvery = 5 * time.Second

// Run measures until ctx ends. Then it writes down what is in progress and
// hands over what is done, if the service takes it at once.
func (a *Agent) Run(ctx context.Context) error {
	var wg sync.WaitGroup
	stopSpool := make(chan struct{})
	defer a.dues.close()
	wg.Go(func() { a.spool.run(stopSpool) })
	if a.tickets.far != nil {
		wg.Go(func() {
			if err := a.tickets.far.Run(ctx); err != nil {
				a.log.Error("this agent is no far end any more", "error", err)
			}
		})
	}
	wg.Go(func() { a.follow(ctx) })
	tick := time.NewTicker(journalEvery)
	defer tick.Stop()
	change := time.NewTimer(0) // of what the hours of tasks allow
	defer change.Stop()
	for ctx.Err() == nil {
		select {
		case <-change.C:
			change.Reset(a.apply(ctx))
		case <-a.changed:
			change.Reset(a.apply(ctx))
			a.standing.apply(ctx, a.repeatedly)
			a.keepPlan()
		case <-tick.C:
			a.noteJournal(a.writeJournal())
		case <-ctx.Done():
		}
	}
	a.standing.stop()
	a.stopAll()
	close(stopSpool)
	wg.Wait()
	return nil
}

// noteJournal says once that the journal cannot be written, and once that it
// can be again.
func (a *Agent) noteJournal(err error) {
	switch {
	case err != nil && !a.journalFails:
		a.log.Error("the minute in progress cannot be written down; should this program be killed now, that minute is short", "error", err)
	case err == nil && a.journalFails:
		a.log.Info("the minute in progress is written down again")
	}
	a.journalFails = err != nil
}

// longestUnchanged is how long what tasks allow is not looked at again: a clock may be set.
const longestUnchanged = time.Minute

// apply brings what runs to what is wanted now, and returns after how long that may be other.
// Tasks that end are waited for while nothing is locked: they may need the lock to end.
func (a *Agent) apply(ctx context.Context) (other time.Duration) {
	other = longestUnchanged
	a.mu.Lock()
	if !a.planned { // the plan comes part by part: nothing is known of tasks yet
		a.mu.Unlock()
		return other
	}
	now := time.Now()
	wanted := make(map[taskKey]protocol.Task, len(a.given.Tasks))
	for _, t := range a.given.Tasks {
		open, change := t.Open(now)
		if open && a.talks.goesOn(t.Talks) {
			wanted[taskKey{t.Watch, t.Path}] = t
		}
		if !change.IsZero() {
			other = min(other, change.Sub(now))
		}
	}
	var over []*work
	for key, w := range a.tasks {
		if t, ok := wanted[key]; ok && reflect.DeepEqual(t, w.task) {
			continue
		}
		w.cancel()
		over = append(over, w)
		delete(a.tasks, key)
	}
	a.mu.Unlock()
	for _, w := range over {
		<-w.ended
		if w.minutes != nil {
			w.minutes.flush(protocol.Cut)
		}
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, t := range wanted {
		if a.tasks[key] == nil {
			a.start(ctx, key, t)
		}
	}
	// What an earlier agent was measuring and this one is not to go on with
	// ends where it was cut off.
	for path, e := range a.resumed {
		a.spool.add(e.record(protocol.Cut))
		delete(a.resumed, path)
	}
	return other
}

func (a *Agent) start(ctx context.Context, key taskKey, t protocol.Task) {
	ctx, cancel := context.WithCancel(ctx)
	w := &work{task: t, cancel: cancel, ended: make(chan struct{})}
	if t.Continuous() {
		w.minutes = newMinutes(t, a.spool, a.log)
		if e, ok := a.resumed[t.Path]; ok {
			delete(a.resumed, t.Path)
			w.minutes.resume(e)
		}
	}
	a.tasks[key] = w
	go func() {
		defer close(w.ended)
		if t.Continuous() {
			a.watchContinuously(ctx, t, w.minutes)
		} else {
			a.watchPeriodically(ctx, t)
		}
	}()
}

// engineFor is the running engine for a service class and kind of probe. It is
// called with a.mu free.
func (a *Agent) engineFor(t protocol.Task) (*engine, error) {
	key := engineKey{t.DSCP, t.Via.Kind, t.Out}
	a.mu.Lock()
	defer a.mu.Unlock()
	if e := a.engines[key]; e != nil {
		select {
		case <-e.ended: // it broke; make another
		default:
			return e, nil
		}
	}
	o := ping.Options{Families: []wire.Family{wire.IPv4, wire.IPv6}, Vias: []reading.Via{t.Via},
		Socket: network.SocketOptions{DSCP: t.DSCP, TTL: t.Out.TTL, Source: t.Out.Source, Interface: t.Out.Interface, DontFragment: t.Out.DontFragment}}
	if t.Out.Source.IsValid() {
		o.Families = []wire.Family{wire.FamilyOf(t.Out.Source)}
	}
	if t.Out.StampKey != "" {
		o.StampKey = []byte(t.Out.StampKey)
	}
	inner, err := ping.NewEngine(a.options.Network, o)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	e := &engine{inner, cancel, make(chan struct{})}
	a.engines[key] = e
	go func() {
		defer close(e.ended)
		if err := inner.Run(ctx); err != nil {
			a.log.Error("measuring broke off", "error", err)
		}
	}()
	return e, nil
}

func (a *Agent) stopAll() {
	a.mu.Lock()
	works := make([]*work, 0, len(a.tasks))
	for _, w := range a.tasks {
		w.cancel()
		works = append(works, w)
	}
	a.mu.Unlock()
	for _, w := range works {
		<-w.ended
	}
	a.mu.Lock()
	engines := slices.Collect(maps.Values(a.engines))
	a.mu.Unlock()
	for _, e := range engines {
		e.cancel()
		<-e.ended
	}
	if err := a.writeJournal(); err != nil {
		a.log.Error("the minute in progress could not be written down", "error", errors.Unwrap(err))
	}
}
