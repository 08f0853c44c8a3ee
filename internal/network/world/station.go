package world

import (
	"encoding/binary"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// shape is what the world needs to know of a packet's contents.
type shape struct {
	protocol         uint8
	srcPort, dstPort uint16 // or the first four bytes of an ICMP message
	isError          bool
	isEcho           bool // a request
	later            bool // a fragment without the first bytes
	whole            bool // all of the payload is there
	label            uint32
}

func shapeOf(h wire.IP, payload []byte) shape {
	s := shape{protocol: h.Protocol, later: h.FragmentOffset > 0, whole: !h.Fragment(), label: h.FlowLabel}
	if s.later || len(payload) < 4 {
		return s
	}
	s.srcPort, s.dstPort = binary.BigEndian.Uint16(payload), binary.BigEndian.Uint16(payload[2:])
	switch {
	case h.Protocol == wire.ProtocolICMP && h.Family() == wire.IPv4:
		s.isError = payload[0] == 3 || payload[0] == 4 || payload[0] == 5 || payload[0] == 11 || payload[0] == 12
		s.isEcho = payload[0] == 8
	case h.Protocol == wire.ProtocolICMPv6 && h.Family() == wire.IPv6:
		s.isError = payload[0] < 128
		s.isEcho = payload[0] == 128
	}
	return s
}

// flow is a hash of the fields by which routers keep the packets of one flow on
// one way: addresses, protocol, ports or ICMP type, code and checksum, and the
// flow label. Fragments have no ports to go by.
func (s shape) flow(h wire.IP) uint64 {
	src, dst := h.Src.As16(), h.Dst.As16()
	f := link.Mix(binary.BigEndian.Uint64(src[:]) ^ uint64(s.protocol))
	f = link.Mix(f ^ binary.BigEndian.Uint64(src[8:]))
	f = link.Mix(f ^ binary.BigEndian.Uint64(dst[:]))
	f = link.Mix(f ^ binary.BigEndian.Uint64(dst[8:]))
	if s.whole {
		f = link.Mix(f ^ uint64(s.srcPort)<<48 ^ uint64(s.dstPort)<<32 ^ uint64(s.label))
	}
	return f
}

// arrive takes in a packet at its target; true when the packet is still in use.
func (t *Traffic) arrive(p *packet, node int32, at int64) bool {
	n := &t.m.nodes[node]
	s := &t.c.nodes[node]
	if t.turnedAway(p, node, at) {
		return false
	}
	resolves := p.shape.protocol == wire.ProtocolUDP && p.shape.dstPort == dnsPort && s.resolver != "" && s.resolver != NoResolver
	if t.hands[node] == nil || resolves && !n.Router {
		t.answer(p, node, t.c.answerAt(node, p.number, at))
		return false
	}
	if later := t.c.answerAt(node, p.number, at); later > at {
		t.made++
		t.queue.push(event{at: later, order: t.made, node: node, arrives: true, packet: p})
		return true
	}
	if !t.hand(p, node, at) {
		t.answer(p, node, at)
	}
	return false
}

// turnedAway is what a host's own filters do to a packet.
func (t *Traffic) turnedAway(p *packet, node int32, at int64) bool {
	s := &t.c.nodes[node]
	state := Open
	switch {
	case p.shape.later:
	case p.shape.isEcho && s.icmp == Drops, p.shape.isEcho && s.silent:
		state = Filtered
	case p.shape.isEcho && s.icmp == Prohibits:
		state = Rejected
	case p.shape.protocol == wire.ProtocolTCP:
		state = s.tcp.at(p.shape.dstPort)
	case p.shape.protocol == wire.ProtocolUDP:
		state = s.udp.at(p.shape.dstPort)
	}
	if state == Rejected {
		t.refuse(p, node, move{kind: wire.Prohibited, at: at})
	}
	return state == Filtered || state == Rejected
}

// hand gives a packet to whoever stands at the node, in the pieces that it came
// in; false when nobody takes it.
func (t *Traffic) hand(p *packet, node int32, at int64) bool {
	hand := t.hands[node]
	if hand == nil {
		return false
	}
	if p.cut == 0 {
		return hand(p.bytes, t.instant(at))
	}
	parts, err := wire.FragmentIPv4(p.bytes, p.cut)
	if err != nil {
		return true
	}
	taken := false
	for _, part := range parts {
		taken = hand(part, t.instant(at)) || taken
	}
	return taken
}

// answer is what the world itself sends for a node that nobody stands at: echo
// replies, the answers of a host's ports, and of its resolver.
func (t *Traffic) answer(p *packet, node int32, at int64) {
	h, payload, err := wire.ParseIP(p.bytes)
	if err != nil || h.Fragment() || !t.m.hasAddress(node, h) {
		return
	}
	back := wire.IP{Src: h.Dst, Dst: h.Src, Protocol: h.Protocol, TTL: 64, TrafficClass: h.TrafficClass &^ 3}
	switch {
	case p.shape.isEcho:
		t.echo(node, back, payload, at)
	case h.Protocol == wire.ProtocolUDP:
		t.datagram(p, node, h.TTL, back, payload, at)
	case h.Protocol == wire.ProtocolTCP:
		t.segment(node, back, payload, at)
	}
}

// hasAddress is false for what only a prefix led here.
func (m *Model) hasAddress(node int32, h wire.IP) bool {
	i, ok := m.byAddr[h.Dst]
	return ok && i == int(node)
}

func (t *Traffic) echo(node int32, back wire.IP, payload []byte, at int64) {
	f := back.Family()
	m, err := wire.ParseICMP(f, payload)
	if err != nil || m.Echo == nil || !t.c.allows(node, at) {
		return
	}
	reply := *m.Echo
	reply.Reply = true
	b := reply.Marshal(f)
	if f == wire.IPv6 {
		binary.BigEndian.PutUint16(b[2:], wire.TransportChecksum(back.Src, back.Dst, wire.ProtocolICMPv6, b))
	}
	t.own(node, back, b, at)
}

func (t *Traffic) datagram(p *packet, node int32, ttl uint8, back wire.IP, payload []byte, at int64) {
	s := &t.c.nodes[node]
	u, err := wire.ParseUDP(payload)
	if err != nil {
		return
	}
	answer := wire.UDP{SrcPort: u.DstPort, DstPort: u.SrcPort}
	if u.DstPort == dnsPort && s.resolver != "" && s.resolver != NoResolver {
		if answer.Payload = t.m.resolve(s, u.Payload); answer.Payload != nil {
			t.own(node, back, answer.Marshal(back.Src, back.Dst), at+int64(s.resolverDelay))
		}
		return
	}
	switch s.udp.at(u.DstPort) {
	case Echoes:
		answer.Payload = u.Payload
		t.own(node, back, answer.Marshal(back.Src, back.Dst), at)
	case Reflects:
		if q, err := wire.ParseStampRequest(u.Payload); err == nil {
			now := t.m.Clock(int(node), t.instant(at))
			answer.Payload = wire.StampReply{Seq: q.Seq, Sent: now, Error: q.Error, Session: q.Session, Received: now, Request: q, SenderTTL: ttl}.Marshal(len(u.Payload))
			t.own(node, back, answer.Marshal(back.Src, back.Dst), at)
		}
	case Closed:
		t.refuse(p, node, move{kind: wire.NoPort, at: at})
	}
}

// segment answers for a TCP port without keeping a connection: an open one
// accepts it, a closed one resets.
func (t *Traffic) segment(node int32, back wire.IP, payload []byte, at int64) {
	in, err := wire.ParseTCP(payload)
	if err != nil || in.Has(wire.RST) {
		return
	}
	out := wire.TCP{SrcPort: in.DstPort, DstPort: in.SrcPort, Flags: wire.RST}
	state := t.c.nodes[node].tcp.at(in.DstPort)
	switch {
	case (state == Open || state == Echoes) && in.Has(wire.SYN) && !in.Has(wire.ACK):
		out.Flags, out.Window = wire.SYN|wire.ACK, 65535
		out.Seq, out.Ack = uint32(link.Mix(t.m.seed^uint64(at))), in.Seq+1
		out.Options = []byte{2, 4, 5, 0xb4} // maximum segment size 1460
	case in.Has(wire.ACK):
		out.Seq = in.Ack
	default:
		out.Flags |= wire.ACK
		out.Ack = in.Seq + uint32(len(in.Payload))
		if in.Has(wire.SYN) {
			out.Ack++
		}
	}
	t.own(node, back, out.Marshal(back.Src, back.Dst), at)
}
