package controller

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// RunRequest asks for a measurement at an agent, now.
type RunRequest struct {
	Kind    *kind.Kind
	From    string // agent
	Targets []string
	How     kind.Spec
	Key     string   // of a responder without a service
	Watch   ident.ID // none for one on demand
	Budget  int64    // bytes a day that the watch's load runs may send; no limit when 0
}

const (
	ticketTime    = 2 * time.Minute // to be used in
	defaultBudget = 5 << 30         // bytes that load runs of a watch may send a day
	longestTwo    = time.Hour
	// handedOver is how long an agent may take to hand over what it measured, before its run is
	// not shown as going on any more.
	handedOver = 10 * time.Second
)

// ErrOver is wrapped when a run is to be stopped that does not go on.
var ErrOver = errors.New("does not go on")

// runs are the runs that go on. Load runs exclude each other at an agent and on the access of
// a site.
type runs struct {
	mu     sync.Mutex
	active map[ident.ID]*activeRun // by each of its runs
	free   chan struct{}           // closed and made anew when a load run ends
	past   []loadSpan
	work   sync.WaitGroup
	ended  bool // none is begun any more
	lately []endedRun
}

// endedRun is a measurement that was over at a time.
type endedRun struct {
	at  time.Time
	run *activeRun
}

// toldFor is for how long what a run told is kept behind its end.
const toldFor = 30 * time.Second

// was is a run that was over lately; the lock is held.
func (x *runs) was(id ident.ID) *activeRun {
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
func (x *runs) forget(g *activeRun) {
	now := time.Now()
	x.lately = slices.DeleteFunc(x.lately, func(e endedRun) bool { return now.Sub(e.at) > toldFor || e.run == g })
	x.lately = append(x.lately, endedRun{now, g})
	for _, l := range g.order.Lanes {
		delete(x.active, l.Run)
	}
	x.freeLoad(g)
}

// activeRun is a measurement that goes on: one or several runs.
type activeRun struct {
	order  protocol.RunOrder
	kind   *kind.Kind
	agents []ident.ID // near and far
	sites  []string
	backs  []*agentState // who measures back from each target, where that is asked for
	load   bool
	begun  bool
	since  time.Time // it has been going on
	cancel context.CancelFunc
	lanes  []soFar
	waits  map[ident.ID]bool // runs whose results did not come yet
	over   chan struct{}     // closed when all came
}

// StartRuns starts a measurement: a run for each of its lanes. It returns at once; the runs
// go on, load runs as soon as none is in their way, and are kept.
func (c *Controller) StartRuns(ctx context.Context, r RunRequest) ([]store.Run, error) {
	near, far, err := c.checkRun(r)
	if err != nil {
		return nil, err
	}
	order, err := c.orderOf(ctx, r, near, far)
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
	backs, err := c.backs(r, near, order)
	if err != nil {
		return nil, err
	}
	if err := c.begin(ctx, r, near, order, rows); err != nil {
		return nil, err
	}
	g := &activeRun{order: order, kind: r.Kind, agents: []ident.ID{near.ID}, load: r.Kind.Load, backs: backs, lanes: make([]soFar, len(rows)), waits: map[ident.ID]bool{}, over: make(chan struct{})}
	if near.Site != "" {
		g.sites = append(g.sites, near.Site)
	}
	if far != nil {
		g.agents = append(g.agents, far.ID)
		if far.Site != "" {
			g.sites = append(g.sites, far.Site)
		}
	}
	if g.load {
		for i := range g.lanes {
			g.lanes[i].says = "waiting for its turn"
		}
	}
	work, cancel := context.WithTimeout(context.Background(), r.Kind.Limit(r.How, len(rows))+2*time.Hour)
	g.cancel = cancel
	if err := c.runs.add(g); err != nil {
		cancel()
		return nil, err
	}
	go func() {
		defer c.runs.work.Done()
		defer cancel()
		c.carryOut(work, r, near, far, g)
	}()
	return rows, nil
}

func (x *runs) add(g *activeRun) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.ended {
		return errors.New("the service is being stopped")
	}
	if x.active == nil {
		x.active = map[ident.ID]*activeRun{}
	}
	for i, l := range g.order.Lanes {
		x.active[l.Run] = g
		g.waits[l.Run] = true
		g.lanes[i].began = time.Now()
	}
	x.work.Add(1)
	return nil
}

// stop ends all that goes on, and waits for it.
func (x *runs) stop() {
	x.mu.Lock()
	x.ended = true
	for _, g := range x.active {
		g.cancel()
	}
	x.mu.Unlock()
	x.work.Wait()
}

// checkRun says what of a request cannot be, and finds its ends; far is nil when that is no
// agent.
func (c *Controller) checkRun(r RunRequest) (near, far *agentState, err error) {
	invalid := func(err error) error {
		if err == nil || errors.Is(err, ErrInvalid) {
			return err
		}
		return fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if err := r.How.Check(); err != nil {
		return nil, nil, invalid(err)
	}
	if err := r.Kind.CheckTargets(r.How, r.Targets); err != nil {
		return nil, nil, invalid(err)
	}
	if r.Kind.Agent != nil {
		if err := r.Kind.Agent(r.How, r.Targets); err != nil {
			return nil, nil, invalid(err)
		}
	}
	c.mu.RLock()
	defer c.mu.RUnlock()
	if near, err = c.agentNamed(r.From); err != nil {
		return nil, nil, err
	}
	if near.worker == nil {
		return nil, nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, r.From)
	}
	if !r.Kind.TwoEnds {
		return near, nil, nil
	}
	if x, ok := r.How.(interface{ NoFar() bool }); ok && x.NoFar() {
		return near, nil, nil
	}
	to := r.Targets[0]
	far = c.farNamed(to)
	switch {
	case far == near:
		return nil, nil, fmt.Errorf("%w: %q is both ends", ErrInvalid, r.From)
	case far != nil && far.worker == nil:
		return nil, nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, to)
	case far == nil && r.Key == "":
		_, err = c.agentNamed(to)
		return nil, nil, fmt.Errorf("%w; a responder without a service needs its key", err)
	}
	return near, far, nil
}

const mostLanes = 20_000

// orderOf is what the agent is told: its lanes with their runs and paths.
func (c *Controller) orderOf(ctx context.Context, r RunRequest, near, far *agentState) (o protocol.RunOrder, err error) {
	o = protocol.RunOrder{Kind: r.Kind.Name, Version: r.Kind.Version, Targets: r.Targets, Watch: r.Watch}
	if o.Spec, err = r.Kind.Encode(r.How); err != nil {
		return o, err
	}
	rule := r.Kind.Lanes(r.How)
	if far == nil {
		if r.Targets, err = withPort(r.How, r.Targets); err != nil {
			return o, err
		}
		o.Targets = r.Targets
	}
	lanes := rule.Split(r.Targets)
	if !rule.Definite(r.Targets) { // where names resolve is where it is measured from
		if lanes, err = near.worker.Locate(ctx, protocol.LocateOrder{Kind: o.Kind, Version: o.Version, Spec: o.Spec, Targets: r.Targets}); err != nil {
			return o, fmt.Errorf("%w: %w", ErrInvalid, err)
		}
		for i := range lanes {
			if lanes[i].Family == 0 {
				lanes[i].Family = 4 // of what did not resolve
			}
		}
	}
	if len(lanes) > mostLanes {
		return o, fmt.Errorf("%w: %d targets, families and kinds of probes are more than %d runs", ErrInvalid, len(lanes), mostLanes)
	}
	var paths []*pathState
	if r.Kind.Paths {
		if paths, err = c.ensurePaths(ctx, endsOf(near.ID, rule, lanes)); err != nil {
			return o, err
		}
	}
	for i, l := range lanes {
		lane := protocol.RunLane{Run: ident.New(), Lane: l}
		if paths != nil {
			lane.Path = paths[i].ID
		}
		o.Lanes = append(o.Lanes, lane)
	}
	if far != nil {
		o.FarID = far.ID
	}
	if r.Key != "" && r.Kind.TwoEnds {
		o.Far.Key = kind.KeyFrom(r.Key)
	}
	return o, nil
}

// endsOf are the ends of the paths of lanes. Of a name all of whose addresses are measured
// each address is a path.
func endsOf(agent ident.ID, rule kind.Rule, lanes []kind.Lane) []store.Ends {
	list := make([]store.Ends, len(lanes))
	for i, l := range lanes {
		list[i] = store.Ends{Agent: agent, Target: l.Target, Family: l.Family, Via: l.Via}
		if rule.All && l.Address.IsValid() {
			list[i].Target = l.Address.String()
		}
	}
	return list
}

// begin notes runs that go on, in all places where their kind is looked for.
func (c *Controller) begin(ctx context.Context, r RunRequest, near *agentState, o protocol.RunOrder, rows []store.Run) error {
	if err := c.store.BeginRuns(ctx, rows); err != nil {
		return err
	}
	u := protocol.Upload{Agent: near.ID}
	for i, l := range o.Lanes {
		m := protocol.Made{Run: l.Run, Watch: r.Watch, FarID: o.FarID, Kind: o.Kind, Lane: l.Lane, Started: rows[i].StartedAt, Outcome: protocol.Running}
		file(&u, r.Kind, m, nil)
	}
	for i := range u.Sweeps {
		u.Sweeps[i].Entries = r.Targets
		if r.Kind.Size != nil {
			u.Sweeps[i].Size = r.Kind.Size(r.How, r.Targets)
		}
	}
	return c.store.BeginKinds(ctx, u)
}

// carryOut waits for its turn, has the agent measure, and sees to it that each run ends.
func (c *Controller) carryOut(ctx context.Context, r RunRequest, near, far *agentState, g *activeRun) {
	defer c.runs.over(g)
	err := c.turn(ctx, g)
	if err == nil && r.Budget > 0 {
		err = c.withinBudget(ctx, r, near)
	}
	if err == nil && far != nil {
		err = c.admit(near, far, r, &g.order)
	}
	if err == nil {
		err = c.measure(ctx, r, near, g)
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
		c.failRuns(near, g, err)
	}
}

// withinBudget says when the load runs of a watch sent as much as they may.
func (c *Controller) withinBudget(ctx context.Context, r RunRequest, near *agentState) error {
	sent, err := c.store.SentSince(ctx, near.ID, time.Now().Add(-24*time.Hour))
	if err != nil {
		return err
	}
	if sent >= r.Budget {
		return fmt.Errorf("the load runs of %q sent %.1f GB within a day, and %.1f GB are allowed", r.From, float64(sent)/1e9, float64(r.Budget)/1e9)
	}
	return nil
}

// admit gives both ends a ticket.
func (c *Controller) admit(near, far *agentState, r RunRequest, o *protocol.RunOrder) error {
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	g := r.Kind.Guest(r.How)
	ticket := protocol.Ticket{Name: ident.New().String(), Key: key, From: near.ID, Time: g.Session, Rate: float64(g.Rate), TCP: g.TCP, Ends: time.Now().Add(ticketTime + g.Whole)}
	at, err := far.worker.Expect(ticket)
	if err != nil {
		return err
	}
	o.Far = kind.Far{Address: at, KeyName: ticket.Name, Key: key}
	return nil
}

// measure has the agent measure, and where it is asked for who stands at a target back at the
// same time.
func (c *Controller) measure(ctx context.Context, r RunRequest, near *agentState, g *activeRun) error {
	back, both := kind.Spec(nil), false
	if b, ok := r.How.(kind.Backward); ok {
		back, both = b.Back()
	}
	heard := func(p kind.Progress) { c.heard(g, p) }
	if !both || g.backs == nil {
		_, err := near.worker.Do(ctx, g.order, heard)
		return err
	}
	return c.measureBothWays(ctx, r, near, g, back, heard)
}

// failRuns keeps runs of which nothing was measured, with the reason.
func (c *Controller) failRuns(near *agentState, g *activeRun, why error) {
	outcome, reason := protocol.Failed, why.Error()
	if errors.Is(why, context.Canceled) {
		outcome, reason = protocol.Cancelled, "stopped before it began"
		if g.begun {
			reason = kind.CutShort
		}
	}
	u := protocol.Upload{Agent: near.ID}
	c.runs.mu.Lock()
	for i, l := range g.order.Lanes {
		if g.waits[l.Run] {
			u.Made = append(u.Made, protocol.Made{Run: l.Run, Watch: g.order.Watch, Path: l.Path, FarID: g.order.FarID, Kind: g.order.Kind, Version: g.order.Version, Lane: l.Lane,
				Started: g.lanes[i].began, Ended: time.Now(), Outcome: outcome, Reason: reason})
		}
	}
	c.runs.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if err := c.Upload(ctx, u); err != nil {
		c.log.Error("a measurement could not be kept", "kind", g.order.Kind, "error", err)
	}
}

// over forgets what goes on no longer.
func (x *runs) over(g *activeRun) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.forget(g)
}

// freeLoad lets the next load run begin; the lock is held.
func (x *runs) freeLoad(g *activeRun) {
	if g.load && g.begun {
		x.rememberLoad(loadSpan{g.since, time.Now(), g.agents, g.sites})
		g.begun, g.load = false, false
	}
	if x.free != nil {
		close(x.free)
		x.free = nil
	}
}

// came notes that the results of runs came.
func (x *runs) came(list []protocol.Made) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, m := range list {
		g := x.active[m.Run]
		if g == nil || !g.waits[m.Run] {
			continue
		}
		delete(g.waits, m.Run)
		if len(g.waits) == 0 {
			close(g.over)
			x.forget(g)
		}
	}
}

// StopRun ends the measurement that a run is of, if it goes on: what was measured until then
// is kept.
func (c *Controller) StopRun(id ident.ID) bool {
	c.runs.mu.Lock()
	defer c.runs.mu.Unlock()
	g := c.runs.active[id]
	if g != nil {
		g.cancel()
	}
	return g != nil
}

// turn waits until no load run is at the same agents or on the same access; what is no
// load run waits for none.
func (c *Controller) turn(ctx context.Context, g *activeRun) error {
	waited := false
	for {
		c.runs.mu.Lock()
		if !g.load || !c.runs.inTheWay(g) {
			g.begun, g.since = true, time.Now()
			for i := range g.lanes {
				g.lanes[i].says, g.lanes[i].began = "", g.since
				if g.load {
					g.lanes[i].says = "starting"
				}
			}
			c.runs.mu.Unlock()
			if waited {
				c.noteBegun(ctx, g)
			}
			return ctx.Err()
		}
		if c.runs.free == nil {
			c.runs.free = make(chan struct{})
		}
		free := c.runs.free
		c.runs.mu.Unlock()
		waited = true
		select {
		case <-free:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// noteBegun keeps when runs really began, behind those that they waited for.
func (c *Controller) noteBegun(ctx context.Context, g *activeRun) {
	u := protocol.Upload{Agent: g.agents[0]}
	for _, l := range g.order.Lanes {
		m := protocol.Made{Run: l.Run, Watch: g.order.Watch, Path: l.Path, FarID: g.order.FarID, Kind: g.order.Kind, Version: g.order.Version, Lane: l.Lane, Started: g.since, Outcome: protocol.Running}
		file(&u, g.kind, m, nil)
		u.Made = append(u.Made, m)
	}
	if err := c.store.SaveUpload(ctx, u); err != nil && ctx.Err() == nil {
		c.log.Warn("the beginning of a measurement was not kept", "error", err)
	}
}

// inTheWay is called with the lock held.
func (x *runs) inTheWay(g *activeRun) bool {
	for _, other := range x.active {
		if other != g && other.load && other.begun && (overlap(other.agents, g.agents) || overlap(other.sites, g.sites)) {
			return true
		}
	}
	return false
}

func overlap[T comparable](a, b []T) bool {
	return slices.ContainsFunc(a, func(x T) bool { return slices.Contains(b, x) })
}

// Standing is where an agent stands, as JSON; see protocol.Stander.
func (c *Controller) Standing(name string) (json.RawMessage, error) {
	c.mu.RLock()
	a, err := c.agentNamed(name)
	c.mu.RUnlock()
	switch {
	case err != nil:
		return nil, notThere(err)
	case a.worker == nil:
		return nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, name)
	}
	s, err := a.worker.Standing()
	if errors.Is(err, protocol.ErrNoStanding) {
		err = fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return s, err
}
