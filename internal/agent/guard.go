package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Guarded is a network from which nothing is sent to addresses beyond those that its
// owner allows, all when there are none, and no more bits of datagrams a second than most,
// any number when 0. The service cannot change that.
func Guarded(n network.Network, allowed []netip.Prefix, most capacity.Rate) network.Network {
	if len(allowed) == 0 && most <= 0 {
		return n
	}
	return guarded{n, allowed, &allowance{most: float64(most)}}
}

type guarded struct {
	network.Network
	allowed []netip.Prefix
	rate    *allowance
}

// allowance is what may be sent: bits a second, and those of a second at once.
type allowance struct {
	mu   sync.Mutex
	most float64
	left float64
	at   time.Time
}

// take reports whether so many bytes may go now.
func (a *allowance) take(now time.Time, bytes int) bool {
	if a.most <= 0 {
		return true
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.at.IsZero() {
		a.left, a.at = a.most, now
	}
	if passed := now.Sub(a.at); passed > 0 { // who asked first may come second
		a.left, a.at = min(a.most, a.left+passed.Seconds()*a.most), now
	}
	if a.left < float64(bytes)*8 {
		return false
	}
	a.left -= float64(bytes) * 8
	return true
}

// ErrNotAllowed is wrapped when the owner of the agent does not allow a target.
var ErrNotAllowed = errors.New("the owner of this agent does not allow it")

func (g guarded) check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	if len(g.allowed) == 0 || slices.ContainsFunc(g.allowed, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	return fmt.Errorf("send to %s: %w: only %v", a, ErrNotAllowed, g.allowed)
}

// spend is check for a message, which also counts.
func (g guarded) spend(a netip.Addr, message []byte) error {
	if err := g.check(a); err != nil {
		return err
	}
	if !g.rate.take(g.Clock().Now(), len(message)) {
		return fmt.Errorf("send to %s: %w: %v at most, of all that it sends", a, ErrNotAllowed, capacity.Rate(g.rate.most))
	}
	return nil
}

// Open opens a connection that sends to allowed addresses only.
func (g guarded) Open(k network.Kind, f wire.Family, o network.SocketOptions) (network.Conn, error) {
	c, err := g.Network.Open(k, f, o)
	if err != nil {
		return nil, err
	}
	if _, ok := c.(network.Limited); ok {
		return guardedLimited{guardedConn{c, g}}, nil
	}
	return guardedConn{c, g}, nil
}

// DialTCP connects to allowed addresses only.
func (g guarded) DialTCP(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (net.Conn, error) {
	if err := g.check(to.Addr()); err != nil {
		return nil, err
	}
	return g.streams().DialTCP(ctx, to, o)
}

func (g guarded) streams() network.Streams {
	s, _ := g.Network.(network.Streams)
	return s
}

// ListenTCP listens: who calls in is let in by a ticket.
func (g guarded) ListenTCP(at netip.AddrPort) (net.Listener, error) { return g.streams().ListenTCP(at) }

// Tune passes on.
func (g guarded) Tune(c net.Conn, o network.StreamOptions) error { return g.streams().Tune(c, o) }

// Watch passes on.
func (g guarded) Watch(c net.Conn) (network.StreamState, bool) { return g.streams().Watch(c) }

type guardedConn struct {
	network.Conn
	g guarded
}

// Send sends to an allowed address.
func (c guardedConn) Send(to netip.AddrPort, message []byte) (time.Time, error) {
	if err := c.g.spend(to.Addr(), message); err != nil {
		return c.g.Clock().Now(), err
	}
	return c.Conn.Send(to, message)
}

// SendAll sends as long as the addresses are allowed.
func (c guardedConn) SendAll(list []network.Outgoing) (int, error) {
	for i := range list {
		if err := c.g.spend(list[i].To.Addr(), list[i].Message); err != nil {
			n, _ := c.Conn.SendAll(list[:i])
			return n, err
		}
	}
	return c.Conn.SendAll(list)
}

type guardedLimited struct{ guardedConn }

// SendTTL sends to an allowed address.
func (c guardedLimited) SendTTL(to netip.AddrPort, message []byte, ttl int) (time.Time, error) {
	if err := c.g.spend(to.Addr(), message); err != nil {
		return c.g.Clock().Now(), err
	}
	return c.Conn.(network.Limited).SendTTL(to, message, ttl)
}
