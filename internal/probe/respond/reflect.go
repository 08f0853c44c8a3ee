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
	r       *Responder
	conn    network.Conn
	sources map[netip.Addr]*budget
	all     budget
	states  map[stateKey]*state
	recent  map[uint16]*state // by session, the last one that sent
	clock   uint16            // the error estimate of this end's clock
	looked  time.Time         // at it
}

// budget lets so many packets through a second.
type budget struct {
	left float64
	at   time.Time
}

type stateKey struct {
	peer    netip.AddrPort
	session uint16
}

// state is what a stateful reflector knows of a session.
type state struct {
	seen     time.Time
	received uint32
	sent     uint32
	last     wire.FollowUp
	asked    wire.StampRequest // the last one
}

const (
	mostSources  = 4096
	mostStates   = 4096
	leastReflect = 41 // bytes of a TWAMP-Light packet (RFC 8762 §4.6)
)

func newReflector(r *Responder, conn network.Conn) *reflector {
	return &reflector{r: r, conn: conn, sources: map[netip.Addr]*budget{}, states: map[stateKey]*state{}, recent: map[uint16]*state{}}
}

// take reports whether one packet may go.
func (b *budget) take(now time.Time, rate int) bool {
	if b.at.IsZero() {
		b.left = float64(rate)
	} else {
		b.left = min(float64(rate), b.left+now.Sub(b.at).Seconds()*float64(rate))
	}
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

func (f *reflector) allowed(a netip.Addr, now time.Time) bool {
	limits := f.r.o.Limits
	if limits.Reflect <= 0 {
		return false
	}
	b := f.sources[a]
	if b == nil {
		if len(f.sources) >= mostSources {
			for old, x := range f.sources {
				if now.Sub(x.at) > time.Second {
					delete(f.sources, old)
				}
			}
			if len(f.sources) >= mostSources {
				return false
			}
		}
		b = &budget{}
		f.sources[a] = b
	}
	return b.take(now, limits.Reflect) && f.all.take(now, limits.ReflectAll)
}

// take reflects a packet, if it is one to reflect.
func (f *reflector) take(p *network.Packet) {
	o, now := f.r.o, f.r.o.Network.Clock().Now()
	size := len(p.Data)
	if size < leastReflect || !f.allowed(p.Peer, now) {
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
	s := f.state(stateKey{peer, q.Session}, now)
	reply := wire.StampReply{Seq: q.Seq, Error: f.accuracy(), Session: q.Session, Received: o.Wall(at), Request: q, SenderTTL: uint8(p.TTL)}
	if s != nil {
		s.received++
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

// state is what is known of a session; nil for a stateless reflector, or when there are
// too many.
func (f *reflector) state(k stateKey, now time.Time) *state {
	if f.r.o.Stateless {
		return nil
	}
	s := f.states[k]
	if s == nil {
		if len(f.states) >= mostStates {
			for old, x := range f.states {
				if now.Sub(x.seen) > time.Minute {
					delete(f.states, old)
				}
			}
			if len(f.states) >= mostStates {
				return nil
			}
		}
		s = &state{}
		f.states[k] = s
	}
	s.seen = now
	return s
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
