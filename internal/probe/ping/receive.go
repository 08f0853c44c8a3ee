package ping

import (
	"encoding/binary"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// receive is the loop over what comes in at one connection.
func (e *Engine) receive(w way, conn network.Conn) error {
	packets := make([]network.Packet, 128)
	for {
		n, err := conn.Receive(packets)
		if err != nil {
			return err
		}
		e.mu.Lock()
		for i := range packets[:n] {
			switch p := &packets[i]; p.Event {
			case network.Departure:
				e.departed(w, p)
			case network.Refusal:
				e.refused(e.refusedProbe(w, conn, p), conn, p)
			default:
				e.answer(w, conn, p)
			}
		}
		e.mu.Unlock()
	}
}

// departed keeps when a probe left. The copy that the kernel returns may lack
// the checksum.
func (e *Engine) departed(w way, p *network.Packet) {
	const header = 8
	b := p.Data
	if w.kind == network.ICMP {
		if len(b) < header {
			return
		}
		b = b[header:]
	}
	number, ours, _ := numberOf(e.mark, b)
	if !ours && w.kind == network.UDP {
		if seq, session, err := wire.StampIdentity(b, e.key != nil); err == nil && session == uint16(e.mark) {
			number, ours = e.whole(seq), true
		}
	}
	if f := e.inFlight[number]; ours && f != nil {
		f.departed = p.At
	}
}

// whole completes the lower half of a probe's number.
func (e *Engine) whole(low uint32) uint64 {
	number := e.number&^0xffffffff | uint64(low)
	if number > e.number && number >= 1<<32 {
		number -= 1 << 32
	}
	return number
}

// answer matches what came in with the probe that it answers.
func (e *Engine) answer(w way, conn network.Conn, p *network.Packet) {
	if w.kind == network.ICMP {
		m, err := wire.ParseICMP(w.family, p.Data)
		if err != nil || m.Echo == nil || !m.Echo.Reply {
			return
		}
		if number, ours, whole := numberOf(e.mark, m.Echo.Payload); ours {
			e.answered(e.inFlight[number], conn, p, whole)
		}
		return
	}
	number, ours, whole := numberOf(e.mark, p.Data)
	if ours {
		e.answered(e.inFlight[number], conn, p, whole)
		return
	}
	if r, err := e.stampReply(p.Data); err == nil {
		f := e.inFlight[e.whole(r.Request.Seq)]
		if f != nil && f.aim.Via.Kind == reading.ByStamp && (r.Session == uint16(e.mark) || r.Session == 0) && r.Request.Sent.Equal(f.stamped) {
			f.dwelt = max(0, r.Sent.Sub(r.Received))
			e.answered(f, conn, p, true)
			return
		}
	}
	// A server that does not echo says something of its own: it is there.
	if f := e.oldest(netip.AddrPortFrom(p.Peer, p.Port), reading.ByUDP); f != nil {
		f.probe.As = "a datagram of its own"
		e.answered(f, conn, p, true)
	}
}

func (e *Engine) stampReply(b []byte) (wire.StampReply, error) {
	if e.key != nil {
		return wire.ParseStampReplyAuth(b, e.key)
	}
	return wire.ParseStampReply(b)
}

// oldest is the first probe to a port that nothing was heard of.
func (e *Engine) oldest(to netip.AddrPort, k reading.Kind) *flightOf {
	for a := range e.aims {
		if a.Via.Kind != k && !(k == reading.ByUDP && a.Via.Kind == reading.ByStamp && e.key == nil) || a.Addr != to.Addr() || a.Via.Port != to.Port() {
			continue
		}
		for _, f := range a.flights {
			if !f.heard && f.probe.Outcome == reading.Lost {
				return &flightOf{f, a}
			}
		}
	}
	return nil
}

// refusedProbe finds the probe that an error is about: by its payload when
// enough of that is quoted, else by what else was.
func (e *Engine) refusedProbe(w way, conn network.Conn, p *network.Packet) *flightOf {
	b := p.Data
	if w.kind == network.ICMP {
		if len(b) < 8 || b[0] != 8 && b[0] != 128 {
			return nil
		}
		b = b[8:]
	}
	if number, ours, _ := numberOf(e.mark, b); ours {
		return e.inFlight[number]
	}
	if w.kind != network.ICMP {
		if seq, session, err := wire.StampIdentity(b, e.key != nil); err == nil && session == uint16(e.mark) {
			return e.inFlight[e.whole(seq)]
		}
		return e.oldest(p.To, reading.ByUDP)
	}
	if len(b) >= MinPayload {
		return nil // a message of somebody else
	}
	id, seq := binary.BigEndian.Uint16(p.Data[4:]), binary.BigEndian.Uint16(p.Data[6:])
	for number, f := range e.inFlight {
		if uint16(number) == seq && (conn.FixedID() || uint16(number>>16) == id) && f.aim.Addr == p.To.Addr() && f.aim.Via.Kind == reading.ByICMP {
			return f
		}
	}
	return nil
}

// answered makes a probe answered. An answer from another address than was asked
// counts, and is named: it carries the probe's own mark.
func (e *Engine) answered(f *flightOf, conn network.Conn, p *network.Packet, whole bool) {
	if f == nil || f.aim.stopped {
		return
	}
	if !whole {
		f.probe.Damaged = true
		return
	}
	if f.probe.Outcome == reading.Answered || f.probe.Outcome == reading.Late {
		f.probe.Copies++
		return
	}
	if peer := p.Peer.WithZone(""); peer != f.aim.Addr.WithZone("") {
		f.probe.Peer = peer
	}
	f.probe.RTT, f.probe.Stamp = roundTrip(f.flight, conn, p)
	f.probe.TTL = p.TTL
	f.probe.Damaged = false
	f.probe.Outcome = reading.Answered
	if f.probe.RTT > f.aim.Wait {
		f.probe.Outcome = reading.Late
	}
	if f.number < f.aim.highest {
		f.probe.Overtaken = true
	}
	f.aim.highest = max(f.aim.highest, f.number)
	e.heardOf(f)
}

func (e *Engine) refused(f *flightOf, conn network.Conn, p *network.Packet) {
	if f == nil || f.aim.stopped || f.probe.Outcome != reading.Lost {
		return
	}
	if p.Shut && f.aim.Via.Kind == reading.ByUDP {
		// The target itself says that nothing listens there: it is there, its service not.
		p.Cause = reading.PortRefused + f.aim.Addr.String() + " (port unreachable)"
	}
	f.probe.RTT, f.probe.Stamp = roundTrip(f.flight, conn, p)
	f.probe.Outcome, f.probe.Cause, f.probe.Shut, f.probe.MTU = reading.Refused, p.Cause, p.Shut, p.MTU
	e.heardOf(f)
}

func (e *Engine) heardOf(f *flightOf) {
	first := !f.heard
	f.heard = true
	if first {
		e.hear(f.aim, f.flight)
	}
	if f.aim.finished() {
		e.finish(f.aim)
	}
}

// roundTrip is the time between the best stamps there are. The kernel's are on
// the wall clock, which may be set between the two: they count only when they
// agree with the monotonic clock, which bounds them from above. What a STAMP
// reflector says that it kept the probe is taken out.
func roundTrip(f *flight, conn network.Conn, p *network.Packet) (time.Duration, reading.Stamp) {
	took, stamp := p.Seen.Sub(f.sent), reading.StampUser
	switch {
	case conn.Exact():
		took, stamp = p.At.Sub(f.sent), reading.StampWorld
	case p.Took > 0:
		took, stamp = p.Took, reading.StampKernel
	case !f.departed.IsZero() && !p.At.IsZero():
		if kernel := p.At.Sub(f.departed); kernel >= 0 && kernel <= took+50*time.Microsecond {
			took, stamp = kernel, reading.StampKernel
		}
	}
	if f.dwelt > 0 && f.dwelt < took {
		took -= f.dwelt
	}
	return took, stamp
}
