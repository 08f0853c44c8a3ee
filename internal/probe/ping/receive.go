package ping

import (
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// receive is the loop over what comes in at one socket.
func (e *Engine) receive(f wire.Family, conn network.Conn) error {
	packets := make([]network.Packet, 64)
	for {
		n, err := conn.Receive(packets)
		if err != nil {
			return err
		}
		e.mu.Lock()
		for _, p := range packets[:n] {
			e.take(f, conn, p)
		}
		e.mu.Unlock()
	}
}

// take matches one event with the probe that it belongs to.
func (e *Engine) take(family wire.Family, conn network.Conn, p network.Packet) {
	m, err := wire.ParseICMP(family, p.Data)
	if p.Event == network.Departure {
		// The copy that the kernel returns may lack the checksum.
		if len(p.Data) >= 8+MinPayload {
			if number, err := numberOf(e.mark, p.Data[8:]); err == nil {
				if f := e.inFlight[number]; f != nil {
					f.departed = p.At
				}
			}
		}
		return
	}
	if err != nil {
		return
	}
	switch {
	case p.Event == network.Refusal && m.Echo != nil:
		if number, err := numberOf(e.mark, m.Echo.Payload); err == nil {
			e.refused(e.inFlight[number], conn, p, p.Cause)
		}
	case m.Echo != nil && m.Echo.Reply:
		if number, err := numberOf(e.mark, m.Echo.Payload); err == nil {
			e.answered(e.inFlight[number], conn, p)
		}
	case m.Quoted != nil:
		e.refused(e.quoted(conn, m.Quoted), conn, p, m.Refusal+" by "+p.Peer.String())
	}
}

// quoted finds the probe that an error quotes: by its payload when that is
// long enough, else by identifier, sequence number and destination.
func (e *Engine) quoted(conn network.Conn, q *wire.Quote) *flightOf {
	if len(q.Payload) >= MinPayload {
		number, err := numberOf(e.mark, q.Payload)
		if err != nil {
			return nil
		}
		return e.inFlight[number]
	}
	for number, f := range e.inFlight {
		if uint16(number) == q.Seq && (conn.FixedID() || uint16(number>>16) == q.ID) && f.aim.Addr == q.To {
			return f
		}
	}
	return nil
}

func (e *Engine) answered(f *flightOf, conn network.Conn, p network.Packet) {
	if f == nil || f.aim.stopped || p.Peer != f.aim.Addr.WithZone("") && p.Peer != f.aim.Addr {
		return
	}
	if f.probe.Outcome == reading.Answered || f.probe.Outcome == reading.Late {
		f.probe.Copies++
		return
	}
	f.probe.RTT, f.probe.Stamp = roundTrip(f.flight, conn, p)
	f.probe.TTL = p.TTL
	f.probe.Outcome = reading.Answered
	if f.probe.RTT > f.aim.Wait {
		f.probe.Outcome = reading.Late
	}
	e.heardOf(f)
}

func (e *Engine) refused(f *flightOf, conn network.Conn, p network.Packet, cause string) {
	if f == nil || f.aim.stopped || f.probe.Outcome != reading.Lost {
		return
	}
	f.probe.RTT, f.probe.Stamp = roundTrip(f.flight, conn, p)
	f.probe.Outcome, f.probe.Cause = reading.Refused, cause
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
// agree with the monotonic clock, which bounds them from above.
func roundTrip(f *flight, conn network.Conn, p network.Packet) (time.Duration, reading.Stamp) {
	if conn.Exact() {
		return p.At.Sub(f.sent), reading.StampWorld
	}
	user := p.Seen.Sub(f.sent)
	if !f.departed.IsZero() && !p.At.IsZero() {
		if kernel := p.At.Sub(f.departed); kernel >= 0 && kernel <= user+50*time.Microsecond {
			return kernel, reading.StampKernel
		}
	}
	return user, reading.StampUser
}
