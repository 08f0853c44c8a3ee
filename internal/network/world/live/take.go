package live

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// take is what the world hands the host.
func (h *Host) take(packet []byte, at time.Time) bool {
	ip, payload, err := wire.ParseIP(packet)
	if err != nil {
		return true
	}
	h.copies(ip, payload, at)
	switch ip.Protocol {
	case wire.ICMPOf(ip.Family()):
		return h.takeICMP(ip, payload, at)
	case wire.ProtocolUDP:
		return h.takeUDP(ip, payload, at)
	case wire.ProtocolTCP:
		if h.takeTCP(ip, payload, at) {
			return true
		}
		if h.tcp != nil {
			h.tcp.take(ip.Family(), packet)
			return true
		}
	}
	return false
}

// copies gives connections for whole packets what may answer theirs. As a kernel
// does, the host also sees to it itself.
func (h *Host) copies(ip wire.IP, payload []byte, at time.Time) {
	for _, c := range h.conns {
		if c.kind != network.Whole || c.family != ip.Family() {
			continue
		}
		switch ip.Protocol {
		case wire.ICMPOf(c.family):
			if len(payload) == 0 || payload[0] == 8 || payload[0] == 128 {
				continue
			}
		case c.options.Hear:
			if len(payload) < 4 {
				continue
			}
			if port := binary.BigEndian.Uint16(payload[2:]); port < c.options.FirstPort || port > c.options.LastPort {
				continue
			}
		default:
			continue
		}
		c.deliver(network.Packet{Event: network.Answer, Peer: ip.Src, TTL: int(ip.TTL), At: at, Protocol: ip.Protocol, Data: slices.Clone(payload)})
	}
}

// takeICMP gives a message to the connections of its family; echo requests are
// for the world to answer.
func (h *Host) takeICMP(ip wire.IP, payload []byte, at time.Time) bool {
	f := ip.Family()
	m, err := wire.ParseICMP(f, payload)
	if err == nil && m.Echo != nil && !m.Echo.Reply {
		return false
	}
	if err == nil && m.Echo != nil {
		h.deliver(network.ICMP, f, network.Packet{Event: network.Answer, Peer: ip.Src, TTL: int(ip.TTL), At: at, Data: slices.Clone(payload)})
		return true
	}
	if h.tcp != nil {
		h.tcp.take(f, ip.Marshal(payload)) // an error about a segment
	}
	if e, err := wire.ParseICMPError(f, payload); err == nil {
		h.refused(ip, e, at)
	}
	return true
}

// deliver gives a packet to all connections of a kind. The network is locked.
func (h *Host) deliver(k network.Kind, f wire.Family, p network.Packet) {
	for _, c := range h.conns {
		if c.family == f && c.kind == k {
			c.deliver(p)
		}
	}
}

// refused tells the connections that what they sent was refused.
func (h *Host) refused(ip wire.IP, e wire.ICMPError, at time.Time) {
	f := ip.Family()
	about, message, err := wire.ParseQuoted(e.Quoted)
	if err != nil {
		return
	}
	p := network.Packet{Event: network.Refusal, Peer: ip.Src, TTL: int(ip.TTL), At: at, Data: message, MTU: e.MTU, Cause: e.Refusal(f) + " by " + ip.Src.String(), ICMP: &e}
	if about.Protocol == wire.ICMPOf(f) {
		p.To = netip.AddrPortFrom(about.Dst, 0)
		h.deliver(network.ICMP, f, p)
		return
	}
	if len(message) < 8 { // ports, and TCP's sequence number
		return
	}
	from := binary.BigEndian.Uint16(message)
	p.To = netip.AddrPortFrom(about.Dst, binary.BigEndian.Uint16(message[2:]))
	p.Shut = e.Is(f, wire.NoPort) && ip.Src == about.Dst
	for _, c := range h.conns {
		switch {
		case c.family != f:
		case c.kind == network.UDP && about.Protocol == wire.ProtocolUDP && c.port == from:
			p.Data = message[wire.UDPHeaderSize:]
			c.deliver(p)
		case c.kind == network.TCP && about.Protocol == wire.ProtocolTCP:
			if o := c.opening[from]; o != nil && o.to == p.To && o.seq == binary.BigEndian.Uint32(message[4:]) {
				delete(c.opening, from)
				p.Data = o.message
				c.deliver(p)
			}
		}
	}
}

// takeUDP gives a datagram to who waits for it: a question to a resolver, or a
// connection.
func (h *Host) takeUDP(ip wire.IP, payload []byte, at time.Time) bool {
	u, err := wire.ParseUDP(payload)
	if err != nil {
		return true
	}
	for _, known := range []bool{true, false} {
		for _, c := range h.conns {
			if c.kind != network.UDP || c.family != ip.Family() || c.port != u.DstPort || c.options.Peer.IsValid() != known {
				continue
			}
			if known && c.options.Peer != netip.AddrPortFrom(ip.Src, u.SrcPort) {
				continue
			}
			c.deliver(network.Packet{Event: network.Answer, Peer: ip.Src, Port: u.SrcPort, TTL: int(ip.TTL), DSCP: network.DSCP{Known: true, Value: ip.TrafficClass >> 2}, At: at, Data: slices.Clone(u.Payload)})
			return true
		}
	}
	return h.takeAnswer(u)
}

// takeTCP takes what answers an opening, and gives up the connection that stands.
func (h *Host) takeTCP(ip wire.IP, payload []byte, at time.Time) bool {
	t, err := wire.ParseTCP(payload)
	if err != nil {
		return false
	}
	peer := netip.AddrPortFrom(ip.Src, t.SrcPort)
	for _, c := range h.conns {
		if c.kind != network.TCP || c.family != ip.Family() {
			continue
		}
		o := c.opening[t.DstPort]
		if o == nil || o.to != peer || !t.Has(wire.ACK) || t.Ack != o.seq+1 {
			continue
		}
		p := network.Packet{Peer: ip.Src, Port: t.SrcPort, To: o.to, TTL: int(ip.TTL), At: at, Data: o.message}
		switch {
		case t.Has(wire.RST):
			p.Event, p.Shut, p.Cause = network.Refusal, true, "connection refused by "+ip.Src.String()
		case t.Has(wire.SYN):
			reset := wire.TCP{SrcPort: t.DstPort, DstPort: t.SrcPort, Seq: t.Ack, Flags: wire.RST}
			back := wire.IP{Src: ip.Dst, Dst: ip.Src, Protocol: wire.ProtocolTCP, TTL: 64}
			// A connection that could not be given up is not one that was refused.
			_ = h.n.traffic.Send(h.node, back.Marshal(reset.Marshal(back.Src, back.Dst)), at)
		default:
			continue
		}
		// It is remembered on, for copies of the answer.
		c.deliver(p)
		return true
	}
	return false
}
