package live

import (
	"context"
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

// stack is a TCP within this process, for where no namespaces can be made. With short
// queues it moves less than a kernel's: half, where a queue holds 10 ms of 20 Mbit/s.
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
	mostBuffer = 16 << 20
)

func newStack(h *Host) (*stack, error) {
	s := &stack{h: h, wire: channel.New(wireQueue, uint32(h.n.m.MTU(h.node)), "")}
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

// dial connects. At a target where nobody listens the open ports of the file answer.
func (s *stack) dial(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (net.Conn, error) {
	if err := s.tune(nil, o); err != nil {
		return nil, err
	}
	address, number := full(to)
	c, err := gonet.DialContextTCP(ctx, s.s, address, number)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", to, err)
	}
	return c, nil
}

func (s *stack) listen(at netip.AddrPort) (net.Listener, error) {
	address, number := full(at)
	l, err := gonet.ListenTCP(s.s, address, number)
	if err != nil {
		return nil, fmt.Errorf("listen at %s: %w", at, err)
	}
	return l, nil
}

// tune refuses: this stack has one way to do TCP.
func (s *stack) tune(_ net.Conn, o network.StreamOptions) error {
	if o.Congestion != "" && o.Congestion != "cubic" {
		return fmt.Errorf("%w: a host of a simulated network has no congestion control %q here, only cubic", network.ErrNoSuch, o.Congestion)
	}
	if o.Window > 0 || o.DSCP > 0 {
		return fmt.Errorf("%w: a host of a simulated network sets neither window nor DSCP of TCP where it has no kernel of its own; run it as root, or leave them out", network.ErrNoSuch)
	}
	return nil
}

// watch tells what left on a connection, by its packets; what the stack keeps to itself
// stays unknown.
func (s *stack) watch(c net.Conn) (network.StreamState, bool) {
	return s.left.of(c.LocalAddr(), c.RemoteAddr())
}
