package live

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// conn is a connection of a host.
type conn struct {
	h       *Host
	kind    network.Kind
	family  wire.Family
	from    netip.Addr
	options network.SocketOptions
	ctx     context.Context
	cancel  context.CancelFunc
	news    chan struct{}
	id      atomic.Uint32 // of the last IPv4 packet
	// Under the network's lock:
	inbox   []network.Packet
	port    uint16              // of a UDP connection, or the last of a TCP one
	opening map[uint16]*opening // of a TCP connection, by port
	dropped int
}

// opening is a TCP connection that was asked for.
type opening struct {
	to      netip.AddrPort
	seq     uint32
	message []byte
}

const icmpHeader = 8 // bytes

// mostWaiting is how many packets wait for a connection that nobody reads.
const mostWaiting = 1 << 16

// Open returns a connection at the host.
func (h *Host) Open(k network.Kind, f wire.Family, o network.SocketOptions) (network.Conn, error) {
	if k == network.Ethernet {
		return nil, fmt.Errorf("%w: a simulated network carries IP, and no %v", network.ErrNoSuch, k)
	}
	from, err := h.source(f, o)
	if err != nil {
		return nil, err
	}
	if h.n.pump != nil {
		if err := h.n.pump.start(); err != nil {
			return nil, err
		}
	}
	c := &conn{h: h, kind: k, family: f, from: from, options: o, news: make(chan struct{}, 1), opening: map[uint16]*opening{}}
	c.ctx, c.cancel = context.WithCancel(context.Background())
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	switch {
	case k == network.UDP && o.Port > 0:
		if slices.ContainsFunc(h.conns, func(x *conn) bool {
			return x.kind == k && x.family == f && x.port == o.Port && (!o.Shared || !x.options.Shared)
		}) {
			return nil, fmt.Errorf("%w: port %d of %s is in use; choose another", network.ErrNoSuch, o.Port, h.name)
		}
		c.port = o.Port
	case k == network.UDP || k == network.TCP:
		c.port = h.freePort(k)
	}
	h.conns = append(h.conns, c)
	return c, nil
}

// source is the address that a connection sends from.
func (h *Host) source(f wire.Family, o network.SocketOptions) (netip.Addr, error) {
	if o.Interface != "" {
		return netip.Addr{}, fmt.Errorf("%w: a host of a simulated network has no interfaces to choose from; leave out %q", network.ErrNoSuch, o.Interface)
	}
	node := h.n.m.Nodes()[h.node]
	if o.Source.IsValid() {
		if !slices.Contains(node.Addresses, o.Source) || wire.FamilyOf(o.Source) != f {
			return netip.Addr{}, fmt.Errorf("%w: %s is not an %v address of %s", network.ErrNoSuch, o.Source, f, h.name)
		}
		return o.Source, nil
	}
	from, ok := node.Addr(f)
	if !ok {
		return from, fmt.Errorf("%s has no %v address in world %q", h.name, f, h.n.m.Name)
	}
	return from, nil
}

// freePort is one that no connection of the kind has. The network is locked.
func (h *Host) freePort(k network.Kind) uint16 {
	port := uint16(firstPort + 1000)
	for slices.ContainsFunc(h.conns, func(x *conn) bool { return x.kind == k && x.port == port }) {
		port++
	}
	return port
}

func (c *conn) Exact() bool   { return true }
func (c *conn) FixedID() bool { return false }

// Dropped is how many packets found the inbox full.
func (c *conn) Dropped() int {
	c.h.n.mu.Lock()
	defer c.h.n.mu.Unlock()
	return c.dropped
}

// Send sends a message in an IP packet of its own.
func (c *conn) Send(to netip.AddrPort, message []byte) (time.Time, error) {
	return c.SendTTL(to, message, c.options.TTL)
}

// SendTTL is the same with a TTL.
func (c *conn) SendTTL(to netip.AddrPort, message []byte, ttl int) (time.Time, error) {
	return c.sendWith(to, message, ttl, c.options.DSCP)
}

// SendDSCP is the same with a DSCP.
func (c *conn) SendDSCP(to netip.AddrPort, message []byte, dscp uint8) (time.Time, error) {
	return c.sendWith(to, message, c.options.TTL, dscp)
}

func (c *conn) sendWith(to netip.AddrPort, message []byte, ttl int, dscp uint8) (time.Time, error) {
	if c.kind == network.Whole {
		return c.h.n.send(c.h.node, message)
	}
	h := wire.IP{Src: c.from, Dst: to.Addr().Unmap(), TTL: uint8(ttl), TrafficClass: dscp << 2, DontFragment: c.options.DontFragment}
	if h.TTL == 0 {
		h.TTL = 64
	}
	if wire.FamilyOf(h.Dst) != c.family {
		return c.h.n.clock.Now(), fmt.Errorf("send to %s: the connection is of %v", to.Addr(), c.family)
	}
	var segment []byte
	switch c.kind {
	case network.UDP:
		h.Protocol = wire.ProtocolUDP
		segment = wire.UDP{SrcPort: c.port, DstPort: to.Port(), Payload: message}.Marshal(h.Src, h.Dst)
	case network.TCP:
		h.Protocol = wire.ProtocolTCP
		segment = c.ask(netip.AddrPortFrom(h.Dst, to.Port()), message).Marshal(h.Src, h.Dst)
	default:
		h.Protocol = wire.ICMPOf(c.family)
		if len(message) < icmpHeader {
			return c.h.n.clock.Now(), fmt.Errorf("send to %s: %w: ICMP message of %d bytes", to.Addr(), wire.ErrPacket, len(message))
		}
		segment = message
		if c.family == wire.IPv6 {
			segment = slices.Clone(message)
			segment[2], segment[3] = 0, 0
			binary.BigEndian.PutUint16(segment[2:], wire.TransportChecksum(h.Src, h.Dst, wire.ProtocolICMPv6, segment))
		}
	}
	h.ID = uint16(c.id.Add(1))
	packet := h.Marshal(segment)
	if mtu := c.h.n.m.MTU(c.h.node); c.options.DontFragment && len(packet) > mtu {
		return c.h.n.clock.Now(), fmt.Errorf("send to %s: %w: a packet of %d bytes does not fit the link's MTU of %d, and may not be cut up", to.Addr(), network.ErrTooBig, len(packet), mtu)
	}
	return c.h.n.send(c.h.node, packet)
}

// mostOpenings is how many openings a connection remembers: one a port.
const mostOpenings = 10_000

// ask is the segment that asks for a connection; each has a port of its own.
func (c *conn) ask(to netip.AddrPort, message []byte) wire.TCP {
	c.h.n.mu.Lock()
	defer c.h.n.mu.Unlock()
	c.port = firstPort + 2000 + (c.port-firstPort-2000+1)%mostOpenings
	o := &opening{to: to, message: slices.Clone(message)}
	if len(message) >= 4 {
		o.seq = binary.BigEndian.Uint32(message[len(message)-4:])
	}
	c.opening[c.port] = o
	return wire.TCP{SrcPort: c.port, DstPort: to.Port(), Seq: o.seq, Flags: wire.SYN, Window: 65535, Options: []byte{2, 4, 5, 0xb4}}
}

// SendAll sends messages one by one.
func (c *conn) SendAll(list []network.Outgoing) (int, error) {
	for i := range list {
		sent, err := c.Send(list[i].To, list[i].Message)
		if err != nil {
			return i, err
		}
		list[i].Sent = sent
	}
	return len(list), nil
}

// deliver puts a packet into the inbox. The network is locked.
func (c *conn) deliver(p network.Packet) {
	if c.ctx.Err() != nil {
		return
	}
	if len(c.inbox) >= mostWaiting {
		c.dropped++
		return
	}
	c.inbox = append(c.inbox, p)
	c.h.n.delivered = true
	select {
	case c.news <- struct{}{}:
	default:
	}
}

// Poll takes what is there.
func (c *conn) Poll(packets []network.Packet) (int, error) {
	if c.ctx.Err() != nil {
		return 0, errClosed
	}
	now := c.h.n.clock.Now()
	c.h.n.mu.Lock()
	defer c.h.n.mu.Unlock()
	n := copy(packets, c.inbox)
	c.inbox = slices.Delete(c.inbox, 0, n)
	for i := range n {
		packets[i].Seen = now
	}
	return n, nil
}

// Receive waits for what comes next.
func (c *conn) Receive(packets []network.Packet) (int, error) {
	for {
		if n, err := c.Poll(packets); n > 0 || err != nil {
			return n, err
		}
		c.h.n.clock.Until(c.ctx, time.Time{}, c.news)
	}
}

// Close ends Receive and gives the connection up.
func (c *conn) Close() error {
	if c.ctx.Err() != nil {
		return nil
	}
	c.cancel()
	c.h.n.mu.Lock()
	c.h.conns = slices.DeleteFunc(c.h.conns, func(x *conn) bool { return x == c })
	c.h.n.mu.Unlock()
	if c.h.n.pump != nil {
		c.h.n.pump.stop()
	}
	return nil
}
