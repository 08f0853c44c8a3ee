package respond

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// Limits hold for all that a responder does.
type Limits struct {
	Sessions   int           // at once
	Time       time.Duration // of one
	Rate       capacity.Rate // of datagrams, each way
	Unproved   int           // TCP connections at once that have not shown a key; a quarter of them of one source
	Reflect    int           // STAMP packets a second of one source; none are reflected when 0
	ReflectAll int           // of all sources together
}

// Usual are the limits where nothing else is said.
func Usual() Limits {
	return Limits{Sessions: 64, Time: time.Hour, Rate: 10e9, Unproved: 64, Reflect: 1000, ReflectAll: 20_000}
}

// Grant is what a key allows.
type Grant struct {
	Key  []byte
	Time time.Duration // of a session; no limit of its own when 0
	Rate capacity.Rate // the same
	TCP  bool          // whether a bandwidth test by TCP is allowed
}

// Keys finds what a key allows; an error turns the hello away.
type Keys func(session.Hello) (Grant, error)

// Shared lets in who has the key that a user set.
func Shared(text string) Keys {
	key := session.KeyFrom(text)
	return func(h session.Hello) (Grant, error) {
		if h.Key != "" {
			return Grant{}, errors.New("no such key")
		}
		return Grant{Key: key, TCP: true}, nil
	}
}

// Options are those of a responder.
type Options struct {
	Network network.Network // also a network.Streams
	Listen  netip.AddrPort
	Keys    Keys
	Limits  Limits
	// StampKey, when there is one, is that of STAMP's authenticated mode; StampOpen
	// reflects packets without it too.
	StampKey  []byte
	StampOpen bool
	Stateless bool // reflect with the sender's sequence numbers (RFC 8762 §4)
	Wall      paced.Wall
	Link      func(netip.Addr) host.Link // by which this end sends to an address; nil when that is not known
	End       func() session.End
	// Trace finds the hops from this end to an address; nil where it does not.
	Trace func(ctx context.Context, to netip.Addr) ([]string, error)
	Log   *slog.Logger
}

// Responder is a far end.
type Responder struct {
	o       Options
	streams network.Streams
	listen  net.Listener
	udp     []*reflector // a socket each

	mu       sync.Mutex
	sessions map[uint64]*served
	guests   []*guest // connections that have not shown a key, in the order in which they came
	owned    sync.WaitGroup
}

// New opens the port.
func New(o Options) (*Responder, error) {
	streams, ok := o.Network.(network.Streams)
	if !ok {
		return nil, errors.New("a far end needs a network that carries TCP")
	}
	if o.Wall == nil {
		o.Wall = paced.Plain
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.End == nil {
		o.End = func() session.End { return session.End{} }
	}
	l, err := streams.ListenTCP(o.Listen)
	if err != nil {
		return nil, err
	}
	at := o.Listen
	if bound, err := netip.ParseAddrPort(l.Addr().String()); err == nil {
		at = netip.AddrPortFrom(o.Listen.Addr(), bound.Port())
	}
	o.Listen = at
	r := &Responder{o: o, streams: streams, listen: l, sessions: map[uint64]*served{}}
	// TCP at all IPv6 addresses is at all IPv4 addresses too; of UDP each has its own.
	places := []netip.AddrPort{at}
	if at.Addr() == netip.IPv6Unspecified() {
		places = append(places, netip.AddrPortFrom(netip.IPv4Unspecified(), at.Port()))
	}
	for _, place := range places {
		conn, err := o.Network.Open(network.UDP, wire.FamilyOf(place.Addr()), socketAt(place, netip.AddrPort{}))
		if err != nil {
			r.shut()
			return nil, err
		}
		r.udp = append(r.udp, newReflector(r, conn))
	}
	return r, nil
}

// shut gives up the port.
func (r *Responder) shut() {
	_ = r.listen.Close()
	for _, u := range r.udp {
		_ = u.conn.Close()
	}
}

// socketAt are the options of a socket at the responder's port.
func socketAt(at, peer netip.AddrPort) network.SocketOptions {
	o := network.SocketOptions{Port: at.Port(), Shared: true, Peer: peer, Room: 9000}
	if !at.Addr().IsUnspecified() {
		o.Source = at.Addr()
	}
	return o
}

// At is where it listens.
func (r *Responder) At() netip.AddrPort { return r.o.Listen }

// Sessions is how many are going on.
func (r *Responder) Sessions() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.sessions)
}

// Run serves until ctx ends.
func (r *Responder) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r.owned.Go(func() {
		<-ctx.Done()
		r.shut()
	})
	for _, u := range r.udp {
		r.o.Network.Clock().Go(&r.owned, func() { r.datagrams(u) })
	}
	var failed error
	for {
		c, err := r.listen.Accept()
		if err != nil {
			if ctx.Err() == nil {
				failed = fmt.Errorf("listen at %s: %w", r.o.Listen, err)
			}
			break
		}
		g := r.admit(c)
		r.owned.Go(func() { r.greet(ctx, g) })
	}
	cancel()
	r.owned.Wait()
	return failed
}

// sourceOf is where a connection comes from.
func sourceOf(c net.Conn) netip.Addr {
	at, _ := netip.ParseAddrPort(c.RemoteAddr().String())
	return at.Addr().Unmap()
}

// guest is a connection that has not shown a key.
type guest struct {
	net.Conn
	source netip.Addr
	put    bool // out, for another
}

// admit lets a connection in that has to show its key. Where there are as many as may be
// it takes the place of another: of the source that has the most, the one that has been
// silent for longest. Who has the key shows it within a round trip, so that it is hardly
// ever the one.
func (r *Responder) admit(c net.Conn) *guest {
	g := &guest{Conn: c, source: sourceOf(c)}
	r.mu.Lock()
	defer r.mu.Unlock()
	of := map[netip.Addr]int{}
	for _, x := range r.guests {
		of[x.source]++
	}
	most, full := g.source, of[g.source] >= max(1, r.o.Limits.Unproved/4)
	if !full && len(r.guests) >= r.o.Limits.Unproved {
		full = true
		for source, n := range of {
			if n > of[most] {
				most = source
			}
		}
	}
	if full {
		i := max(0, slices.IndexFunc(r.guests, func(x *guest) bool { return x.source == most }))
		if i < len(r.guests) {
			r.guests[i].put = true
			_ = r.guests[i].SetDeadline(time.Unix(1, 0))
			r.guests = slices.Delete(r.guests, i, i+1)
		}
	}
	r.guests = append(r.guests, g)
	return g
}

// settle ends what admit began, and reports whether the guest was put out.
func (r *Responder) settle(g *guest) (put bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.guests = slices.DeleteFunc(r.guests, func(x *guest) bool { return x == g })
	return g.put
}

// greet finds out what a connection is for.
func (r *Responder) greet(ctx context.Context, g *guest) {
	c := g.Conn
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	var grant Grant
	channel, hello, err := session.Answer(c, func(h session.Hello) (key []byte, err error) {
		switch h.Role {
		case session.Data:
			return r.keyOf(h.Key)
		case session.Control:
			if r.Sessions() >= r.o.Limits.Sessions {
				return nil, session.Busy()
			}
			grant, err = r.o.Keys(h)
			return grant.Key, err
		}
		return nil, errors.New("no such role")
	})
	switch put := r.settle(g); {
	case put && err != nil:
		session.TurnAway(c)
	case put:
		_ = c.SetDeadline(time.Time{}) // it had just shown its key
	}
	if err != nil {
		r.o.Log.Debug("turned away", "peer", c.RemoteAddr(), "reason", err)
		_ = c.Close()
		return
	}
	if hello.Role == session.Data {
		r.mu.Lock()
		s := r.sessions[nameOf(hello.Key)]
		r.mu.Unlock()
		if s == nil || !s.join(c, hello) {
			_ = c.Close()
		}
		return
	}
	defer c.Close()
	r.serve(ctx, channel, hello, grant)
}

// keyOf is the secret of a session that is going on.
func (r *Responder) keyOf(name string) ([]byte, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.sessions[nameOf(name)]
	if s == nil {
		return nil, errors.New("no such session")
	}
	return s.channel.Secret(), nil
}

// nameOf reads a session's number as a data connection names it.
func nameOf(text string) uint64 {
	var n uint64
	if _, err := fmt.Sscanf(text, "%x", &n); err != nil {
		return 0
	}
	return n
}

func newName() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return binary.BigEndian.Uint64(b[:])
}

// datagrams sees to what comes from who has no socket of its own yet.
func (r *Responder) datagrams(u *reflector) {
	packets := make([]network.Packet, 64)
	for {
		n, err := u.conn.Receive(packets)
		if err != nil {
			return
		}
		for i := range n {
			p := &packets[i]
			if p.Event != network.Answer {
				u.departed(p)
				continue
			}
			if name, is := session.IsDatagram(p.Data); is {
				r.mu.Lock()
				s := r.sessions[name]
				r.mu.Unlock()
				if s != nil {
					s.begin(p)
				}
				continue
			}
			u.take(p)
		}
	}
}
