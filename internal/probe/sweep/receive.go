package sweep

import (
	"encoding/binary"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// receive is the loop over what comes in.
func (s *sweeper) receive(w way, conn network.Conn) error {
	if s.polls(conn) {
		<-s.idle
	}
	packets := make([]network.Packet, 4*mostBatch)
	for {
		n, err := conn.Receive(packets)
		if err != nil {
			return err
		}
		s.takeAll(w, conn, packets[:n])
		select {
		case s.news <- struct{}{}:
		default:
		}
	}
}

// polls reports whether the sender receives as well while it sends: at full
// speed a receiver that has to be woken for each packet would slow it down.
func (s *sweeper) polls(conn network.Conn) bool { return s.Socket.Bulk && !conn.Exact() }

func (s *sweeper) takeAll(w way, conn network.Conn, packets []network.Packet) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range packets {
		s.take(w, conn, &packets[i])
	}
}

// take looks at one event.
func (s *sweeper) take(w way, conn network.Conn, p *network.Packet) {
	b := p.Data
	if w.kind == network.ICMP {
		if len(b) < icmpHeader {
			return
		}
		answer := b[0] == 0 && w.family == wire.IPv4 || b[0] == 129 && w.family == wire.IPv6
		if p.Event == network.Answer && !answer {
			return
		}
		b = b[icmpHeader:]
	}
	if len(b) < messageSize || binary.BigEndian.Uint64(b) != s.Mark {
		return
	}
	place, number := binary.BigEndian.Uint64(b[8:]), binary.BigEndian.Uint64(b[16:])
	by := int(place >> placeBits)
	place &= 1<<placeBits - 1
	var sent *slot
	if !s.untimed {
		sent = s.ring.find(number)
	}
	if place >= s.Space.Len() || by >= len(s.Vias) || sent == nil && !s.untimed {
		return
	}
	switch {
	case p.Event == network.Departure && sent == nil:
	case p.Event == network.Departure:
		sent.departed.Store(int64(p.At.Sub(s.ring.epoch.Round(0))))
	case p.Event == network.Refusal && !p.Shut:
		s.result.Refused[p.Cause]++
	default:
		if w.kind == network.ICMP && w.family == wire.IPv4 && wire.Checksum(p.Data) != 0 {
			return
		}
		s.heard(place, by, sent, conn, p)
	}
}

// heard notes an address that answered.
func (s *sweeper) heard(place uint64, by int, sent *slot, conn network.Conn, p *network.Packet) {
	r := s.found.at(place)
	fresh := r == nil
	if fresh {
		r = s.found.add(place, by)
	}
	if peer := p.Peer.WithZone(""); peer.IsValid() && peer != s.Space.At(place) {
		s.found.others[place] = peer
	}
	if s.Vias[by].Kind == reading.ByTCP {
		if p.Event == network.Answer {
			r.open |= 1 << by
		} else {
			r.shut |= 1 << by
		}
	}
	r.times++
	if p.Took > 0 {
		r.timed(p.Took, reading.StampKernel)
	} else if !s.untimed {
		s.roundTrip(r, sent, conn, p)
	}
	if fresh && s.Heard != nil {
		s.Heard(s.found.host(r, &s.Request))
	}
}

// roughly keeps a round trip whose beginning lies within a span, if that is short
// enough to tell it: a wrong figure would be worse than none.
func roughly(r *record, rtt, within time.Duration) {
	if rtt = max(0, rtt); within <= max(unsure, rtt/10) {
		r.timed(rtt, reading.StampUser)
	}
}

// roundTrip times a host by the best stamps there are; see the ping engine. When
// the answer came before the call that sent the packet had returned, left does.
func (s *sweeper) roundTrip(r *record, sent *slot, conn network.Conn, p *network.Packet) {
	wall := s.ring.epoch.Round(0)
	if departed := sent.departed.Load(); departed != 0 && !p.At.IsZero() {
		if kernel := p.At.Sub(wall) - time.Duration(departed); kernel >= 0 && kernel < s.Wait*10 {
			r.timed(kernel, reading.StampKernel)
			return
		}
	}
	at := sent.sent.Load()
	if at == 0 {
		received := int64(p.At.Sub(wall))
		if p.At.IsZero() {
			received = -int64(p.Seen.Sub(s.ring.epoch))
		}
		sent.received.Store(received)
		if at = sent.sent.Load(); at == 0 {
			return
		}
	}
	if conn.Exact() {
		r.timed(p.At.Sub(s.ring.epoch)-time.Duration(at), reading.StampWorld)
		return
	}
	// Without stamps of departures the moment lies within the call that sent the
	// batch; that of the arrival is the kernel's all the same.
	user := p.Seen.Sub(s.ring.epoch) - time.Duration(at)
	if half := p.At.Sub(wall) - time.Duration(at); !p.At.IsZero() && half <= user {
		user = half
	}
	roughly(r, user, time.Duration(sent.within.Load()))
}

// silent reports whether an address has not answered yet.
func (s *sweeper) silent(place uint64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.found.at(place) == nil
}

// all reports whether there is nothing left to wait for.
func (s *sweeper) all() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return uint64(len(s.found.records)) == s.Space.Len() && len(s.Vias) == 1
}
