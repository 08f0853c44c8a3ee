package live

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// streams is the TCP of a host: a real one, with congestion control, that knows nothing
// of being in a world.
type streams interface {
	dial(context.Context, netip.AddrPort, network.StreamOptions) (net.Conn, error)
	listen(netip.AddrPort) (net.Listener, error)
	tune(net.Conn, network.StreamOptions) error
	watch(net.Conn) (network.StreamState, bool)
	// take gives it a packet. It must not wait: the network is locked.
	take(f wire.Family, packet []byte)
	close()
}

// newStreams is the kernel's TCP in a namespace of the host's own; where none can be made,
// one within this process.
func newStreams(h *Host) (streams, error) {
	if !h.n.inProcess {
		if s, err := newOwnKernel(h); err == nil {
			return s, nil
		}
	}
	return newStack(h)
}

// useTCP is the host's TCP, made when it is first used. The network must not be locked.
func (h *Host) useTCP() (streams, error) {
	if h.n.pump == nil {
		return nil, errors.New("TCP crosses a world in real time only")
	}
	h.n.making.Lock()
	defer h.n.making.Unlock()
	if h.tcp != nil {
		return h.tcp, nil
	}
	s, err := newStreams(h)
	if err != nil {
		return nil, err
	}
	if err := h.n.pump.start(); err != nil {
		s.close()
		return nil, err
	}
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	h.tcp = s
	return s, nil
}

// DialTCP opens a connection from the host. At a target where nobody listens the
// open ports of the file answer.
func (h *Host) DialTCP(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (net.Conn, error) {
	s, err := h.useTCP()
	if err != nil {
		return nil, err
	}
	if node, own := h.n.m.Owner(to.Addr()); own && !h.n.m.Nodes()[node].Router {
		h.n.mu.Lock()
		other := h.n.host(node)
		h.n.mu.Unlock()
		if _, err := other.useTCP(); err != nil {
			return nil, err
		}
	}
	c, err := s.dial(ctx, to, o)
	if err != nil {
		return nil, fmt.Errorf("from %s: %w", h.name, err)
	}
	return c, nil
}

// ListenTCP listens at the host.
func (h *Host) ListenTCP(at netip.AddrPort) (net.Listener, error) {
	s, err := h.useTCP()
	if err != nil {
		return nil, err
	}
	l, err := s.listen(at)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.name, err)
	}
	return l, nil
}

// Tune sets options of a connection that stands.
func (h *Host) Tune(c net.Conn, o network.StreamOptions) error {
	s, err := h.useTCP()
	if err != nil {
		return err
	}
	return s.tune(c, o)
}

// Watch tells how a connection of the host stands.
func (h *Host) Watch(c net.Conn) (network.StreamState, bool) {
	h.n.mu.Lock()
	s := h.tcp
	h.n.mu.Unlock()
	if s == nil {
		return network.StreamState{}, false
	}
	return s.watch(c)
}
