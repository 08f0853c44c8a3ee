package controller

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
	"woodlark.example/wire"
)

// KindThroughput and KindStream are the kinds of watches with two ends.
const (
	KindThroughput = string(plan.Throughput)
	KindStream     = string(plan.Stream)
)

const (
	leastLoading  = 5 * time.Minute // between the load runs of a watch
	longestTwo    = time.Hour
	ticketTime    = 2 * time.Minute // to be used in
	defaultBudget = 5 << 30         // bytes that load runs of a watch may send a day
	usualPort     = 7474
)

// twoEnds are the measurements with two ends that are going on. Load runs exclude each
// other at an agent and on the access of a site.
type twoEnds struct {
	mu    sync.Mutex
	going map[ident.ID]*twoEnded
	free  chan struct{} // closed and made anew when one ends
	past  []loadSpan
}

// twoEnded is one that is going on.
type twoEnded struct {
	agents []ident.ID // near and far
	sites  []string
	load   bool
	begun  bool
	since  time.Time // it has been going on
	now    plan.TwoGoing
	live   []LiveSecond // of the run that goes on
	cancel context.CancelFunc
}

// LiveSecond is what arrived in about a second of a run that goes on, in bits of payload a
// second each way.
type LiveSecond struct{ Start, Length, There, Back float64 }

// note takes how far it is. A run that begins anew begins its seconds anew.
func (x *twoEnded) note(g plan.TwoGoing) {
	before := x.now
	if g.Says != before.Says || g.Seconds < before.Seconds {
		x.live, before = nil, plan.TwoGoing{}
	}
	x.now = g
	if length := g.Seconds - before.Seconds; length > 0.1 {
		x.live = append(x.live, LiveSecond{before.Seconds, length, float64(g.There-before.There) * 8 / length, float64(g.Back-before.Back) * 8 / length})
	}
}

// loadSpan is when a load run went on, and where.
type loadSpan struct {
	from, to time.Time
	agents   []ident.ID
	sites    []string
}

// TwoEndedSpec is a measurement with two ends to make.
type TwoEndedSpec struct {
	Kind    plan.TwoEndedKind
	From    string // agent
	To      string // agent, or ADDRESS:PORT of a responder with Key, or of a reflector
	Key     []byte // of a responder, or of a reflector's authenticated mode; none for an agent
	Request plan.TwoRequest
	Watch   ident.ID
	Budget  int64 // bytes a day that the watch may send; no limit when 0
}

// ends finds the agents of a measurement; far is nil for a responder.
func (c *Controller) ends(s TwoEndedSpec) (near, far *agentState, err error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if near, err = c.agentNamed(s.From); err != nil {
		return nil, nil, err
	}
	if near.hand == nil {
		return nil, nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, s.From)
	}
	if s.Request.Reflector {
		return near, nil, nil
	}
	for _, a := range c.agents {
		if a.Name == s.To || a.Address == s.To && a.Kind != Remote {
			far = a
		}
	}
	switch {
	case far == near:
		return nil, nil, fmt.Errorf("%w: %q is both ends", ErrInvalid, s.From)
	case far != nil && far.hand == nil:
		return nil, nil, fmt.Errorf("%w: agent %q is not running", ErrInvalid, s.To)
	case far == nil && len(s.Key) == 0:
		_, err = c.agentNamed(s.To)
		return nil, nil, fmt.Errorf("%w; a responder without a service needs its key", err)
	}
	return near, far, nil
}

// TwoEnded starts a measurement with two ends. It returns at once; the measurement goes
// on, as soon as no load run is in its way, and is kept.
func (c *Controller) TwoEnded(ctx context.Context, s TwoEndedSpec) (store.TwoEnded, error) {
	if s.Kind != plan.Throughput && s.Kind != plan.Stream {
		return store.TwoEnded{}, fmt.Errorf("%w: no measurement %q with two ends", ErrInvalid, s.Kind)
	}
	if s.Request.For < 0 || s.Request.For > longestTwo {
		return store.TwoEnded{}, fmt.Errorf("%w: for %v is not between 0 and %v", ErrInvalid, s.Request.For, longestTwo)
	}
	near, far, err := c.ends(s)
	if far == nil && err == nil {
		if _, _, split := net.SplitHostPort(s.To); split != nil {
			port := usualPort
			if s.Request.Reflector {
				port = wire.StampPort
			}
			s.To = net.JoinHostPort(s.To, strconv.Itoa(port))
		}
	}
	if err != nil {
		return store.TwoEnded{}, err
	}
	x := plan.TwoEnded{ID: ident.New(), Watch: s.Watch, Target: s.To, Kind: s.Kind, Started: time.Now(), Outcome: plan.Running}
	if far != nil {
		x.Far = far.ID
	}
	row, err := store.TwoEndedOf(near.ID, x)
	if err != nil {
		return row, err
	}
	if err := c.store.SaveTwoEnded(ctx, row); err != nil {
		return row, err
	}
	going := &twoEnded{agents: []ident.ID{near.ID}, load: s.Kind == plan.Throughput, now: plan.TwoGoing{Says: "waiting for its turn"}}
	if near.Site != "" {
		going.sites = append(going.sites, near.Site)
	}
	if far != nil {
		going.agents = append(going.agents, far.ID)
		if far.Site != "" {
			going.sites = append(going.sites, far.Site)
		}
	}
	work, cancel := context.WithTimeout(context.Background(), 2*time.Hour)
	going.cancel = cancel
	c.twoEnds.mu.Lock()
	c.twoEnds.going[x.ID] = going
	c.twoEnds.mu.Unlock()
	go func() {
		defer cancel()
		c.carryOutTwo(work, s, near, far, x, going)
	}()
	return row, nil
}

// carryOutTwo waits for its turn, measures, and keeps what came of it.
func (c *Controller) carryOutTwo(ctx context.Context, s TwoEndedSpec, near, far *agentState, x plan.TwoEnded, going *twoEnded) {
	err := c.turn(ctx, going)
	if err == nil {
		x.Started = time.Now()
		c.beganTwo(ctx, near.ID, x)
		var done plan.TwoEnded
		if done, err = c.measureTwo(ctx, s, near, far, x, going); err == nil {
			done.Watch, done.Far, done.Target = x.Watch, x.Far, x.Target
			x = done
		}
	}
	if err != nil {
		x.Outcome, x.Reason, x.Ended = plan.Failed, err.Error(), time.Now()
		if errors.Is(err, context.Canceled) {
			x.Outcome, x.Reason = plan.Cancelled, "stopped before its end"
		}
	}
	c.twoEnds.mu.Lock()
	delete(c.twoEnds.going, x.ID)
	if going.load && going.begun {
		c.twoEnds.rememberLoad(loadSpan{going.since, time.Now(), going.agents, going.sites})
	}
	if c.twoEnds.free != nil {
		close(c.twoEnds.free)
		c.twoEnds.free = nil
	}
	c.twoEnds.mu.Unlock()
	row, err := store.TwoEndedOf(near.ID, x)
	if err == nil {
		keeping, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		err = c.store.SaveTwoEnded(keeping, row)
		c.carried.add(row)
		if err == nil {
			err = c.judgeFigures(keeping, near.ID, x)
		}
	}
	if err != nil {
		c.noteAway(err)
		c.log.Error("a measurement could not be kept", "kind", x.Kind, "error", err)
	}
	c.publish(Event{Kind: NewTwoEnded})
}

// takeTwoEnded keeps results of measurements whose answer nobody waited for any more: the
// service was stopped in the middle, and started again.
func (c *Controller) takeTwoEnded(ctx context.Context, u plan.Upload) error {
	for _, x := range u.TwoEnded {
		err := c.takeOneTwoEnded(ctx, u.Agent, x)
		if errors.Is(err, store.ErrAway) {
			return err
		}
		if err != nil { // it would be wrong each time that it came
			c.log.Error("a result was not kept", "measurement", x.ID, "error", err)
		}
	}
	return nil
}

func (c *Controller) takeOneTwoEnded(ctx context.Context, agent ident.ID, x plan.TwoEnded) error {
	c.twoEnds.mu.Lock()
	_, going := c.twoEnds.going[x.ID]
	c.twoEnds.mu.Unlock()
	if going { // its answer tells it
		return nil
	}
	row, err := c.store.TwoEndedByID(ctx, x.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err != nil:
		return err
	case row.AgentID != agent || row.Outcome != plan.Failed && row.Outcome != plan.Running || len(row.Body) > 0:
		return nil
	}
	x.Watch, x.Far, x.Target = row.WatchID, row.FarID, row.Target
	if row, err = store.TwoEndedOf(row.AgentID, x); err != nil {
		return err
	}
	if err := c.store.SaveTwoEnded(ctx, row); err != nil {
		return err
	}
	c.carried.add(row)
	c.publish(Event{Kind: NewTwoEnded})
	return c.judgeFigures(ctx, agent, x)
}

// beganTwo keeps when it really began, behind those that it waited for.
func (c *Controller) beganTwo(ctx context.Context, near ident.ID, x plan.TwoEnded) {
	row, err := store.TwoEndedOf(near, x)
	if err == nil {
		err = c.store.SaveTwoEnded(ctx, row)
	}
	if err != nil && ctx.Err() == nil {
		c.log.Warn("the beginning of a measurement was not kept", "error", err)
	}
}

// turn waits until no load run is at the same agents or on the same access; what is no
// load run waits for none.
func (c *Controller) turn(ctx context.Context, going *twoEnded) error {
	for {
		c.twoEnds.mu.Lock()
		if !going.load || !c.inTheWay(going) {
			going.begun, going.since, going.now.Says = true, time.Now(), "starting"
			c.twoEnds.mu.Unlock()
			return nil
		}
		if c.twoEnds.free == nil {
			c.twoEnds.free = make(chan struct{})
		}
		free := c.twoEnds.free
		c.twoEnds.mu.Unlock()
		select {
		case <-free:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// inTheWay is called with the lock held.
func (c *Controller) inTheWay(x *twoEnded) bool {
	for _, other := range c.twoEnds.going {
		if other != x && other.load && other.begun && (overlap(other.agents, x.agents) || overlap(other.sites, x.sites)) {
			return true
		}
	}
	return false
}

func overlap[T comparable](a, b []T) bool {
	for _, x := range a {
		for _, y := range b {
			if x == y {
				return true
			}
		}
	}
	return false
}

// measureTwo gives both ends a ticket and has the near one measure.
func (c *Controller) measureTwo(ctx context.Context, s TwoEndedSpec, near, far *agentState, x plan.TwoEnded, going *twoEnded) (plan.TwoEnded, error) {
	if s.Budget > 0 {
		sent, err := c.store.SentSince(ctx, near.ID, time.Now().Add(-24*time.Hour))
		if err != nil {
			return x, err
		}
		if sent >= s.Budget {
			return x, fmt.Errorf("the load runs of %q sent %.1f GB within a day, and %.1f GB are allowed", s.From, float64(sent)/1e9, float64(s.Budget)/1e9)
		}
	}
	o := plan.TwoEndedOrder{ID: x.ID, Kind: s.Kind, Target: s.To, Address: s.To, Key: s.Key, Request: s.Request}
	if far != nil {
		key := make([]byte, 32)
		_, _ = rand.Read(key)
		ticket := plan.Ticket{Name: ident.New().String(), Key: key, From: near.ID, Time: max(s.Request.For, 30*time.Second) + time.Minute, Rate: 2 * s.Request.Rate, TCP: s.Kind == plan.Throughput,
			Ends: time.Now().Add(ticketTime + time.Duration(max(1, s.Request.Repeats))*2*(max(s.Request.For, 10*time.Second)+20*time.Second))}
		if s.Kind == plan.Throughput && s.Request.Protocol != "udp" {
			ticket.Rate = 0 // what held TCP back is found out by datagrams beyond its own rate
		}
		at, err := far.hand.Expect(ticket)
		if err != nil {
			return x, err
		}
		o.Far, o.Address, o.KeyName, o.Key = far.ID, at, ticket.Name, key
	}
	done := near.hand.TwoEnded(ctx, o, func(g plan.TwoGoing) {
		c.twoEnds.mu.Lock()
		going.note(g)
		c.twoEnds.mu.Unlock()
	})
	return done, nil
}

// TwoEndedProgress is how far one is that is going on.
func (c *Controller) TwoEndedProgress(id ident.ID) (now plan.TwoGoing, live []LiveSecond, going bool) {
	c.twoEnds.mu.Lock()
	defer c.twoEnds.mu.Unlock()
	x := c.twoEnds.going[id]
	if x == nil {
		return now, nil, false
	}
	return x.now, slices.Clone(x.live), true
}

// StopTwoEnded ends one that is going on; what was measured until then is kept where
// its ends still tell it.
func (c *Controller) StopTwoEnded(id ident.ID) bool {
	c.twoEnds.mu.Lock()
	defer c.twoEnds.mu.Unlock()
	x := c.twoEnds.going[id]
	if x != nil {
		x.cancel()
	}
	return x != nil
}
