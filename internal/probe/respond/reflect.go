package respond

import (
	"net/netip"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// reflector answers STAMP packets (RFC 8762) that belong to no session of ours, one for
// one and never larger than what came. It belongs to one goroutine.
type reflector struct {
	r      *Responder
	conn   network.Conn
	bounds bounds
	states states
	recent map[uint16]*state // by session, the last one that sent
	clock  uint16            // the error estimate of this end's clock
	looked time.Time         // at it
}

// state is what a stateful reflector knows of a session.
type state struct {
	key      stateKey
	seen     time.Time
	known    bool // more than one packet came
	received uint32
	sent     uint32
	last     wire.FollowUp
	asked    wire.StampRequest // the last one
}

const leastReflect = 41 // bytes of a TWAMP-Light packet (RFC 8762 §4.6)

func newReflector(r *Responder, conn network.Conn) *reflector {
	return &reflector{r: r, conn: conn, bounds: newBounds(r.o.Limits.Reflect, r.o.Limits.ReflectAll), recent: map[uint16]*state{}}
}

// couldBeAnAnswer reports whether a packet may be what a reflector sent: two of them would
// answer each other for ever. It comes from the port of reflectors, or ours; or it says
// when its own request was received, and that was when it was sent.
func (f *reflector) couldBeAnAnswer(p *network.Packet) bool {
	if p.Port == wire.StampPort || p.Port == f.r.o.Listen.Port() || p.Port == 0 {
		return true
	}
	if len(p.Data) < leastReflect {
		return false
	}
	b := p.Data
	if len(b) < wire.StampSize {
		b = append(append([]byte{}, b...), make([]byte, wire.StampSize-len(b))...)
	}
	if r, err := wire.ParseStampReply(b); err == nil && r.Sent.Sub(r.Received).Abs() < replySpan {
		return true
	}
	if len(f.r.o.StampKey) > 0 && len(b) >= wire.StampAuthSize {
		if r, err := wire.ParseStampReplyAuth(b, f.r.o.StampKey); err == nil && r.Sent.Sub(r.Received).Abs() < replySpan {
			return true
		}
	}
	return false
}

// replySpan is how long a reflector keeps a packet at most. That the padding of a request
// reads as two times so close is a matter of one in a thousand million.
const replySpan = time.Second

// take reflects a packet, if it is one to reflect.
func (f *reflector) take(p *network.Packet) {
	o, now := f.r.o, f.r.o.Network.Clock().Now()
	size := len(p.Data)
	if size < leastReflect || !f.bounds.allow(p.Peer, now) || f.couldBeAnAnswer(p) {
		return
	}
	b := p.Data
	if size < wire.StampSize { // a TWAMP-Light sender's, without our last three bytes
		b = append(append([]byte{}, b...), make([]byte, wire.StampSize-size)...)
	}
	var q wire.StampRequest
	var err error
	authenticated := false
	if len(o.StampKey) > 0 && size >= wire.StampAuthSize {
		q, err = wire.ParseStampRequestAuth(b, o.StampKey)
		authenticated = err == nil
	}
	if !authenticated {
		if !o.StampOpen {
			return
		}
		if q, err = wire.ParseStampRequest(b); err != nil {
			return
		}
	}
	at := p.At
	if at.IsZero() {
		at = p.Seen
	}
	peer := netip.AddrPortFrom(p.Peer, p.Port)
	var s *state
	if !o.Stateless {
		s = f.states.of(stateKey{peer, q.Session}, now)
	}
	reply := wire.StampReply{Seq: q.Seq, Error: f.accuracy(), Session: q.Session, Received: o.Wall(at), Request: q, SenderTTL: uint8(p.TTL)}
	if s != nil {
		s.received++
		if len(f.recent) > mostStates {
			clear(f.recent)
		}
		f.recent[q.Session], s.asked = s, q
		reply.Seq = s.sent
		s.sent++
	}
	out := make([]byte, size)
	base := wire.StampSize
	if authenticated {
		base = wire.StampAuthSize
	}
	send := func() { _, _ = f.conn.Send(peer, out) }
	if size > base {
		x := extension{f: f, p: p, s: s, peer: peer}
		if authenticated {
			x.key = o.StampKey
		}
		x.fill(out[base:], b[base:], reply.Seq, q.Seq)
		if c, ok := f.conn.(network.Classed); ok && x.asked > 0 {
			send = func() { _, _ = c.SendDSCP(peer, out, x.asked) }
		}
	}
	reply.Sent = o.Wall(o.Network.Clock().Now())
	if authenticated {
		copy(out, reply.MarshalAuth(0, o.StampKey))
	} else {
		copy(out, reply.Marshal(0))
	}
	send()
}

// accuracy is the error estimate of this end's clock.
func (f *reflector) accuracy() uint16 {
	if now := time.Now(); now.Sub(f.looked) > time.Second {
		c := f.r.o.End().Clock
		within := time.Duration(0)
		if c.ErrorMs != nil {
			within = time.Duration(*c.ErrorMs * 1e6)
		}
		f.clock, f.looked = wire.ErrorEstimate(c.Synchronised, within), now
	}
	return f.clock
}

// departed takes when an answer really left, for the next one to tell.
func (f *reflector) departed(p *network.Packet) {
	if p.Event != network.Departure || p.At.IsZero() {
		return
	}
	r, err := wire.ParseStampReplyAuth(p.Data, f.r.o.StampKey)
	if err != nil || len(f.r.o.StampKey) == 0 {
		if r, err = wire.ParseStampReply(p.Data); err != nil {
			return
		}
	}
	// Another peer's session may have the same identifier.
	if s := f.recent[r.Session]; s != nil && s.sent == r.Seq+1 && s.asked.Seq == r.Request.Seq && s.asked.Sent.Equal(r.Request.Sent) {
		s.last = wire.FollowUp{Seq: r.Seq, Sent: f.r.o.Wall(p.At), Method: wire.StampSoft}
	}
}
