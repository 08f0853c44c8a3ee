// Package runs has agents measure: it begins runs, follows them, stops them, and sees to it that
// each ends.
//
//	list, err := r.Start(ctx, runs.Request{Kind: k, From: "quay", Targets: []string{"holm"}, How: spec})
//	r.Stop(list[0].ID)
package runs

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// Request asks for a measurement at an agent, now.
type Request struct {
	Kind    *kind.Kind
	From    string // agent
	Targets []string
	How     kind.Spec
	Key     string   // of a responder without a service
	Watch   ident.ID // none for one on demand
	Budget  int64    // bytes a day that the watch's load runs may send; no limit when 0
	Extra   bool     // because something looks wrong
	// Before is a result of the same that was cut, to go on with.
	Before json.RawMessage
	// resumed is how often it went on by itself.
	resumed int
}

const (
	ticketTime = 2 * time.Minute // to be used in
	// handedOver is how long an agent may take to hand over what it measured, before its run is
	// not shown as going on any more.
	handedOver = 10 * time.Second
)

// ErrOver is wrapped when a run is to be stopped that does not go on.
var ErrOver = errors.New("does not go on")

// Options of Runs; all are needed.
type Options struct {
	Store  *store.Store
	Log    *slog.Logger
	Events *events.Stream
	Fleet  *fleet.Fleet
	Paths  *paths.Paths
	Loads  *loads.Loads
	// Service takes what was not measured, with the reason, and what is put together here.
	Service protocol.Service
	// Measuring names a watch that measures between two ends; empty when none does, and nil when
	// there are no watches.
	Measuring func(from, to string) string
}

// Runs are the runs that go on. It is safe for concurrent use.
type Runs struct {
	Options
	mu     sync.Mutex
	active map[ident.ID]*activeRun // by each of its runs
	work   sync.WaitGroup
	ended  bool          // none is begun any more
	ending chan struct{} // closed then
	lately []endedRun
	goesOn map[ident.ID]time.Time // runs that were cut and go on, or will, and since when that is so
}

// New is without a run.
func New(o Options) *Runs {
	return &Runs{Options: o, active: map[ident.ID]*activeRun{}, goesOn: map[ident.ID]time.Time{}, ending: make(chan struct{})}
}

// endedRun is a measurement that was over at a time.
type endedRun struct {
	at  time.Time
	run *activeRun
}

// toldFor is for how long what a run told is kept behind its end.
const toldFor = 30 * time.Second

// was is a run that was over lately; the lock is held.
func (x *Runs) was(id ident.ID) *activeRun {
	for _, e := range x.lately {
		for _, l := range e.run.order.Lanes {
			if l.Run == id {
				return e.run
			}
		}
	}
	return nil
}

// forget takes a measurement from those that go on; the lock is held.
func (x *Runs) forget(g *activeRun) {
	now := time.Now()
	x.lately = slices.DeleteFunc(x.lately, func(e endedRun) bool { return now.Sub(e.at) > toldFor || e.run == g })
	x.lately = append(x.lately, endedRun{now, g})
	for _, l := range g.order.Lanes {
		delete(x.active, l.Run)
	}
	if g.load {
		x.Loads.Free(&g.claim)
	}
}

// activeRun is a measurement that goes on: one or several runs.
type activeRun struct {
	order  protocol.RunOrder
	asked  Request
	kind   *kind.Kind
	near   ident.ID
	claim  loads.Claim    // what it would have for itself, if it is a load run
	backs  []*fleet.Agent // who measures back from each target, where that is asked for
	load   bool
	begun  bool
	since  time.Time // it has been going on
	cancel context.CancelFunc
	lanes  []soFar
	waits  map[ident.ID]bool // runs whose results did not come yet
	over   chan struct{}     // closed when all came
}

// Start starts a measurement: a run for each of its lanes. It returns at once; the runs
// go on, load runs as soon as none is in their way, and are kept.
func (x *Runs) Start(ctx context.Context, r Request) ([]store.Run, error) {
	near, far, err := x.checkRun(r)
	if err != nil {
		return nil, err
	}
	order, err := x.orderOf(ctx, r, near, far)
	if err != nil {
		return nil, err
	}
	rows := make([]store.Run, len(order.Lanes))
	now := time.Now()
	for i, l := range order.Lanes {
		m := protocol.Made{Run: l.Run, Watch: r.Watch, Path: l.Path, FarID: order.FarID, Kind: order.Kind, Version: order.Version, Lane: l.Lane, Started: now, Outcome: protocol.Running}
		if rows[i], err = store.RunOf(near.ID, m, false); err != nil {
			return nil, err
		}
	}
	backs, err := x.backs(r, near, order)
	if err != nil {
		return nil, err
	}
	if err := x.begin(ctx, r, near, order, rows); err != nil {
		return nil, err
	}
	g := &activeRun{order: order, asked: r, kind: r.Kind, near: near.ID, claim: claimOf(near, far), load: r.Kind.Load, backs: backs, lanes: make([]soFar, len(rows)), waits: map[ident.ID]bool{}, over: make(chan struct{})}
	if g.load {
		for i := range g.lanes {
			g.lanes[i].says = "waiting for its turn"
		}
	}
	work, cancel := context.WithTimeout(context.Background(), r.Kind.Limit(r.How, len(rows))+2*time.Hour)
	g.cancel = cancel
	if err := x.add(g); err != nil {
		cancel()
		return nil, err
	}
	go func() {
		defer x.work.Done()
		defer cancel()
		x.carryOut(work, r, near, far, g)
	}()
	return rows, nil
}

func (x *Runs) add(g *activeRun) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.ended {
		return errors.New("the service is being stopped")
	}
	for i, l := range g.order.Lanes {
		x.active[l.Run] = g
		g.waits[l.Run] = true
		g.lanes[i].began = time.Now()
	}
	x.work.Add(1)
	return nil
}

// End ends all that goes on, and waits for it.
func (x *Runs) End() {
	x.mu.Lock()
	if !x.ended {
		close(x.ending)
	}
	x.ended = true
	var cut []ident.ID
	for id, g := range x.active {
		if g.kind.Resumes && g.begun && g.asked.Watch.IsZero() {
			cut = append(cut, id)
		}
		g.cancel()
	}
	x.mu.Unlock()
	x.work.Wait()
	// Nobody stopped those: they go on when the service is there again.
	ctx, cancel := context.WithTimeout(context.Background(), keepTime)
	defer cancel()
	if err := x.Store.MarkCut(ctx, cut); err != nil {
		x.Log.Error("runs that were cut are not known as such", "error", err)
	}
}

// begin notes runs that go on, in all places where their kind is looked for.
func (x *Runs) begin(ctx context.Context, r Request, near *fleet.Agent, o protocol.RunOrder, rows []store.Run) error {
	if err := x.Store.BeginRuns(ctx, rows); err != nil {
		return err
	}
	u := protocol.Upload{Agent: near.ID}
	for i, l := range o.Lanes {
		m := protocol.Made{Run: l.Run, Watch: r.Watch, FarID: o.FarID, Kind: o.Kind, Lane: l.Lane, Started: rows[i].StartedAt, Outcome: protocol.Running}
		u.File(r.Kind, m, nil)
	}
	for i := range u.Sweeps {
		u.Sweeps[i].Entries = r.Targets
		if r.Kind.Size != nil {
			u.Sweeps[i].Size = r.Kind.Size(r.How, r.Targets)
		}
	}
	return x.Store.BeginKinds(ctx, u)
}

// carryOut waits for its turn, has the agent measure, and sees to it that each run ends.
func (x *Runs) carryOut(ctx context.Context, r Request, near, far *fleet.Agent, g *activeRun) {
	defer x.over(g)
	err := x.turn(ctx, g)
	if err == nil && r.Budget > 0 {
		err = x.withinBudget(ctx, r, near)
	}
	if err == nil && far != nil {
		err = x.admit(near, far, r, &g.order)
	}
	if err == nil {
		err = x.measure(ctx, r, near, g)
	}
	// The agent hands over what it measured, also until it was stopped; until then it is shown
	// as going on.
	if err == nil || g.begun && errors.Is(err, context.Canceled) {
		wait := time.NewTimer(handedOver)
		defer wait.Stop()
		select {
		case <-g.over:
			return
		case <-wait.C:
		}
	}
	if err != nil {
		x.failRuns(near, g, err)
		if g.begun && !errors.Is(err, context.Canceled) {
			x.goOnLater(r, g)
		}
	}
}

// withinBudget says when the load runs of a watch sent as much as they may.
func (x *Runs) withinBudget(ctx context.Context, r Request, near *fleet.Agent) error {
	sent, err := x.Store.SentSince(ctx, near.ID, time.Now().Add(-24*time.Hour))
	if err != nil {
		return err
	}
	if sent >= r.Budget {
		return fmt.Errorf("the load runs of %q sent %.1f GB within a day, and %.1f GB are allowed", r.From, float64(sent)/1e9, float64(r.Budget)/1e9)
	}
	return nil
}

// admit gives both ends a ticket.
func (x *Runs) admit(near, far *fleet.Agent, r Request, o *protocol.RunOrder) error {
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	g := r.Kind.Guest(r.How)
	ticket := protocol.Ticket{Name: ident.New().String(), Key: key, From: near.ID, Time: g.Session, Rate: float64(g.Rate), TCP: g.TCP, Ends: time.Now().Add(ticketTime + g.Whole)}
	at, err := far.Worker.Expect(ticket)
	if err != nil {
		return err
	}
	o.Far = kind.Far{Address: at, KeyName: ticket.Name, Key: key}
	return nil
}

// measure has the agent measure, and where it is asked for who stands at a target back at the
// same time.
func (x *Runs) measure(ctx context.Context, r Request, near *fleet.Agent, g *activeRun) error {
	back, both := kind.Spec(nil), false
	if b, ok := r.How.(kind.Backward); ok {
		back, both = b.Back()
	}
	heard := func(p kind.Progress) { x.heard(g, p) }
	if !both || g.backs == nil {
		_, err := near.Worker.Do(ctx, g.order, heard)
		return err
	}
	return x.measureBothWays(ctx, r, near, g, back, heard)
}

// failRuns keeps runs of which nothing was measured, with the reason.
func (x *Runs) failRuns(near *fleet.Agent, g *activeRun, why error) {
	outcome, reason := protocol.Failed, why.Error()
	if errors.Is(why, context.Canceled) {
		outcome, reason = protocol.Cancelled, "stopped before it began"
		if g.begun {
			reason = kind.CutShort
		}
	}
	u := protocol.Upload{Agent: near.ID}
	x.mu.Lock()
	for i, l := range g.order.Lanes {
		if g.waits[l.Run] {
			m := protocol.Made{Run: l.Run, Watch: g.order.Watch, Path: l.Path, FarID: g.order.FarID, Kind: g.order.Kind, Version: g.order.Version, Lane: l.Lane,
				Started: g.lanes[i].began, Ended: time.Now(), Outcome: outcome, Reason: reason}
			if was := g.lanes[i].partial; was != nil {
				m.Body, m.Figures, m.Whole = was.Body, was.Figures, was.Whole
			}
			u.Made = append(u.Made, m)
		}
	}
	x.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := x.Service.Upload(ctx, u); err != nil {
		x.Log.Error("a measurement could not be kept", "kind", g.order.Kind, "error", err)
	}
}

// over forgets what goes on no longer.
func (x *Runs) over(g *activeRun) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.forget(g)
}

// Came notes that the results of runs came.
func (x *Runs) Came(list []protocol.Made) {
	var cut []*activeRun
	defer func() {
		for _, g := range cut {
			x.goOnLater(g.asked, g)
		}
	}()
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, m := range list {
		g := x.active[m.Run]
		if g == nil || !g.waits[m.Run] {
			continue
		}
		if m.Outcome == protocol.Failed && g.kind.Resumes && m.Body != nil { // an end was gone for long
			cut = append(cut, g)
		}
		delete(g.waits, m.Run)
		if len(g.waits) == 0 {
			close(g.over)
			x.forget(g)
		}
	}
}

// Stop ends the measurement that a run is of, if it goes on: what was measured until then
// is kept.
func (x *Runs) Stop(id ident.ID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	g := x.active[id]
	if g != nil {
		g.cancel()
	}
	return g != nil
}

// claimOf is what a load run between two ends wants for itself; far is nil when that is no
// agent.
func claimOf(ends ...*fleet.Agent) (c loads.Claim) {
	for _, a := range ends {
		if a == nil {
			continue
		}
		c.Agents = append(c.Agents, a.ID)
		if a.Site != "" {
			c.Sites = append(c.Sites, a.Site)
		}
	}
	return c
}

// turn waits until no load run is in the way; what is no load run waits for none.
func (x *Runs) turn(ctx context.Context, g *activeRun) error {
	waited, err := false, ctx.Err()
	if g.load {
		waited, err = x.Loads.Wait(ctx, &g.claim)
	}
	if err != nil {
		return err
	}
	x.mu.Lock()
	g.begun, g.since = true, time.Now()
	for i := range g.lanes {
		g.lanes[i].says, g.lanes[i].began = "", g.since
		if g.load {
			g.lanes[i].says = "starting"
		}
	}
	x.mu.Unlock()
	if waited {
		x.noteBegun(ctx, g)
	}
	return nil
}

// Waits reports whether a run goes on that waits for its turn yet.
func (x *Runs) Waits(id ident.ID) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	g := x.active[id]
	return g != nil && !g.begun
}

// noteBegun keeps when runs really began, behind those that they waited for.
func (x *Runs) noteBegun(ctx context.Context, g *activeRun) {
	u := protocol.Upload{Agent: g.near}
	for _, l := range g.order.Lanes {
		m := protocol.Made{Run: l.Run, Watch: g.order.Watch, Path: l.Path, FarID: g.order.FarID, Kind: g.order.Kind, Version: g.order.Version, Lane: l.Lane, Started: g.since, Outcome: protocol.Running}
		u.File(g.kind, m, nil)
		u.Made = append(u.Made, m)
	}
	if err := x.Store.SaveUpload(ctx, u); err != nil && ctx.Err() == nil {
		x.Log.Warn("the beginning of a measurement was not kept", "error", err)
	}
}
