// Package nearend is the near end of two-ended measurement: it asks a far end for its
// part, does its own, and brings both ends' notes together.
//
//	r, err := near.Open(ctx, near.Options{Network: kernel.Host(), To: far, Key: key}, order)
//	outcome, err := r.Run(ctx, nil)
package nearend

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"syscall"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// Options are those of the near end.
type Options struct {
	Network network.Network // also a network.Streams
	To      netip.AddrPort
	Key     []byte
	KeyName string // empty for the shared one
	Wall    paced.Wall
	End     session.End
	Source  netip.Addr
	Link    func(netip.Addr) host.Link // by which this end sends to an address; nil when that is not known
	Settle  time.Duration              // for which what is on its way is waited for; 2s when 0
	Rest    time.Duration              // for which the round trip is measured before the start; a second when 0
	// Of an order with frames on a link: by which interface they leave, and to which station; to
	// all when it is not known, of which the one that has the session's key answers.
	Interface string
	Station   *wire.Hardware
}

// Run is a measurement that the far end has agreed to.
type Run struct {
	o       Options
	order   session.Order
	streams network.Streams
	channel *session.Channel
	name    uint64
	far     session.End
	duplex  *paced.Duplex
	peer    netip.AddrPort // that datagrams go to
	sizes   chan sized
	there   []net.Conn
	back    []net.Conn
	echoes  echoes
	noUDP   error // why there are no datagrams
}

// ErrRefused is wrapped when the far end does not carry out an order.
var ErrRefused = errors.New("the far end refuses")

// ErrNoUDP is wrapped when datagrams do not come through.
var ErrNoUDP = errors.New("no datagram comes back")

// Open asks the far end and makes all connections ready.
func Open(ctx context.Context, o Options, order session.Order) (*Run, error) {
	streams, ok := o.Network.(network.Streams)
	if !ok {
		return nil, errors.New("a measurement with two ends needs a network that carries TCP")
	}
	if o.Wall == nil {
		o.Wall = paced.Plain
	}
	if o.Settle == 0 {
		o.Settle = settle
	}
	if o.Rest == 0 {
		o.Rest = time.Second
	}
	if err := order.Check(); err != nil {
		return nil, err
	}
	r := &Run{o: o, order: order, streams: streams, sizes: make(chan sized, 64)}
	if err := r.ask(ctx); err != nil {
		r.Close()
		return nil, err
	}
	if err := r.bind(ctx); err != nil {
		r.noUDP = err
		if order.There != nil || order.Back != nil {
			r.Close()
			return nil, err
		}
	}
	if err := r.connect(ctx); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// Yardstick asks the far end what it reaches within itself, in bits of payload a second.
func Yardstick(ctx context.Context, o Options, streams int, d time.Duration) (float64, error) {
	x, err := alone(ctx, o, session.Order{Yardstick: &session.YardstickOrder{Streams: streams, For: d}})
	switch {
	case err != nil:
		return 0, err
	case x.Inside == nil:
		return 0, errors.New("the far end did not measure itself")
	}
	return *x.Inside, nil
}

// WayBack asks the far end for the hops from it to this end, by address and name; ? where nobody
// answers.
func WayBack(ctx context.Context, o Options) ([]string, error) {
	x, err := alone(ctx, o, session.Order{WayBack: true})
	switch {
	case err != nil:
		return nil, err
	case len(x.Hops) == 0 && x.Problem != "":
		return nil, errors.New(x.Problem)
	case len(x.Hops) == 0: // one that does not know the order does nothing
		return nil, errors.New("the far end did not look for it: it is of a version before")
	}
	return x.Hops, nil
}

// alone has the far end do something by itself, and returns its word of it.
func alone(ctx context.Context, o Options, order session.Order) (x session.Result, err error) {
	r := &Run{o: o, order: order}
	r.streams, _ = o.Network.(network.Streams)
	defer r.Close()
	if err := r.ask(ctx); err != nil {
		return x, err
	}
	stop := context.AfterFunc(ctx, func() { _ = r.channel.Close() })
	defer stop()
	for _, kind := range []session.Kind{session.Go, session.Finish} {
		if err := r.channel.Send(kind, struct{}{}, nil); err != nil {
			return x, err
		}
	}
	for {
		m, err := r.channel.Receive(order.Length() + answerPatience)
		if err != nil {
			return x, err
		}
		if m.Kind == session.Done {
			return x, m.Read(&x)
		}
	}
}

// Far is what the far end said of itself.
func (r *Run) Far() session.End { return r.far }

// Close gives everything up. The far end is free again as soon as it sees that.
func (r *Run) Close() {
	if r.channel != nil {
		_ = r.channel.Close()
	}
	if r.duplex != nil {
		_, _, _ = r.duplex.Close()
	}
	for _, c := range append(r.there, r.back...) {
		_ = c.Close()
	}
}

const answerPatience = 15 * time.Second

// ask introduces this end and gives its order.
func (r *Run) ask(ctx context.Context) error {
	c, err := r.streams.DialTCP(ctx, r.o.To, network.StreamOptions{Source: r.o.Source})
	if err != nil {
		return fmt.Errorf("%w; is 'woodlark respond' running there, and is its port open?", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	r.channel, err = session.Ask(c, r.o.Key, session.Hello{Key: r.o.KeyName, Role: session.Control, Version: r.o.End.Version, Name: r.o.End.Name})
	if err != nil {
		_ = c.Close()
		return err
	}
	if err := r.channel.Send(session.Open, r.order, nil); err != nil {
		return err
	}
	m, err := r.channel.Receive(answerPatience)
	if err != nil {
		return err
	}
	var accepted session.Accepted
	if err := expect(m, session.Opened, &accepted); err != nil {
		return err
	}
	r.name, r.far = accepted.Session, accepted.End
	return nil
}

// expect reads a message of a kind, or says why the far end refuses.
func expect(m session.Message, kind session.Kind, into any) error {
	switch m.Kind {
	case kind:
		return m.Read(into)
	case session.Refused:
		var x session.Refusal
		if err := m.Read(&x); err != nil {
			return err
		}
		return fmt.Errorf("%w: %s", ErrRefused, x.Reason)
	}
	return fmt.Errorf("%w: it says %q where %q is due", session.ErrNotOurs, m.Kind, kind)
}

// connect opens the TCP connections of the test.
func (r *Run) connect(ctx context.Context) error {
	t := r.order.TCP
	if t == nil {
		return nil
	}
	for n := range t.There + t.Back {
		c, err := r.streams.DialTCP(ctx, r.o.To, network.StreamOptions{Source: r.o.Source, Congestion: t.Congestion, Window: t.Window, DSCP: t.DSCP})
		if err != nil {
			return missing(n, err)
		}
		there := n < t.There
		list := &r.back
		if there {
			list = &r.there
		}
		*list = append(*list, c)
		if _, err := session.Ask(c, r.channel.Secret(), session.Hello{Key: fmt.Sprintf("%x", r.name), Role: session.Data, Stream: n, There: there}); err != nil {
			return missing(n, err)
		}
	}
	return nil
}

// missing is why a stream could not be opened: an end that agreed a moment ago and now
// refuses, or hangs up, is gone.
func missing(n int, err error) error {
	for _, sign := range []error{syscall.ECONNREFUSED, syscall.ECONNRESET, io.EOF, io.ErrUnexpectedEOF} {
		if errors.Is(err, sign) {
			return fmt.Errorf("open TCP stream %d: %w: %w", n+1, session.ErrGone, err)
		}
	}
	return fmt.Errorf("open TCP stream %d: %w", n+1, err)
}

// echoes are the round trips that are measured beside a test.
type echoes struct {
	mu   sync.Mutex
	rest []time.Duration
	load []time.Duration
	busy bool // the load has begun
	sent int
	wall paced.Wall

	offset *Offset // by the shortest of all
}

func (e *echoes) take(r wire.StampReply, at time.Time) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wall == nil {
		return
	}
	rtt := e.wall(at).Sub(r.Request.Sent) - r.Sent.Sub(r.Received)
	if rtt <= 0 || rtt > time.Minute {
		return
	}
	if e.offset == nil || rtt < e.offset.RTT {
		there, back := r.Received.Sub(r.Request.Sent), r.Sent.Sub(e.wall(at))
		e.offset = &Offset{Ahead: (there + back) / 2, RTT: rtt}
	}
	// What was asked at rest counts as rest, whenever it came.
	if r.Request.Error == askedAtRest {
		e.rest = append(e.rest, rtt)
	} else {
		e.load = append(e.load, rtt)
	}
}

// The error estimate of an echo also tells when it was asked: both are those of a clock
// that runs free.
const (
	askedAtRest uint16 = wire.StampFree
	askedInLoad uint16 = wire.StampFree + 1
	echoEvery          = 50 * time.Millisecond
)

// echo asks for round trips until ctx ends.
func (r *Run) echo(ctx context.Context) {
	if r.duplex == nil || r.noUDP != nil {
		return
	}
	clock := r.o.Network.Clock()
	for at, n := clock.Now(), uint32(0); ; at, n = at.Add(echoEvery), n+1 {
		if clock.Until(ctx, at, nil); ctx.Err() != nil {
			return
		}
		r.echoes.mu.Lock()
		if r.echoes.busy && r.order.Tests() {
			r.echoes.mu.Unlock()
			return // of a slow circuit they would be a part of what it carries
		}
		q := wire.StampRequest{Seq: n, Sent: r.o.Wall(clock.Now()), Error: askedAtRest, Session: paced.Reflected}
		if r.echoes.busy {
			q.Error = askedInLoad
		}
		r.echoes.mu.Unlock()
		_, _ = r.duplex.Conn.Send(r.peer, q.Marshal(0))
	}
}
