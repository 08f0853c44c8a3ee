// Package ping measures reachability, round-trip time and loss by ICMP echo, TCP
// openings, UDP datagrams and STAMP. One engine serves any number of targets over
// one socket a family and kind.
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
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Options of an engine.
type Options struct {
	// Families to open sockets for. A family that this host does not permit or
	// have is an error when it is the only one, else when a target needs it.
	Families []wire.Family
	// Vias that targets are asked by; ICMP when there are none.
	Vias   []reading.Via
	Socket network.SocketOptions
	// Mark is what the engine knows its own packets by; chosen at random when 0.
	Mark uint64
	// StampKey, when there is one, is that of STAMP's authenticated mode (RFC 8762
	// §4.2.2): only answers with its HMAC count.
	StampKey []byte
}

// Engine sends probes on absolute deadlines and matches their answers.
type Engine struct {
	clock  network.Clock
	conns  map[way]network.Conn
	failed map[way]error
	mark   uint64
	key    []byte // of STAMP's authenticated mode
	wake   chan struct{}
	// sooner tells the settling loop that it has to look before it meant to.
	sooner chan struct{}

	mu       sync.Mutex
	number   uint64
	queue    deadlines
	agenda   agenda
	looks    time.Time // when the settling loop looks again; zero when nothing is on its way
	aims     map[*aim]struct{}
	inFlight map[uint64]*flightOf
}

// way is what a connection is for.
type way struct {
	kind   network.Kind
	family wire.Family
}

type flightOf struct {
	*flight
	aim *aim
}

// NewEngine opens the sockets.
func NewEngine(n network.Network, o Options) (*Engine, error) {
	e := &Engine{
		clock: n.Clock(), conns: map[way]network.Conn{}, failed: map[way]error{},
		mark: rand.Uint64(), key: o.StampKey, wake: make(chan struct{}, 1), sooner: make(chan struct{}, 1),
		aims: map[*aim]struct{}{}, inFlight: map[uint64]*flightOf{},
		number: rand.Uint64N(1 << 32),
	}
	if o.Mark != 0 {
		e.mark, e.number = o.Mark, 0
	}
	if len(o.Vias) == 0 {
		o.Vias = []reading.Via{{}}
	}
	var errs []error
	for _, v := range o.Vias {
		for _, f := range o.Families {
			w := way{carrier(v), f}
			if e.conns[w] != nil || e.failed[w] != nil {
				continue
			}
			conn, err := n.Open(w.kind, f, o.Socket)
			if err != nil {
				e.failed[w] = err
				errs = append(errs, err)
				continue
			}
			e.conns[w] = conn
		}
	}
	if len(e.conns) == 0 {
		return nil, errors.Join(errs...)
	}
	return e, nil
}

// Add begins to ping a target. The function that it returns stops that; fates
// that are not final by then are not reported.
func (e *Engine) Add(t Target) (stop func(), err error) {
	w := way{carrier(t.Via), wire.FamilyOf(t.Addr)}
	if e.conns[w] == nil {
		if err := e.failed[w]; err != nil {
			return nil, fmt.Errorf("%s: %w", t.Addr, err)
		}
		return nil, fmt.Errorf("%s: %v over %v is not in use here", t.Addr, w.kind, w.family)
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
	a := &aim{Target: t, due: e.clock.Now().Add(t.Phase), random: rand.New(rand.NewPCG(t.Seed, 1))}
	e.mu.Lock()
	e.aims[a] = struct{}{}
	heap.Push(&e.queue, a)
	e.mu.Unlock()
	nudge(e.wake)
	return func() { e.remove(a) }, nil
}

func nudge(wake chan<- struct{}) {
	select {
	case wake <- struct{}{}:
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
	var wg, receivers sync.WaitGroup
	for w, conn := range e.conns {
		e.clock.Go(&receivers, func() {
			if err := e.receive(w, conn); err != nil && ctx.Err() == nil {
				cancel(err)
			}
		})
	}
	e.clock.Go(&wg, func() { e.settle(ctx) })
	e.clock.Go(&wg, func() { e.send(ctx) })
	wg.Wait()
	for _, conn := range e.conns {
		conn.Close()
	}
	receivers.Wait()
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
			e.clock.Until(ctx, time.Time{}, e.wake)
			continue
		}
		due := e.queue[0].due
		e.mu.Unlock()
		if !e.clock.Until(ctx, due, e.wake) {
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
	now := e.clock.Now()
	late := now.Sub(a.due)
	if late < 0 {
		return
	}
	e.number++
	f := &flight{number: e.number, probe: reading.Probe{Number: a.sent, DueAt: a.dueAt(now, late), SentLate: late}}
	family := wire.FamilyOf(a.Addr)
	e.inFlight[f.number] = &flightOf{f, a}
	a.flights = append(a.flights, f)
	a.sent++
	f.stamped = now.UTC().Truncate(time.Microsecond)
	sent, err := e.conns[way{carrier(a.Via), family}].Send(netip.AddrPortFrom(a.Addr, a.Via.Port), e.message(a.Via, family, f.number, a.Payload, f.stamped))
	f.sent = sent
	e.await(a, f)
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

// Dropped is how many packets this host had no room for.
func (e *Engine) Dropped() (n int) {
	for _, c := range e.conns {
		n += c.Dropped()
	}
	return n
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
