// Package ping measures reachability, round-trip time and loss with ICMP echo.
// One engine serves any number of targets over one socket a family.
//
//	e, err := ping.NewEngine(kernel.Host(), ping.Options{Families: []wire.Family{wire.IPv4}})
//	stop, err := e.Add(ping.Target{Addr: addr, Interval: time.Second, Settled: builder.Add})
//	err = e.Run(ctx)
package ping

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/pace"
	"woodlark.example/wire"
)

// Options of an engine.
type Options struct {
	// Families to open sockets for. A family that this host does not permit or
	// have is an error when it is the only one, else when a target needs it.
	Families []wire.Family
	Socket   network.SocketOptions
}

// Engine sends probes on absolute deadlines and matches their answers.
type Engine struct {
	conns  map[wire.Family]network.Conn
	failed map[wire.Family]error
	mark   uint64
	wake   chan struct{}

	mu       sync.Mutex
	number   uint64
	queue    deadlines
	aims     map[*aim]struct{}
	inFlight map[uint64]*flightOf
}

type flightOf struct {
	*flight
	aim *aim
}

// NewEngine opens the sockets.
func NewEngine(n network.Network, o Options) (*Engine, error) {
	e := &Engine{
		conns: map[wire.Family]network.Conn{}, failed: map[wire.Family]error{},
		mark: rand.Uint64(), wake: make(chan struct{}, 1),
		aims: map[*aim]struct{}{}, inFlight: map[uint64]*flightOf{},
		number: rand.Uint64N(1 << 32),
	}
	for _, f := range o.Families {
		conn, err := n.OpenICMP(f, o.Socket)
		if err != nil {
			e.failed[f] = err
			continue
		}
		e.conns[f] = conn
	}
	if len(e.conns) == 0 {
		var errs []error
		for _, err := range e.failed {
			errs = append(errs, err)
		}
		return nil, errors.Join(errs...)
	}
	return e, nil
}

// Add begins to ping a target. The function that it returns stops that; fates
// that are not final by then are not reported.
func (e *Engine) Add(t Target) (stop func(), err error) {
	f := wire.FamilyOf(t.Addr)
	if e.conns[f] == nil {
		if err := e.failed[f]; err != nil {
			return nil, fmt.Errorf("%s: %w", t.Addr, err)
		}
		return nil, fmt.Errorf("%s: %v is not in use here", t.Addr, f)
	}
	if t.Wait <= 0 {
		t.Wait = DefaultWait
	}
	if t.Payload <= 0 {
		t.Payload = DefaultPayload
	}
	if t.Interval <= 0 {
		t.Interval = DefaultInterval
	}
	a := &aim{Target: t, due: time.Now().Add(t.Phase), random: rand.New(rand.NewPCG(t.Seed, 1))}
	e.mu.Lock()
	e.aims[a] = struct{}{}
	heap.Push(&e.queue, a)
	e.mu.Unlock()
	e.nudge()
	return func() { e.remove(a) }, nil
}

func (e *Engine) nudge() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

func (e *Engine) remove(a *aim) {
	e.mu.Lock()
	defer e.mu.Unlock()
	a.stopped = true
	delete(e.aims, a)
	if a.index >= 0 && a.index < len(e.queue) && e.queue[a.index] == a {
		heap.Remove(&e.queue, a.index)
	}
	for _, f := range a.flights {
		delete(e.inFlight, f.number)
	}
	a.flights = nil
}

// Run sends and receives until ctx ends, then closes the sockets and returns
// nil; or an error when a socket fails for good.
func (e *Engine) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	var wg sync.WaitGroup
	for f, conn := range e.conns {
		wg.Go(func() {
			if err := e.receive(f, conn); err != nil && ctx.Err() == nil {
				cancel(err)
			}
		})
	}
	wg.Go(func() { e.settle(ctx) })
	e.send(ctx)
	for _, conn := range e.conns {
		conn.Close()
	}
	wg.Wait()
	cause := context.Cause(ctx)
	cancel(nil)
	if errors.Is(cause, context.Canceled) || errors.Is(cause, context.DeadlineExceeded) {
		return nil
	}
	return cause
}

// send is the loop over deadlines.
func (e *Engine) send(ctx context.Context) {
	for ctx.Err() == nil {
		e.mu.Lock()
		if len(e.queue) == 0 {
			e.mu.Unlock()
			select {
			case <-e.wake:
			case <-ctx.Done():
			}
			continue
		}
		due := e.queue[0].due
		e.mu.Unlock()
		if !pace.Until(ctx, due, e.wake) {
			continue
		}
		e.sendDue()
	}
}

// sendDue sends the probe of the first deadline if it has come.
func (e *Engine) sendDue() {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.queue) == 0 {
		return
	}
	a := e.queue[0]
	now := time.Now()
	late := now.Sub(a.due)
	if late < 0 {
		return
	}
	e.number++
	f := &flight{number: e.number, probe: reading.Probe{DueAt: now.Round(0).Add(-late), SentLate: late}}
	family := wire.FamilyOf(a.Addr)
	e.inFlight[f.number] = &flightOf{f, a}
	a.flights = append(a.flights, f)
	a.sent++
	sent, err := e.conns[family].Send(a.Addr, message(family, e.mark, f.number, a.Payload))
	f.sent = sent
	if err != nil {
		f.probe.Outcome, f.probe.Cause, f.heard = reading.Unsent, err.Error(), true
		e.hear(a, f)
	}
	if a.Count > 0 && a.sent >= a.Count {
		heap.Pop(&e.queue)
		if a.finished() {
			e.finish(a)
		}
		return
	}
	a.due = a.due.Add(a.step())
	// Deadlines that passed while this host slept are skipped, not caught up
	// with in a burst; the reading then has fewer probes than it expected.
	if behind := now.Sub(a.due); behind > a.Interval {
		a.due = a.due.Add(behind.Truncate(a.Interval))
	}
	heap.Fix(&e.queue, 0)
}

func (e *Engine) hear(a *aim, f *flight) {
	if a.Heard != nil {
		a.Heard(f.probe)
	}
}

// settle is the loop that makes fates final: a probe that was not answered is
// told as lost when its wait has passed, and settled after as long again, so
// that a late answer and further copies are still seen.
func (e *Engine) settle(ctx context.Context) {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			e.mu.Lock()
			for a := range e.aims {
				e.settleAim(a, now)
			}
			e.mu.Unlock()
		}
	}
}

func (e *Engine) settleAim(a *aim, now time.Time) {
	for _, f := range a.flights {
		if !f.heard && now.Sub(f.sent) >= a.Wait {
			f.heard = true
			e.hear(a, f)
		}
	}
	if a.finished() {
		e.finish(a)
		return
	}
	n := 0
	for n < len(a.flights) && now.Sub(a.flights[n].sent) >= a.Wait+min(a.Wait, time.Second) {
		e.settled(a, a.flights[n])
		n++
	}
	a.flights = a.flights[n:]
}

func (e *Engine) settled(a *aim, f *flight) {
	delete(e.inFlight, f.number)
	if a.Settled != nil {
		a.Settled(f.probe)
	}
}

// finish settles what is left of a target that has sent all its probes.
func (e *Engine) finish(a *aim) {
	if a.stopped {
		return
	}
	a.stopped = true
	for _, f := range a.flights {
		e.settled(a, f)
	}
	a.flights = nil
	delete(e.aims, a)
	if a.Done != nil {
		a.Done()
	}
}

// Stop settles all probes whose fate is known and leaves out those on their
// way, whose wait has not passed: they are neither answered nor lost.
func (e *Engine) Stop() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for a := range e.aims {
		known := a.flights[:0]
		for _, f := range a.flights {
			if f.heard {
				known = append(known, f)
			} else {
				delete(e.inFlight, f.number)
			}
		}
		a.flights = known
		if a.index >= 0 && a.index < len(e.queue) && e.queue[a.index] == a {
			heap.Remove(&e.queue, a.index)
		}
		e.finish(a)
	}
}
