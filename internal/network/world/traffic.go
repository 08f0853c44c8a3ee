package world

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// Traffic is all the packets under way in a world, moved from node to node in
// order of time, so that they meet in the queues. It knows no clock: Advance
// says how far time has come. It is for one goroutine at a time.
type Traffic struct {
	m     *Model
	c     *conditions
	queue agenda
	made  uint64
	hands []Hand    // by node
	zero  time.Time // nanos count from here
	base  int64
	spare []*packet
	over  uint64
	// seen counts packets by their bytes where fates belong to packets alone; nil where
	// they belong to packets at their times.
	seen map[uint64]uint64
}

// What a Traffic holds at most; packets beyond that vanish, and are counted.
const (
	mostUnderWay = 200_000
	mostSpare    = 4096
	spareRoom    = 16 << 10 // bytes; larger ones are not kept for the next
)

// Hand takes a packet that has arrived at a node. It is valid until the function
// returns. It must not call the Traffic other than by Send. When it returns
// false the world answers for the node.
type Hand func(packet []byte, at time.Time) bool

// packet is a whole packet under way.
type packet struct {
	parcel
	bytes []byte
	shape shape
}

// Traffic returns an empty network. Times near start keep its monotonic clock.
func (m *Model) Traffic(start time.Time) *Traffic {
	return &Traffic{m: m, c: newConditions(m), hands: make([]Hand, len(m.nodes)), zero: start, base: start.UnixNano()}
}

func (t *Traffic) nanos(at time.Time) int64      { return t.base + int64(at.Sub(t.zero)) }
func (t *Traffic) instant(nanos int64) time.Time { return t.zero.Add(time.Duration(nanos - t.base)) }

// Attach gives what arrives at a node to a function; nil detaches it.
func (t *Traffic) Attach(node int, hand Hand) { t.hands[node] = hand }

// Send lets a node send a whole IP packet at a time, which must not be before
// what was last advanced to. The bytes are copied. Packets that are malformed
// are refused with an error that wraps wire.ErrPacket.
func (t *Traffic) Send(node int, bytes []byte, at time.Time) error {
	return t.send(int32(node), bytes, t.nanos(at))
}

func (t *Traffic) send(node int32, bytes []byte, at int64) error {
	h, payload, err := wire.ParseIP(bytes)
	if err != nil {
		return fmt.Errorf("send from %s: %w", t.m.nodes[node].Name, err)
	}
	if h.Dst.IsMulticast() || h.Dst == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return nil // there is nobody to share it with on a link of two
	}
	if len(t.queue) >= mostUnderWay {
		t.over++
		return nil
	}
	p := t.blank(h.Size)
	copy(p.bytes, bytes)
	target, own := t.m.Owner(h.Dst)
	p.shape = shapeOf(h, payload)
	p.parcel = parcel{dst: h.Dst, target: int32(target), own: own, origin: node, size: h.Size, ttl: int(h.TTL),
		whole: h.DontFragment, flow: p.shape.flow(h), number: t.number(p.bytes, node, at)}
	t.push(at, node, p)
	return nil
}

// ByPacket lets single fates follow from the seed, the packet and how often the same one
// was sent before, not from the time: for virtual time, in which the same test meets the
// same fates whenever it is said to begin.
func (t *Traffic) ByPacket() *Traffic {
	t.seen = map[uint64]uint64{}
	return t
}

// mostSeen is how many packets are told apart before counting begins anew.
const mostSeen = 1 << 20

// number is what a packet's fates are drawn by.
func (t *Traffic) number(bytes []byte, node int32, at int64) uint64 {
	own := identity(bytes)
	if t.seen == nil {
		return own ^ link.Mix(t.m.seed^uint64(at)^uint64(node)<<48)
	}
	if len(t.seen) > mostSeen {
		clear(t.seen)
	}
	times := t.seen[own]
	t.seen[own] = times + 1
	return own ^ link.Mix(t.m.seed^times^uint64(node)<<48)
}

// blank takes a packet from those that are done with.
func (t *Traffic) blank(size int) *packet {
	var p *packet
	if n := len(t.spare); n > 0 {
		p, t.spare = t.spare[n-1], t.spare[:n-1]
	} else {
		p = &packet{bytes: make([]byte, 0, 2048)}
	}
	if cap(p.bytes) < size {
		p.bytes = make([]byte, size)
	}
	p.bytes = p.bytes[:size]
	return p
}

func (t *Traffic) done(p *packet) {
	if len(t.spare) < mostSpare && cap(p.bytes) <= spareRoom {
		t.spare = append(t.spare, p)
	}
}

// identity tells packets apart by what they hold.
func identity(b []byte) uint64 {
	h := uint64(len(b))
	for i := 0; i+8 <= len(b) && i < 64; i += 8 {
		h = link.Mix(h ^ binary.LittleEndian.Uint64(b[i:]))
	}
	if n := len(b); n >= 8 {
		h = link.Mix(h ^ binary.LittleEndian.Uint64(b[n-8:]))
	}
	return h
}

// Next is when something happens next; false when nothing is under way.
func (t *Traffic) Next() (time.Time, bool) {
	if len(t.queue) == 0 {
		return time.Time{}, false
	}
	return t.instant(t.queue[0].at), true
}

// NextArrives reports whether what happens next is that a packet reaches its
// end: only then does it matter to somebody outside that it happens on time.
func (t *Traffic) NextArrives() bool {
	return len(t.queue) > 0 && t.queue[0].node == t.queue[0].packet.target
}

// Advance moves all packets as far as they get by a time, and hands over those
// that arrive.
func (t *Traffic) Advance(until time.Time) {
	limit := t.nanos(until)
	for len(t.queue) > 0 && t.queue[0].at <= limit {
		e := t.queue.pop()
		t.c.settle(e.at)
		t.step(e)
	}
}

func (t *Traffic) push(at int64, node int32, p *packet) {
	t.made++
	t.queue.push(event{at: at, order: t.made, node: node, packet: p})
}

func (t *Traffic) step(e event) {
	p := e.packet
	if e.arrives {
		if !t.hand(p, e.node, e.at) {
			t.answer(p, e.node, e.at)
		}
		t.done(p)
		return
	}
	before := p.ttl
	m := t.c.move(&p.parcel, e.node, e.at)
	if p.ttl < before && p.ttl > 0 {
		wire.DecrementTTL(p.bytes)
	}
	switch m.step {
	case onward:
		if m.again > 0 {
			second := t.blank(p.size)
			second.parcel, second.shape = p.parcel, p.shape
			copy(second.bytes, p.bytes)
			second.number = link.Mix(p.number)
			t.push(m.again, m.node, second)
		}
		t.push(m.at, m.node, p)
		return
	case arrived:
		if t.arrive(p, e.node, e.at) {
			return
		}
	case refused:
		t.refuse(p, e.node, m)
	}
	t.done(p)
}

// refuse sends an ICMP error about a packet back from a node.
func (t *Traffic) refuse(p *packet, node int32, m move) {
	s := &t.c.nodes[node]
	if p.shape.isError || p.shape.later || s.silent {
		return // RFC 1122 §3.2.2: no errors about errors or later fragments
	}
	h, _, err := wire.ParseIP(p.bytes)
	if err != nil || h.Src.IsUnspecified() {
		return
	}
	f := h.Family()
	from, ok := t.m.nodes[node].Addr(f)
	for _, a := range s.answerFrom {
		if wire.FamilyOf(a) == f {
			from, ok = a, true
		}
	}
	if !ok || !t.c.allows(node, m.at) {
		return
	}
	e := wire.NewICMPError(f, m.kind, p.bytes)
	e.MTU = m.mtu
	if m.kind == wire.TimeExpired {
		e.Labels = s.labels
	}
	t.own(node, wire.IP{Src: from, Dst: h.Src, Protocol: wire.ICMPOf(f), TTL: 64, TrafficClass: 0xc0}, e.Marshal(from, h.Src), t.c.answerAt(node, p.number, m.at))
}

// own sends a packet of the world's own from a node.
func (t *Traffic) own(node int32, h wire.IP, payload []byte, at int64) {
	h.ID = uint16(link.Mix(t.made))
	_ = t.send(node, h.Marshal(payload), at)
}

// Overflow is how many packets vanished because too many were under way.
func (t *Traffic) Overflow() uint64 { return t.over }

// Passing is what crosses one direction of a link.
type Passing struct {
	Direction
	link.Tally
	Backlog time.Duration // that measured packets wait now
}

// Passing lists all directions at a time.
func (t *Traffic) Passing(at time.Time) []Passing {
	nanos := t.nanos(at)
	t.c.settle(nanos)
	out := make([]Passing, len(t.m.links))
	for i, l := range t.m.links {
		out[i] = Passing{Direction{l.name, l.from, l.to, t.c.links[i]}, t.c.passed[i].Tally, t.c.passed[i].Backlog(nanos)}
	}
	return out
}

// event is a packet that comes to a node at a time.
type event struct {
	at      int64
	order   uint64
	node    int32
	arrives bool // it was on its way through the host itself
	packet  *packet
}

// agenda is a heap of events, the next first.
type agenda []event

func (a agenda) before(i, j int) bool {
	return a[i].at < a[j].at || a[i].at == a[j].at && a[i].order < a[j].order
}

func (a *agenda) push(e event) {
	*a = append(*a, e)
	q := *a
	for i := len(q) - 1; i > 0; {
		up := (i - 1) / 2
		if !q.before(i, up) {
			return
		}
		q[i], q[up] = q[up], q[i]
		i = up
	}
}

func (a *agenda) pop() event {
	q := *a
	first := q[0]
	last := len(q) - 1
	q[0] = q[last]
	q[last] = event{}
	q = q[:last]
	*a = q
	for i := 0; ; {
		least := i
		for child := 2*i + 1; child <= 2*i+2 && child < last; child++ {
			if q.before(child, least) {
				least = child
			}
		}
		if least == i {
			return first
		}
		q[i], q[least] = q[least], q[i]
		i = least
	}
}

// Never is a time after all others.
var Never = time.Unix(0, math.MaxInt64)
