package trace

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
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Options of an engine.
type Options struct {
	// Mark is what it knows its own packets by, and what all its choices come from;
	// chosen at random when 0.
	Mark   uint64
	Socket network.SocketOptions
	// Sent and Came, if set, are given each packet that is sent and each answer, as
	// evidence. An answer that came without its IP header is given one.
	Sent func(at time.Time, packet []byte)
	Came func(at time.Time, packet []byte)
}

// The ports that probes leave from: those that hosts seldom use of their own
// accord.
const (
	firstPort = 21000
	lastPort  = 28999
	ports     = lastPort - firstPort + 1
)

// Engine sends the probes of traces and matches their answers.
type Engine struct {
	clock  network.Clock
	ground Ground
	o      Options
	mark   uint64
	random *rand.Rand
	ways   map[wire.Family]sender
	wake   chan struct{}

	mu     sync.Mutex
	traces map[uint16]*tracer    // by their identifier
	byFlow map[flowKey][]*tracer // TCP and UDP, by target and our port
	queue  wakes
	strays int
}

type flowKey struct {
	to   netip.Addr
	port uint16
}

// NewEngine opens the sockets that requests need. Where this host permits no
// packets of our own making, UDP goes by ordinary sockets.
func NewEngine(n network.Network, ground Ground, o Options, requests []Request) (*Engine, error) {
	e := &Engine{clock: n.Clock(), ground: ground, o: o, mark: o.Mark, ways: map[wire.Family]sender{}, wake: make(chan struct{}, 1),
		traces: map[uint16]*tracer{}, byFlow: map[flowKey][]*tracer{}}
	if e.mark == 0 {
		e.mark = rand.Uint64()
	}
	e.random = rand.New(rand.NewPCG(e.mark, 2))
	needs := map[wire.Family]reading.Kind{}
	for _, r := range requests {
		needs[wire.FamilyOf(r.Addr)] = r.Via.Kind
	}
	var errs []error
	for f, kind := range needs {
		s, err := e.open(n, f, kind)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		e.ways[f] = s
	}
	if len(e.ways) == 0 {
		return nil, errors.Join(errs...)
	}
	return e, nil
}

func (e *Engine) open(n network.Network, f wire.Family, kind reading.Kind) (sender, error) {
	o := e.o.Socket
	o.FirstPort, o.LastPort = firstPort, lastPort
	switch kind {
	case reading.ByTCP:
		o.Hear = wire.ProtocolTCP
	case reading.ByUDP:
		o.Hear = wire.ProtocolUDP
	}
	conn, err := n.Open(network.Whole, f, o)
	if err == nil {
		return &raw{conn}, nil
	}
	if !errors.Is(err, network.ErrNotPermitted) {
		return nil, err
	}
	if kind != reading.ByUDP {
		return nil, fmt.Errorf("%w; or trace by datagrams, which needs no permission: -via udp", err)
	}
	return newDatagrams(n, f, e.o.Socket)
}

// measure runs requests to their ends.
func (e *Engine) measure(ctx context.Context, requests []Request) ([]Result, error) {
	results := make([]Result, len(requests))
	tracers := make([]*tracer, len(requests))
	done := make(chan int, len(requests))
	waiting := 0
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	began := e.clock.Now()
	for i, r := range requests {
		results[i] = Result{Addr: r.Addr, Via: r.Via, Started: began}
		t, err := e.newTracer(r, began, func() { done <- i })
		if err != nil {
			results[i].Err = err
			continue
		}
		tracers[i] = t
		waiting++
	}
	if waiting == 0 {
		e.close()
		return results, nil
	}
	ended := make(chan error, 1)
	go func() { ended <- e.run(ctx) }()
	var err error
	cut := false
	for ; waiting > 0; waiting-- {
		select {
		case <-done:
			continue
		case <-ctx.Done():
			cut = true
		case err = <-ended:
		}
		break
	}
	dropped := 0
	for _, s := range e.ways {
		dropped += s.dropped()
	}
	cancel()
	if err == nil {
		err = <-ended
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for i, t := range tracers {
		if t == nil {
			continue
		}
		if cut && !t.done {
			t.ended = Cut
			t.finish()
		}
		r := t.result()
		r.Dropped, r.Strays = dropped, e.strays
		results[i] = r
	}
	if err != nil {
		return results, fmt.Errorf("tracing broke off: %w", err)
	}
	return results, nil
}

// newTracer adds a trace.
func (e *Engine) newTracer(r Request, at time.Time, done func()) (*tracer, error) {
	f := wire.FamilyOf(r.Addr)
	s := e.ways[f]
	if s == nil {
		return nil, fmt.Errorf("%s: no %v here", r.Addr, f)
	}
	hop, err := e.ground.FirstHop(r.Addr)
	if err != nil {
		return nil, fmt.Errorf("trace to %s: %w", r.Addr, err)
	}
	if e.o.Socket.Source.IsValid() {
		hop.Source = e.o.Socket.Source
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.traces) > 60_000 {
		return nil, fmt.Errorf("trace to %s: %w: 60,000 traces", r.Addr, network.ErrBusy)
	}
	t := newTracer(r, hop, at)
	t.e, t.way, t.onDone = e, s, done
	for t.id = uint16(e.random.Uint32()); t.id == 0 || e.traces[t.id] != nil; t.id++ {
	}
	t.firstPort = uint16(e.random.IntN(ports))
	t.secret = e.random.Uint32()
	e.traces[t.id] = t
	t.wakeAt = at
	heap.Push(&e.queue, t)
	nudge(e.wake)
	return t, nil
}

func nudge(wake chan<- struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}

// run sends and receives until ctx ends.
func (e *Engine) run(ctx context.Context) error {
	ctx, cancel := context.WithCancelCause(ctx)
	var senders, receivers sync.WaitGroup
	for _, s := range e.ways {
		for _, c := range s.conns() {
			e.clock.Go(&receivers, func() {
				if err := e.receive(s, c); err != nil && ctx.Err() == nil {
					cancel(err)
				}
			})
		}
	}
	e.clock.Go(&senders, func() { e.send(ctx) })
	senders.Wait()
	e.close()
	receivers.Wait()
	cause := context.Cause(ctx)
	cancel(nil)
	if errors.Is(cause, context.Canceled) || errors.Is(cause, context.DeadlineExceeded) {
		return nil
	}
	return cause
}

func (e *Engine) close() {
	for _, s := range e.ways {
		for _, c := range s.conns() {
			c.Close()
		}
	}
}

// send wakes traces when they have something to do.
func (e *Engine) send(ctx context.Context) {
	for ctx.Err() == nil {
		e.mu.Lock()
		if len(e.queue) == 0 {
			e.mu.Unlock()
			e.clock.Until(ctx, time.Time{}, e.wake)
			continue
		}
		t := e.queue[0]
		now := e.clock.Now()
		if at := t.wakeAt; at.After(now) {
			e.mu.Unlock()
			e.clock.Until(ctx, at, e.wake)
			continue
		}
		t.act(now)
		if t.done {
			heap.Remove(&e.queue, t.index)
			e.forget(t)
		} else {
			heap.Fix(&e.queue, t.index)
		}
		e.mu.Unlock()
	}
}

// forget lets go of a trace that is done.
func (e *Engine) forget(t *tracer) {
	delete(e.traces, t.id)
	for _, k := range t.keys {
		list := e.byFlow[k][:0]
		for _, x := range e.byFlow[k] {
			if x != t {
				list = append(list, x)
			}
		}
		if len(list) == 0 {
			delete(e.byFlow, k)
		} else {
			e.byFlow[k] = list
		}
	}
	t.onDone()
}

// stir has a trace look at what to do next, now.
func (e *Engine) stir(t *tracer, now time.Time) {
	if t.done || t.index < 0 || !now.Before(t.wakeAt) {
		return
	}
	t.wakeAt = now
	heap.Fix(&e.queue, t.index)
	nudge(e.wake)
}

// receive is the loop over what comes in at one connection.
func (e *Engine) receive(s sender, conn network.Conn) error {
	packets := make([]network.Packet, 128)
	for {
		n, err := conn.Receive(packets)
		if err != nil {
			return err
		}
		e.mu.Lock()
		for i := range packets[:n] {
			e.take(s, conn, &packets[i])
		}
		e.mu.Unlock()
	}
}

// take matches one packet with the probe that it is about.
func (e *Engine) take(s sender, conn network.Conn, p *network.Packet) {
	a, ok := s.read(e, conn, p)
	if !ok {
		return
	}
	if a.shot == nil {
		e.strays++
		return
	}
	if p.Event == network.Departure {
		if a.shot.departed.IsZero() {
			a.shot.departed = p.At
		}
		return
	}
	if e.o.Came != nil && a.packet != nil {
		at := p.At
		if at.IsZero() {
			at = p.Seen
		}
		e.o.Came(at, a.packet)
	}
	t := a.shot.of
	a.probe.TTL, a.probe.Flow, a.probe.SentAt = a.shot.ttl, a.shot.flow, a.shot.sent.Round(0)
	a.probe.BackTTL = p.TTL
	var stamp reading.Stamp
	a.probe.RTT, stamp = roundTrip(a.shot, conn, p)
	if t.heard(a.shot, a.probe, stamp) {
		e.stir(t, e.clock.Now())
	}
}

// roundTrip is the time between the best stamps there are: the kernel's count when
// they agree with the monotonic clock, which bounds them from above.
func roundTrip(s *shot, conn network.Conn, p *network.Packet) (time.Duration, reading.Stamp) {
	took := p.Seen.Sub(s.sent)
	switch {
	case conn.Exact():
		return p.At.Sub(s.sent), reading.StampWorld
	case !s.departed.IsZero() && !p.At.IsZero():
		if kernel := p.At.Sub(s.departed); kernel >= 0 && kernel <= took+50*time.Microsecond {
			return kernel, reading.StampKernel
		}
	}
	return took, reading.StampUser
}

// wakes is a heap of traces by when they have something to do.
type wakes []*tracer

func (w wakes) Len() int           { return len(w) }
func (w wakes) Less(i, j int) bool { return w[i].wakeAt.Before(w[j].wakeAt) }
func (w wakes) Swap(i, j int) {
	w[i], w[j] = w[j], w[i]
	w[i].index, w[j].index = i, j
}
func (w *wakes) Push(x any) {
	t := x.(*tracer)
	t.index = len(*w)
	*w = append(*w, t)
}
func (w *wakes) Pop() any {
	old := *w
	t := old[len(old)-1]
	old[len(old)-1] = nil
	*w = old[:len(old)-1]
	t.index = -1
	return t
}

// answer is what a packet was found to be.
type answer struct {
	shot   *shot // that it is about; nil when it is about none of ours
	probe  route.Probe
	packet []byte // the whole answer, for evidence; nil when it is not known
}
