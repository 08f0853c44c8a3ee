package respond

import (
	"encoding/binary"
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
	synced  bool
	looked  time.Time // at the clock
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
		f.recent[q.Session] = s
		reply.Seq = s.sent
		s.sent++
	}
	reply.Sent = o.Wall(f.r.o.Network.Clock().Now())
	var out []byte
	base := wire.StampSize
	if authenticated {
		out, base = reply.MarshalAuth(size, o.StampKey), wire.StampAuthSize
	} else {
		out = reply.Marshal(size)
	}
	if size > base {
		f.extend(out[base:], b[base:], p, s, peer)
	}
	_, _ = f.conn.Send(peer, out[:size])
}

// accuracy is the error estimate of this end's clock.
func (f *reflector) accuracy() uint16 {
	if now := time.Now(); now.Sub(f.looked) > time.Second {
		f.synced, f.looked = f.r.o.End().Clock.Synchronised, now
	}
	if f.synced {
		return wire.StampInStep
	}
	return wire.StampFree
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

// extend fills the TLVs of a request in for the answer, each at its place and of its
// size; those it does not know it marks so (RFC 8972 §4).
func (f *reflector) extend(out, in []byte, p *network.Packet, s *state, peer netip.AddrPort) {
	copy(out, in)
	for len(out) >= 4 && (out[0] != 0 || out[1] != 0) {
		n := int(binary.BigEndian.Uint16(out[2:]))
		if len(out) < 4+n {
			out[0] |= wire.TLVMalformed
			return
		}
		out[0] &^= wire.TLVUnrecognised
		value := out[4 : 4+n]
		fill := func(t wire.TLV) {
			if len(t.Value) == n {
				copy(value, t.Value)
				return
			}
			out[0] |= wire.TLVMalformed
		}
		switch out[1] {
		case wire.TLVPadding:
		case wire.TLVTimestamp:
			info := wire.TimestampInfo{SyncIn: wire.SyncLocal, SyncOut: wire.SyncLocal, MethodIn: wire.StampSoft, MethodOut: wire.StampSoft}
			if f.synced {
				info.SyncIn, info.SyncOut = wire.SyncNTP, wire.SyncNTP
			}
			fill(info.TLV())
		case wire.TLVClass:
			asked, err := wire.ParseClass(wire.TLV{Value: value})
			if err != nil {
				out[0] |= wire.TLVMalformed
				break
			}
			// The answer leaves with the DSCP of the socket: what was asked for is
			// not granted unless it is that.
			asked.Received, asked.Refused = p.DSCP.Value, asked.Asked != 0
			fill(asked.TLV())
		case wire.TLVDirect:
			if s == nil {
				out[0] |= wire.TLVUnrecognised
				break
			}
			asked, _ := wire.ParseDirect(wire.TLV{Value: value})
			asked.ReflectorReceived, asked.ReflectorSent = s.received, s.sent
			fill(asked.TLV())
		case wire.TLVFollowUp:
			if s == nil {
				out[0] |= wire.TLVUnrecognised
				break
			}
			fill(s.last.TLV())
		case wire.TLVLocation:
			if f.r.o.Listen.Addr().IsUnspecified() {
				out[0] |= wire.TLVUnrecognised // by which of its addresses it came is not known
				break
			}
			fill(wire.Location{Source: peer, Destination: f.r.o.Listen}.TLV())
		default:
			out[0] |= wire.TLVUnrecognised
		}
		out = out[4+n:]
	}
}

// departed takes when an answer really left, for the next one to tell.
func (f *reflector) departed(p *network.Packet) {
	if p.Event != network.Departure || p.At.IsZero() {
		return
	}
	r, err := wire.ParseStampReply(p.Data)
	if err != nil {
		return
	}
	if s := f.recent[r.Session]; s != nil && s.sent == r.Seq+1 {
		s.last = wire.FollowUp{Seq: r.Seq, Sent: f.r.o.Wall(p.At), Method: wire.StampSoft}
	}
}
