package trace

import (
	"encoding/binary"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// shot is one probe on its way.
type shot struct {
	of        *tracer
	ttl, flow int
	number    uint16
	size      int  // of the whole packet, when it is to find sizes; else 0
	feeler    bool // to see whether the target is there
	search    bool // it was sent before the rounds of measuring
	sent      time.Time
	departed  time.Time // kernel; zero when not known
	given     bool      // up, for planning
	fate      bool      // is known
	byError   bool      // it was answered by an ICMP error
}

// sender sends the probes of traces and reads what comes in.
type sender interface {
	conns() []network.Conn
	send(t *tracer, s *shot) (time.Time, error)
	// read tells what a packet is about; false when it is none of ours.
	read(e *Engine, conn network.Conn, p *network.Packet) (answer, bool)
	dropped() int
}

// raw sends packets of our own making.
type raw struct{ conn network.Conn }

func (r *raw) conns() []network.Conn { return []network.Conn{r.conn} }
func (r *raw) dropped() int          { return r.conn.Dropped() }

func (r *raw) send(t *tracer, s *shot) (time.Time, error) {
	packet := t.packet(s)
	sent, err := r.conn.Send(netip.AddrPortFrom(t.Addr, 0), packet)
	if err == nil && t.e.o.Sent != nil {
		t.e.o.Sent(sent, packet)
	}
	return sent, err
}

const (
	markSize = 8
	ownSize  = 4 + markSize // a number, what balances it, and the mark
)

// mark is what the probes of a trace carry for us to know them by.
func (t *tracer) mark() uint64 { return t.e.mark ^ uint64(t.secret)<<16 ^ uint64(t.id) }

// byMark finds a trace by its mark, whose lower bits are its identifier; nil when
// there is none.
func (e *Engine) byMark(mark uint64) *tracer {
	if t := e.traces[uint16(mark^e.mark)]; t != nil && t.mark() == mark {
		return t
	}
	return nil
}

// word differs by flow, and so makes the checksum of ICMP differ.
func (t *tracer) word(flow int) uint16 { return uint16(t.secret) + uint16(flow)*0x9e35 }

// label is the IPv6 flow label of a flow, 20 bits.
func (t *tracer) label(flow int) uint32 { return (t.secret>>8 ^ uint32(flow)*0x9e3779b1>>9) & 0xfffff }

func (t *tracer) port(flow int) uint16 {
	return firstPort + uint16((int(t.firstPort)+flow)%ports)
}

func (t *tracer) flowOf(port uint16) int {
	return ((int(port)-firstPort-int(t.firstPort))%ports + ports) % ports
}

// body is what a probe carries behind its transport header: its number, beside
// two bytes that together with it always sum up to the same, so that the
// checksum stays the same within a flow; and the mark.
func (t *tracer) body(s *shot, header int) []byte {
	size := t.Payload
	if s.size > 0 {
		size = s.size - header
	}
	b := make([]byte, max(size, ownSize))
	binary.BigEndian.PutUint16(b, s.number)
	binary.BigEndian.PutUint16(b[2:], ^s.number)
	binary.BigEndian.PutUint64(b[4:], t.mark())
	return b
}

// packet is a probe as a whole packet.
func (t *tracer) packet(s *shot) []byte {
	h := wire.IP{Src: t.hop.Source, Dst: t.Addr.WithZone("").Unmap(), TTL: uint8(s.ttl), TrafficClass: t.DSCP << 2, ID: s.number, DontFragment: true}
	ip := wire.IPv4HeaderSize
	if h.Family() == wire.IPv6 {
		h.FlowLabel, ip = t.label(s.flow), wire.IPv6HeaderSize
	}
	switch t.Via.Kind {
	case reading.ByUDP:
		h.Protocol = wire.ProtocolUDP
		return h.Marshal(wire.UDP{SrcPort: t.port(s.flow), DstPort: t.Via.Port, Payload: t.body(s, ip+wire.UDPHeaderSize)}.Marshal(h.Src, h.Dst))
	case reading.ByTCP:
		h.Protocol = wire.ProtocolTCP
		// The number stands in the sequence number, beside what balances it.
		syn := wire.TCP{SrcPort: t.port(s.flow), DstPort: t.Via.Port, Seq: uint32(s.number)<<16 | uint32(^s.number), Flags: wire.SYN, Window: 65535}
		return h.Marshal(syn.Marshal(h.Src, h.Dst))
	}
	h.Protocol = wire.ICMPOf(h.Family())
	body := t.body(s, ip+8)
	binary.BigEndian.PutUint16(body, t.word(s.flow))
	binary.BigEndian.PutUint16(body[2:], ^s.number)
	echo := wire.Echo{ID: t.id, Seq: s.number, Payload: body}.Marshal(h.Family())
	if h.Family() == wire.IPv6 {
		echo[2], echo[3] = 0, 0
		binary.BigEndian.PutUint16(echo[2:], wire.TransportChecksum(h.Src, h.Dst, wire.ProtocolICMPv6, echo))
	}
	return h.Marshal(echo)
}

// read tells what a packet is about.
func (r *raw) read(e *Engine, _ network.Conn, p *network.Packet) (answer, bool) {
	if p.Event == network.Departure {
		return e.departure(p.Data)
	}
	if p.Event != network.Answer {
		return answer{}, false
	}
	f := wire.FamilyOf(p.Peer)
	var a answer
	ok := false
	switch p.Protocol {
	case wire.ICMPOf(f):
		if len(p.Data) > 0 && (p.Data[0] == 0 || p.Data[0] == 129) {
			a, ok = e.echoed(f, p)
		} else {
			a, ok = e.refused(f, p)
		}
	case wire.ProtocolTCP:
		a, ok = e.opened(p)
	case wire.ProtocolUDP:
		a, ok = e.datagram(p)
	}
	if ok && a.shot != nil && e.o.Came != nil {
		a.packet = wire.IP{Src: p.Peer.WithZone(""), Dst: a.shot.of.hop.Source, Protocol: p.Protocol, TTL: uint8(p.TTL)}.Marshal(p.Data)
	}
	return a, ok
}

// departure finds the probe that the kernel says has left.
func (e *Engine) departure(b []byte) (answer, bool) {
	if len(b) < wire.IPv4HeaderSize {
		return answer{}, false
	}
	var to netip.Addr
	var protocol uint8
	header := wire.IPv4HeaderSize
	if b[0]>>4 == 6 {
		if len(b) < wire.IPv6HeaderSize {
			return answer{}, false
		}
		header, protocol, to = wire.IPv6HeaderSize, b[6], netip.AddrFrom16([16]byte(b[24:40]))
	} else {
		protocol, to = b[9], netip.AddrFrom4([4]byte(b[16:20]))
	}
	t, s := e.sentBy(protocol, to, b[header:])
	return answer{shot: s}, t != nil && s != nil
}

// sentBy finds the trace and the probe that the first eight bytes, or more, of a
// transport message are of. The trace alone is found when it has no such probe.
func (e *Engine) sentBy(protocol uint8, to netip.Addr, b []byte) (*tracer, *shot) {
	if len(b) < 8 {
		return nil, nil
	}
	switch protocol {
	case wire.ProtocolICMP, wire.ProtocolICMPv6:
		if b[0] != 8 && b[0] != 128 || b[1] != 0 {
			return nil, nil
		}
		t := e.traces[binary.BigEndian.Uint16(b[4:])]
		if t == nil || t.Via.Kind != reading.ByICMP {
			return nil, nil
		}
		s := t.shots[binary.BigEndian.Uint16(b[6:])]
		if s != nil && len(b) >= 8+ownSize && (binary.BigEndian.Uint64(b[12:]) != t.mark() || binary.BigEndian.Uint16(b[8:]) != t.word(s.flow) || binary.BigEndian.Uint16(b[10:]) != ^s.number) {
			s = nil
		}
		return t, s
	case wire.ProtocolTCP:
		number := binary.BigEndian.Uint16(b[4:])
		return e.among(to, b, reading.ByTCP, func(t *tracer) *shot {
			if binary.BigEndian.Uint16(b[6:]) != ^number {
				return nil
			}
			return t.shots[number]
		})
	case wire.ProtocolUDP:
		return e.among(to, b, reading.ByUDP, func(t *tracer) *shot {
			if len(b) < 8+ownSize {
				return nil // the caller knows it by the header's identification
			}
			number := binary.BigEndian.Uint16(b[8:])
			if binary.BigEndian.Uint16(b[10:]) != ^number || binary.BigEndian.Uint64(b[12:]) != t.mark() {
				return nil
			}
			return t.shots[number]
		})
	}
	return nil, nil
}

// among finds which of the traces that use a port has the probe.
func (e *Engine) among(to netip.Addr, b []byte, kind reading.Kind, which func(*tracer) *shot) (*tracer, *shot) {
	from, port := binary.BigEndian.Uint16(b), binary.BigEndian.Uint16(b[2:])
	var own *tracer
	for _, t := range e.byFlow[flowKey{to, from}] {
		if t.Via.Kind != kind || t.Via.Port != port {
			continue
		}
		own = t
		if s := which(t); s != nil && t.port(s.flow) == from {
			return t, s
		}
	}
	return own, nil
}

// refused reads an ICMP error.
func (e *Engine) refused(f wire.Family, p *network.Packet) (answer, bool) {
	problem, err := wire.ParseICMPError(f, p.Data)
	if err != nil {
		return answer{}, false
	}
	q, _, err := wire.ParseQuoted(problem.Quoted)
	if err != nil || q.HeaderSize > len(problem.Quoted) || q.FragmentOffset > 0 || q.Family() != f {
		return answer{}, false
	}
	b := problem.Quoted[q.HeaderSize:]
	t, s := e.sentBy(q.Protocol, q.Dst, b)
	switch {
	case t == nil && s == nil:
		if t, s = e.rewritten(q, b); s == nil {
			return answer{}, false
		}
	case s == nil && q.Protocol == wire.ProtocolUDP && len(b) < 8+ownSize && f == wire.IPv4:
		// Quoted as briefly as RFC 792 lets: the header's identification is left.
		if s = t.shots[q.ID]; s != nil && t.port(s.flow) != binary.BigEndian.Uint16(b) {
			s = nil
		}
	}
	if s == nil {
		return answer{}, true
	}
	// A quote of another target, checksum or source is not of our probe.
	if q.Dst != t.Addr.WithZone("") && len(b) < 8+ownSize {
		return answer{}, true // it may have been rewritten, and nothing says that it is ours
	}
	if q.Dst == t.Addr.WithZone("") && (q.Src != t.hop.Source || q.Protocol == wire.ICMPOf(f) && len(b) >= 8 && !t.sums(s, b)) {
		return answer{}, true
	}
	s.byError = true
	return answer{shot: s, probe: t.describe(f, problem, q, p.Peer)}, true
}

// sums reports whether the checksum in a quoted echo request is that of the
// probe's flow.
func (t *tracer) sums(s *shot, b []byte) bool {
	own := t.packet(s)
	at := wire.IPv4HeaderSize
	if own[0]>>4 == 6 {
		at = wire.IPv6HeaderSize
	}
	return own[at+2] == b[2] && own[at+3] == b[3]
}

// rewritten finds a probe whose target was changed on the way, by the number and the mark
// in what is quoted, which nobody changes who changes addresses and ports.
func (e *Engine) rewritten(q wire.IP, b []byte) (*tracer, *shot) {
	if q.Protocol != wire.ProtocolUDP || len(b) < 8+ownSize {
		return nil, nil
	}
	number, mark := binary.BigEndian.Uint16(b[8:]), binary.BigEndian.Uint64(b[12:])
	if binary.BigEndian.Uint16(b[10:]) != ^number {
		return nil, nil
	}
	if t := e.byMark(mark); t != nil && t.Via.Kind == reading.ByUDP {
		return t, t.shots[number]
	}
	return nil, nil
}

// describe makes the answer of an ICMP error about a probe.
func (t *tracer) describe(f wire.Family, problem wire.ICMPError, q wire.IP, peer netip.Addr) route.Probe {
	peer = peer.WithZone("")
	target := t.Addr.WithZone("")
	p := route.Probe{Addr: peer, MTU: problem.MTU, Quoted: route.Quoted{Known: true, TTL: int(q.TTL), DSCP: int(q.TrafficClass >> 2)}}
	if q.Dst != target {
		p.Quoted.To = q.Dst
	}
	for _, l := range problem.Labels {
		p.Labels = append(p.Labels, route.Label{Value: l.Value, Class: l.Class, TTL: l.TTL})
	}
	if problem.Incoming != nil {
		p.Interface = problem.Incoming.String()
	}
	switch {
	case problem.Is(f, wire.TimeExpired):
		p.Outcome = route.Expired
	case peer == target || problem.Is(f, wire.NoPort) && p.Quoted.To == peer:
		p.Outcome = route.Reached // by refusing, it says that it is there
	default:
		p.Outcome = route.Refused
	}
	if p.Outcome != route.Expired && !problem.Is(f, wire.NoPort) {
		p.Cause = problem.Refusal(f)
	}
	return p
}

// echoed reads an echo reply.
func (e *Engine) echoed(f wire.Family, p *network.Packet) (answer, bool) {
	m, err := wire.ParseICMP(f, p.Data)
	if err != nil || m.Echo == nil || !m.Echo.Reply {
		return answer{}, false
	}
	t := e.traces[m.Echo.ID]
	if t == nil || t.Via.Kind != reading.ByICMP {
		return answer{}, false
	}
	s, b := t.shots[m.Echo.Seq], m.Echo.Payload
	if s == nil || len(b) < ownSize || binary.BigEndian.Uint64(b[4:]) != t.mark() || binary.BigEndian.Uint16(b) != t.word(s.flow) {
		return answer{}, true
	}
	return answer{shot: s, probe: route.Probe{Outcome: route.Reached, Addr: p.Peer.WithZone("")}}, true
}

// opened reads a TCP segment that answers a SYN.
func (e *Engine) opened(p *network.Packet) (answer, bool) {
	segment, err := wire.ParseTCP(p.Data)
	if err != nil || !segment.Has(wire.ACK) {
		return answer{}, false
	}
	seq := segment.Ack - 1
	for _, t := range e.byFlow[flowKey{p.Peer.WithZone(""), segment.DstPort}] {
		if t.Via.Kind != reading.ByTCP || t.Via.Port != segment.SrcPort {
			continue
		}
		number := uint16(seq >> 16)
		s := t.shots[number]
		if s == nil || uint16(seq) != ^number || t.port(s.flow) != segment.DstPort {
			continue
		}
		a := answer{shot: s, probe: route.Probe{Outcome: route.Reached, Addr: p.Peer.WithZone("")}}
		if segment.Has(wire.RST) {
			a.probe.Cause = "connection refused"
		}
		return a, true
	}
	return answer{}, false
}

// datagram reads what a UDP port answers.
func (e *Engine) datagram(p *network.Packet) (answer, bool) {
	u, err := wire.ParseUDP(p.Data)
	if err != nil {
		return answer{}, false
	}
	for _, t := range e.byFlow[flowKey{p.Peer.WithZone(""), u.DstPort}] {
		if t.Via.Kind != reading.ByUDP || t.Via.Port != u.SrcPort {
			continue
		}
		if s := t.saysSo(u.Payload, t.flowOf(u.DstPort)); s != nil {
			return answer{shot: s, probe: route.Probe{Outcome: route.Reached, Addr: p.Peer.WithZone("")}}, true
		}
	}
	return answer{}, false
}

// saysSo is the probe that a datagram from the target answers: one that it echoes,
// else the first of that flow that nothing was heard of and that got there.
func (t *tracer) saysSo(payload []byte, flow int) *shot {
	if len(payload) >= ownSize && binary.BigEndian.Uint64(payload[4:]) == t.mark() {
		return t.shots[binary.BigEndian.Uint16(payload)]
	}
	var best *shot
	for _, s := range t.shots {
		if s.flow == flow && !s.fate && (best == nil || s.ttl > best.ttl || s.ttl == best.ttl && s.sent.Before(best.sent)) {
			best = s
		}
	}
	return best
}
