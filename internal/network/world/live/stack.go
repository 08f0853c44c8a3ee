package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	gstack "gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
	"woodlark.example/wire"
)

// stack is the TCP of a host: a real one, with congestion control, that knows
// nothing of being in a world.
type stack struct {
	h      *Host
	s      *gstack.Stack
	wire   *channel.Endpoint
	cancel context.CancelFunc
	owned  sync.WaitGroup
	left   departures
}

const (
	nic        = 1
	wireQueue  = 4096
	defaultMTU = 1500
	mostBuffer = 16 << 20
)

// useTCP is the host's stack, made when it is first used. The network must not
// be locked.
func (h *Host) useTCP() (*stack, error) {
	if h.n.pump == nil {
		return nil, errors.New("TCP crosses a world in real time only")
	}
	h.n.making.Lock()
	defer h.n.making.Unlock()
	if h.stack != nil {
		return h.stack, nil
	}
	s, err := newStack(h)
	if err != nil {
		return nil, err
	}
	if err := h.n.pump.start(); err != nil {
		s.close()
		return nil, err
	}
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	h.stack = s
	return s, nil
}

func newStack(h *Host) (*stack, error) {
	s := &stack{h: h, wire: channel.New(wireQueue, uint32(h.mtu()), "")}
	s.s = gstack.New(gstack.Options{
		NetworkProtocols:   []gstack.NetworkProtocolFactory{ipv4.NewProtocol, ipv6.NewProtocol},
		TransportProtocols: []gstack.TransportProtocolFactory{tcp.NewProtocolCUBIC},
	})
	if err := s.s.CreateNIC(nic, s.wire); err != nil {
		return nil, fmt.Errorf("TCP at %s: %s", h.name, err)
	}
	for _, a := range h.n.m.Nodes()[h.node].Addresses {
		number := ipv4.ProtocolNumber
		if a.Is6() {
			number = ipv6.ProtocolNumber
		}
		if err := s.s.AddProtocolAddress(nic, tcpip.ProtocolAddress{Protocol: number, AddressWithPrefix: tcpip.AddrFromSlice(a.AsSlice()).WithPrefix()}, gstack.AddressProperties{}); err != nil {
			return nil, fmt.Errorf("TCP at %s: address %s: %s", h.name, a, err)
		}
	}
	s.s.SetRouteTable([]tcpip.Route{{Destination: header.IPv4EmptySubnet, NIC: nic}, {Destination: header.IPv6EmptySubnet, NIC: nic}})
	sack := tcpip.TCPSACKEnabled(true)
	moderate := tcpip.TCPModerateReceiveBufferOption(true)
	sendRange := tcpip.TCPSendBufferSizeRangeOption{Min: 4096, Default: 1 << 20, Max: mostBuffer}
	receiveRange := tcpip.TCPReceiveBufferSizeRangeOption{Min: 4096, Default: 1 << 20, Max: mostBuffer}
	// By RACK this stack stays at two segments a timeout, for many seconds, once a whole
	// window was lost; recovery by SACK alone keeps up with a kernel's.
	recovery := tcpip.TCPRecovery(0)
	for _, o := range []tcpip.SettableTransportProtocolOption{&sack, &moderate, &sendRange, &receiveRange, &recovery} {
		if err := s.s.SetTransportProtocolOption(tcp.ProtocolNumber, o); err != nil {
			return nil, fmt.Errorf("TCP at %s: %s", h.name, err)
		}
	}
	forwarder := tcp.NewForwarder(s.s, 0, 1024, s.accept)
	s.s.SetTransportProtocolHandler(tcp.ProtocolNumber, forwarder.HandlePacket)
	ctx, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	s.owned.Go(func() { s.sendAll(ctx) })
	return s, nil
}

// mtu is that of the host's own link.
func (h *Host) mtu() int {
	for _, d := range h.n.m.Directions() {
		if d.From == h.node && d.MTU > 0 {
			return d.MTU
		}
	}
	return defaultMTU
}

// sendAll puts what the stack sends into the world.
func (s *stack) sendAll(ctx context.Context) {
	for {
		p := s.wire.ReadContext(ctx)
		if p == nil {
			return
		}
		v := p.ToView()
		s.left.count(v.AsSlice())
		_, _ = s.h.n.send(s.h.node, v.AsSlice())
		v.Release()
		p.DecRef()
	}
}

// take gives the stack a packet. It must not wait: the network is locked.
func (s *stack) take(f wire.Family, packet []byte) {
	number := ipv4.ProtocolNumber
	if f == wire.IPv6 {
		number = ipv6.ProtocolNumber
	}
	p := gstack.NewPacketBuffer(gstack.PacketBufferOptions{Payload: buffer.MakeWithData(packet)})
	s.wire.InjectInbound(number, p)
	p.DecRef()
}

// accept serves the open ports of a host at which nobody listens: what is sent
// there is discarded, or echoed.
func (s *stack) accept(r *tcp.ForwarderRequest) {
	state := s.h.n.m.PortAt(s.h.node, r.ID().LocalPort, time.Now())
	if state != world.Open && state != world.Echoes {
		r.Complete(true)
		return
	}
	var q waiter.Queue
	ep, err := r.CreateEndpoint(&q)
	if err != nil {
		r.Complete(true)
		return
	}
	r.Complete(false)
	c := gonet.NewTCPConn(&q, ep)
	s.owned.Go(func() {
		defer c.Close()
		var to io.Writer = io.Discard
		if state == world.Echoes {
			to = c
		}
		_, _ = io.Copy(to, c)
	})
}

func (s *stack) close() {
	s.s.Close()
	s.cancel()
	s.owned.Wait()
	s.s.Wait()
}

func full(a netip.AddrPort) (tcpip.FullAddress, tcpip.NetworkProtocolNumber) {
	number := ipv4.ProtocolNumber
	if a.Addr().Is6() {
		number = ipv6.ProtocolNumber
	}
	return tcpip.FullAddress{NIC: nic, Addr: tcpip.AddrFromSlice(a.Addr().AsSlice()), Port: a.Port()}, number
}

// DialTCP opens a connection from the host. At a target where nobody listens the
// open ports of the file answer.
func (h *Host) DialTCP(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (net.Conn, error) {
	if err := h.Tune(nil, o); err != nil {
		return nil, err
	}
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
	address, number := full(to)
	c, err := gonet.DialContextTCP(ctx, s.s, address, number)
	if err != nil {
		return nil, fmt.Errorf("connect from %s to %s: %w", h.name, to, err)
	}
	return c, nil
}

// ListenTCP listens at the host.
func (h *Host) ListenTCP(at netip.AddrPort) (net.Listener, error) {
	s, err := h.useTCP()
	if err != nil {
		return nil, err
	}
	address, number := full(at)
	l, err := gonet.ListenTCP(s.s, address, number)
	if err != nil {
		return nil, fmt.Errorf("listen at %s: %w", at, err)
	}
	return l, nil
}

// Tune refuses: a host of a simulated network has one way to do TCP.
func (h *Host) Tune(_ net.Conn, o network.StreamOptions) error {
	if o.Congestion != "" && o.Congestion != "cubic" {
		return fmt.Errorf("%w: a host of a simulated network has no congestion control %q, only cubic", network.ErrNoSuch, o.Congestion)
	}
	if o.Window > 0 || o.DSCP > 0 {
		return fmt.Errorf("%w: a host of a simulated network sets neither window nor DSCP of TCP; leave them out", network.ErrNoSuch)
	}
	return nil
}

// Watch tells what left on a connection of the host, by its packets; what the stack keeps
// to itself stays unknown.
func (h *Host) Watch(c net.Conn) (network.StreamState, bool) {
	h.n.mu.Lock()
	s := h.stack
	h.n.mu.Unlock()
	if s == nil {
		return network.StreamState{}, false
	}
	return s.left.of(c.LocalAddr(), c.RemoteAddr())
}
