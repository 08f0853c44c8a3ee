package respond

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// served is a session of the far end.
type served struct {
	r       *Responder
	name    uint64
	channel *session.Channel
	order   session.Order
	local   netip.AddrPort // that the near end connected to
	near    netip.Addr

	mu     sync.Mutex
	duplex *paced.Duplex // nil until datagrams began
	peer   netip.AddrPort
	proved chan struct{}
	there  []net.Conn
	back   []net.Conn
	joined chan struct{} // each time a TCP connection joins
	over   bool

	links   network.Conn // that hears all links, of a session with frames on one, until it is known
	hearing sync.WaitGroup
}

const (
	orderPatience = 30 * time.Second
	joinPatience  = 10 * time.Second
	// silence is how long the near end, which says every other second that it is there,
	// may say nothing once it has begun. Its words may wait in the queue that it tests.
	silence = 20 * time.Second
	// grace is how much longer than its order a session may last.
	grace = 20 * time.Second
	// drainPatience is how long bytes that are on their way may still take.
	drainPatience = 10 * time.Second
	// cutPatience is the same where the near end was stopped.
	cutPatience = time.Second
	// partPatience is how long the near end may take to get the last of it, over a way that
	// loses packets, too.
	partPatience = 20 * time.Second
	partSize     = 1 << 20
)

// check says why an order is not carried out.
func (r *Responder) check(o session.Order, g Grant) error {
	if err := o.Check(); err != nil {
		return err
	}
	most, rate := r.o.Limits.Time, r.o.Limits.Rate
	if g.Time > 0 {
		most = min(most, g.Time)
	}
	if g.Rate > 0 {
		rate = min(rate, g.Rate)
	}
	switch {
	case o.Length() > most:
		return fmt.Errorf("it takes %v, and this far end allows %v", o.Length(), most)
	case capacity.Rate(o.Rate()) > rate:
		return fmt.Errorf("it sends %v, and this far end allows %v", capacity.Rate(o.Rate()), rate)
	case o.WayBack && r.o.Trace == nil:
		return fmt.Errorf("it does not look for the way back")
	case (o.TCP != nil || o.Yardstick != nil) && !g.TCP:
		return fmt.Errorf("this key does not allow bandwidth tests by TCP")
	}
	return nil
}

// serve carries out the order of a near end that has proved itself.
func (r *Responder) serve(ctx context.Context, c *session.Channel, h session.Hello, g Grant) {
	m, err := c.Receive(orderPatience)
	if err != nil {
		return
	}
	s := &served{r: r, name: newName(), channel: c, proved: make(chan struct{}), joined: make(chan struct{}, 2*session.MostStreams)}
	s.local, _ = netip.ParseAddrPort(c.Conn().LocalAddr().String())
	from, _ := netip.ParseAddrPort(c.Conn().RemoteAddr().String())
	s.near = from.Addr().Unmap()
	err = m.Read(&s.order)
	if err == nil && m.Kind != session.Open {
		err = fmt.Errorf("an order was expected, not %q", m.Kind)
	}
	if err == nil {
		err = r.check(s.order, g)
	}
	if err != nil {
		_ = c.Send(session.Refused, session.Refusal{Reason: err.Error()}, nil)
		return
	}
	r.mu.Lock()
	if len(r.sessions) >= r.o.Limits.Sessions {
		r.mu.Unlock()
		_ = c.Send(session.Refused, session.Refusal{Reason: "it has as many sessions as it takes: try again later"}, nil)
		return
	}
	r.sessions[s.name] = s
	r.mu.Unlock()
	defer s.close()
	if s.order.Link != nil {
		if err := s.hearLinks(); err != nil {
			_ = c.Send(session.Refused, session.Refusal{Reason: err.Error()}, nil)
			return
		}
	}
	r.o.Log.Info("a session began", "peer", from, "by", h.Name, "for", s.order.Length())
	ctx, cancel := context.WithTimeout(ctx, s.order.Length()+orderPatience+grace)
	defer cancel()
	end := r.o.End()
	if r.o.Link != nil {
		end.Link = r.o.Link(s.near)
	}
	if err := c.Send(session.Opened, session.Accepted{Session: s.name, End: end}, nil); err != nil {
		return
	}
	if err := s.run(ctx); err != nil {
		r.o.Log.Info("a session failed", "peer", from, "reason", err)
	} else {
		r.o.Log.Info("a session ended", "peer", from)
	}
}

func (s *served) close() {
	s.r.mu.Lock()
	delete(s.r.sessions, s.name)
	s.r.mu.Unlock()
	s.mu.Lock()
	s.over = true
	conns, d, all := append(s.there, s.back...), s.duplex, s.links
	s.mu.Unlock()
	if all != nil {
		_ = all.Close()
		s.hearing.Wait()
	}
	for _, c := range conns {
		_ = c.Close()
	}
	if d != nil {
		_, _, _ = d.Close()
	}
}

// join takes a TCP connection that carries bytes of the test.
func (s *served) join(c net.Conn, h session.Hello) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, most := &s.back, 0
	if s.order.TCP != nil {
		most = s.order.TCP.Back
	}
	if h.There {
		list = &s.there
		if s.order.TCP != nil {
			most = s.order.TCP.There
		}
	}
	if s.over || len(*list) >= most {
		return false
	}
	t := s.order.TCP
	if err := s.r.streams.Tune(c, network.StreamOptions{Congestion: t.Congestion, Window: t.Window, DSCP: t.DSCP}); err != nil {
		return false
	}
	_ = c.SetDeadline(time.Time{})
	*list = append(*list, c)
	s.joined <- struct{}{}
	return true
}

// begin gives who has the session's secret a socket of its own, and tells it a cookie
// there. Nothing else goes to its address until it shows that.
func (s *served) begin(p *network.Packet) {
	d, ok := session.ParseDatagram(p.Data, s.channel.Secret())
	peer := netip.AddrPortFrom(p.Peer.Unmap(), p.Port)
	if !ok || d.Step != session.Begin || peer.Addr() != s.near {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over || s.order.Link != nil || s.duplex != nil {
		if s.duplex != nil && s.peer == peer {
			s.tell(session.Prove, s.duplex.Conn, peer)
		}
		return
	}
	at := netip.AddrPortFrom(s.local.Addr().Unmap(), s.r.o.Listen.Port())
	o := socketAt(at, peer)
	if s.order.Back != nil {
		o.DSCP, o.Bulk = s.order.Back.DSCP, s.order.Back.Bulk
	}
	if s.order.There != nil && s.order.There.Format == paced.Test {
		o.Bulk = true
		if s.order.Returned {
			o.DSCP = s.order.There.DSCP
		}
	}
	paced.Tested(&o, s.order.There, s.order.Back)
	o.Room = max(o.Room, s.order.Largest)
	conn, err := s.r.o.Network.Open(network.UDP, wire.FamilyOf(peer.Addr()), o)
	if err != nil {
		s.r.o.Log.Warn("no socket for a session", "peer", peer, "reason", err)
		return
	}
	s.meet(conn, peer)
}

// meet tells who began a cookie, at what the session's datagrams leave by from now on.
func (s *served) meet(conn network.Conn, peer netip.AddrPort) {
	s.peer = peer
	s.duplex = paced.NewDuplex(conn, peer, s.r.o.Network.Clock(), s.r.o.Wall, s.order.Back, s.order.There)
	s.duplex.Other = s.prove
	s.duplex.Listen()
	s.tell(session.Prove, conn, peer)
}

func (s *served) tell(step session.Step, conn network.Conn, peer netip.AddrPort) {
	d := session.Datagram{Step: step, Session: s.name}
	if step == session.Prove {
		d.Cookie = session.CookieFor(s.channel.Secret(), peer)
	}
	_, _ = conn.Send(peer, d.Marshal(s.channel.Secret()))
}

// prove takes the cookie back.
func (s *served) prove(p *network.Packet) {
	if p.Event != network.Answer {
		return
	}
	if d, size, ok := session.ParseSized(p.Data, s.channel.Secret()); ok {
		s.measureUp(d, size)
		return
	}
	d, ok := session.ParseDatagram(p.Data, s.channel.Secret())
	if !ok {
		return
	}
	switch {
	case d.Step == session.Begin:
		s.tell(session.Prove, s.duplex.Conn, s.peer)
	case d.Step == session.Proof && d.Cookie == session.CookieFor(s.channel.Secret(), s.peer):
		s.duplex.Reflects, s.duplex.Returns = true, s.order.Returned
		select {
		case <-s.proved:
		default:
			close(s.proved)
		}
		s.tell(session.Bound, s.duplex.Conn, s.peer)
	}
}

// measureUp answers a datagram whose size is what it asks about: that it came, and one of the same
// size, which may not be cut up either.
func (s *served) measureUp(d session.Datagram, size int) {
	select {
	case <-s.proved:
	default:
		return
	}
	if d.Step != session.Sized || d.Session != s.name {
		return
	}
	_, _ = s.duplex.Conn.Send(s.peer, session.MarshalCame(s.name, size, s.channel.Secret()))
	_, _ = s.duplex.Conn.Send(s.peer, session.MarshalSized(session.Again, s.name, size, s.channel.Secret()))
}

// run waits for Go, does its part, and tells what it saw.
func (s *served) run(whole context.Context) error {
	heard := make(chan session.Message, 4)
	gone := make(chan error, 1)
	var listening sync.WaitGroup
	ctx, cancel := context.WithCancel(whole)
	defer listening.Wait()
	defer s.channel.Close()
	defer cancel()
	listening.Go(func() { s.listen(ctx, heard, gone) })
	if err := s.await(ctx, heard, gone, session.Go); err != nil {
		return err
	}
	work, err := s.start(ctx)
	if err != nil {
		_ = s.channel.Send(session.Refused, session.Refusal{Reason: err.Error()}, nil)
		cancel()
		s.part(whole, gone)
		return err
	}
	if err := s.carryOut(ctx, work, heard, gone); err != nil {
		return err
	}
	cancel()
	if err := work.tell(s.channel); err != nil {
		return err
	}
	s.part(whole, gone)
	return nil
}

// listen hears the near end until it is gone. What it says after the session is over is
// taken and thrown away.
func (s *served) listen(ctx context.Context, heard chan<- session.Message, gone chan<- error) {
	patience := orderPatience // until it has all connections
	for {
		m, err := s.channel.Receive(patience)
		patience = silence
		if err != nil {
			gone <- err
			return
		}
		select {
		case heard <- m:
		case <-ctx.Done():
		}
	}
}

// part gives the session's place to others, and holds the connection until the near end,
// which has all then, hangs up: what it still says to one that has hung up would make this
// host's kernel drop what it has not yet brought over (RFC 9293 §3.10.7).
func (s *served) part(ctx context.Context, gone <-chan error) {
	s.close()
	timer := time.NewTimer(partPatience)
	defer timer.Stop()
	select {
	case <-gone:
	case <-timer.C:
	case <-ctx.Done():
	}
}

// carryOut does the order until the near end says that it is over.
func (s *served) carryOut(ctx context.Context, work *work, heard <-chan session.Message, gone <-chan error) error {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	// What is on its way when the near end has done its part still comes, for a while.
	var drained, late <-chan struct{}
	for {
		select {
		case <-tick.C:
			if err := s.channel.Send(session.Tick, work.look(), nil); err != nil {
				return err
			}
		case m := <-heard:
			if m.Kind != session.Finish || drained != nil {
				continue
			}
			drained = work.drained()
			patience := drainPatience
			var f session.Finished
			if m.Read(&f) == nil && f.Cut {
				patience = cutPatience
			}
			draining, stop := context.WithTimeout(ctx, patience)
			defer stop()
			late = draining.Done()
		case <-drained:
			return nil
		case <-late:
			return ctx.Err()
		case err := <-gone:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (s *served) await(ctx context.Context, heard <-chan session.Message, gone <-chan error, kind session.Kind) error {
	ctx, cancel := context.WithTimeout(ctx, orderPatience)
	defer cancel()
	for {
		select {
		case m := <-heard:
			if m.Kind == kind {
				return nil
			}
		case err := <-gone:
			return err
		case <-ctx.Done():
			return fmt.Errorf("the near end did not say %q", kind)
		}
	}
}
