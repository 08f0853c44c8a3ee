package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Guarded is a network from which nothing is sent to addresses beyond those that its
// owner allows. The service cannot change that.
func Guarded(n network.Network, allowed []netip.Prefix) network.Network {
	if len(allowed) == 0 {
		return n
	}
	return guarded{n, allowed}
}

type guarded struct {
	network.Network
	allowed []netip.Prefix
}

// ErrNotAllowed is wrapped when the owner of the agent does not allow a target.
var ErrNotAllowed = errors.New("the owner of this agent does not allow it")

func (g guarded) check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	if slices.ContainsFunc(g.allowed, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	return fmt.Errorf("send to %s: %w: only %v", a, ErrNotAllowed, g.allowed)
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
	if err := c.g.check(to.Addr()); err != nil {
		return c.g.Clock().Now(), err
	}
	return c.Conn.Send(to, message)
}

// SendAll sends as long as the addresses are allowed.
func (c guardedConn) SendAll(list []network.Outgoing) (int, error) {
	for i := range list {
		if err := c.g.check(list[i].To.Addr()); err != nil {
			n, _ := c.Conn.SendAll(list[:i])
			return n, err
		}
	}
	return c.Conn.SendAll(list)
}

type guardedLimited struct{ guardedConn }

// SendTTL sends to an allowed address.
func (c guardedLimited) SendTTL(to netip.AddrPort, message []byte, ttl int) (time.Time, error) {
	if err := c.g.check(to.Addr()); err != nil {
		return c.g.Clock().Now(), err
	}
	return c.Conn.(network.Limited).SendTTL(to, message, ttl)
}

func splitHostPort(text string) (string, uint16, error) {
	host, digits, err := net.SplitHostPort(text)
	if err != nil {
		return "", 0, fmt.Errorf("%q is not ADDRESS:PORT of a far end", text)
	}
	port, err := strconv.ParseUint(digits, 10, 16)
	if err != nil || port == 0 {
		return "", 0, fmt.Errorf("%q is not ADDRESS:PORT of a far end", text)
	}
	return host, uint16(port), nil
}
