package reading

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// packVersion is the first byte of every packed reading. Those of version 2, which took a byte for
// each thing, and of version 1, which knew outcomes, copies, times and stamps only, are still read.
const packVersion = 3

// ErrPacked is returned for bytes that Pack did not write.
var ErrPacked = errors.New("packed probes are damaged")

// leastLate is from when on it is kept how late a probe left.
const leastLate = 100 * time.Microsecond

// What is packed beside a probe's head, when its head says that there is more.
const (
	moreLate = 1 << iota
	moreTTL
	moreCause
	moreAs
	morePeer
	moreMTU
	moreNumber
	isOvertaken
	isShut
	isDamaged
)

const (
	headMore   = 1 << 3
	copiesFrom = 4       // bits of the head below the copies
	mostCopies = 1 << 20 // of one answer
	mostText   = 1 << 10 // bytes of a cause
)

// PackSecond packs probes in version 2, for who knows no newer one: a few bytes each, and nothing is
// left out. at is the reading's beginning. Layout: version; then for each probe a head varint (outcome
// in the low 3 bits, whether there is more, copies above), the zigzag varint of the change of its due
// time against an even spacing, and, when it has a round-trip time, the stamp and the zigzag varint of
// the change of that time since the one before. More is a varint of which things follow: lateness in
// µs, TTL of the answer (when it is another than that of the answer before), cause, how it was
// answered, who answered, what fits, its number (when it is not the next), and marks. Texts that were
// there before are named by their place among the texts.
func PackSecond(at time.Time, probes []Probe) []byte {
	p := packer{out: make([]byte, 1, 1+6*len(probes)), texts: map[string]int{}, number: -1}
	p.out[0] = 2
	due, step, rtt := int64(0), int64(0), int64(0)
	for _, x := range probes {
		more := p.more(x)
		head := uint64(x.Copies)<<copiesFrom | uint64(x.Outcome)
		if more != 0 {
			head |= headMore
		}
		p.uint(head)
		offset := x.DueAt.Sub(at).Nanoseconds()
		p.out = binary.AppendVarint(p.out, offset-due-step)
		step, due = offset-due, offset
		if x.hasRTT() {
			p.out = append(p.out, byte(x.Stamp))
			p.out = binary.AppendVarint(p.out, int64(x.RTT)-rtt)
			rtt = int64(x.RTT)
		}
		if more != 0 {
			p.rest(x, more)
		}
		p.number = x.Number
	}
	return p.out
}

// packer is what is known of the probes so far.
type packer struct {
	out    []byte
	texts  map[string]int
	ttl    int // of the last answer
	number int
}

// PackFirst packs probes in version 1, for who knows no other: times, outcomes, copies and
// stamps. What else is known of a probe is not in it.
func PackFirst(at time.Time, probes []Probe) []byte {
	p := packer{out: append(make([]byte, 0, 1+6*len(probes)), 1)}
	due, step, rtt := int64(0), int64(0), int64(0)
	for _, x := range probes {
		p.uint(uint64(x.Copies)<<3 | uint64(x.Outcome))
		offset := x.DueAt.Sub(at).Nanoseconds()
		p.out = binary.AppendVarint(p.out, offset-due-step)
		step, due = offset-due, offset
		if x.hasRTT() {
			p.out = append(p.out, byte(x.Stamp))
			p.out = binary.AppendVarint(p.out, int64(x.RTT)-rtt)
			rtt = int64(x.RTT)
		}
	}
	return p.out
}

func (p *packer) uint(v uint64) { p.out = binary.AppendUvarint(p.out, v) }

// usualTTL is what a probe's TTL is when nothing is said of it.
func usualTTL(x Probe, last int) int {
	if x.hasRTT() {
		return last
	}
	return 0
}

// more says what is to be said of a probe.
func (p *packer) more(x Probe) (more uint64) {
	set := func(bit uint64, is bool) {
		if is {
			more |= bit
		}
	}
	set(moreLate, x.SentLate >= leastLate)
	set(moreTTL, x.TTL != usualTTL(x, p.ttl))
	set(moreCause, x.Cause != "")
	set(moreAs, x.As != "")
	set(morePeer, x.Peer.IsValid())
	set(moreMTU, x.MTU > 0)
	set(moreNumber, x.Number != p.number+1)
	set(isOvertaken, x.Overtaken)
	set(isShut, x.Shut)
	set(isDamaged, x.Damaged)
	return more
}

// rest writes that.
func (p *packer) rest(x Probe, more uint64) {
	p.uint(more)
	if more&moreLate != 0 {
		p.uint(uint64((x.SentLate + time.Microsecond - 1).Microseconds())) // so that late stays late
	}
	if more&moreTTL != 0 {
		p.uint(uint64(max(0, x.TTL)))
	}
	if x.hasRTT() {
		p.ttl = x.TTL
	}
	for _, t := range []struct {
		bit  uint64
		text string
	}{{moreCause, x.Cause}, {moreAs, x.As}, {morePeer, x.Peer.String()}} {
		if more&t.bit != 0 {
			p.text(t.text)
		}
	}
	if more&moreMTU != 0 {
		p.uint(uint64(x.MTU))
	}
	if more&moreNumber != 0 {
		p.out = binary.AppendVarint(p.out, int64(x.Number-p.number))
	}
}

// text writes a text: its place when it was there, else 0, its length and itself.
func (p *packer) text(s string) {
	if len(s) > mostText {
		s = s[:mostText]
	}
	if place, was := p.texts[s]; was {
		p.uint(uint64(place))
		return
	}
	p.texts[s] = len(p.texts) + 1
	p.uint(0)
	p.uint(uint64(len(s)))
	p.out = append(p.out, s...)
}

func (p Probe) hasRTT() bool {
	return p.Outcome == Answered || p.Outcome == Late || p.Outcome == Refused
}

// Unpack reads what Pack wrote, and what earlier releases did. It returns an error that wraps
// ErrPacked when the bytes are cut short or were not written by Pack.
func Unpack(at time.Time, packed []byte) ([]Probe, error) { return UnpackInto(nil, at, packed) }

// UnpackInto is Unpack that uses the room of probes that are not needed any more.
func UnpackInto(room []Probe, at time.Time, packed []byte) ([]Probe, error) {
	if len(packed) == 0 {
		return nil, nil
	}
	if packed[0] < 1 || packed[0] > packVersion {
		return nil, fmt.Errorf("%w: version %d is unknown", ErrPacked, packed[0])
	}
	if packed[0] == packVersion {
		return unpackDense(room, at, packed[1:])
	}
	u := unpacker{in: packed[1:], version: packed[0], number: -1}
	probes := slices.Grow(room[:0], len(u.in)/6)
	due, step, rtt := int64(0), int64(0), int64(0)
	for len(u.in) > 0 && !u.damaged {
		head, from := u.uint(), copiesFrom
		if u.version == 1 {
			from = copiesFrom - 1 // there was no more
		}
		if head&7 > uint64(Unsent) || head>>from > mostCopies {
			u.damaged = true
			break
		}
		step += u.int()
		due += step
		x := Probe{Outcome: Outcome(head & 7), Copies: int(head >> from), DueAt: at.Add(time.Duration(due)), Number: u.number + 1}
		if x.hasRTT() {
			x.Stamp = Stamp(u.byte())
			rtt += u.int()
			x.RTT, x.TTL = time.Duration(rtt), u.ttl
		}
		if u.version > 1 && head&headMore != 0 {
			u.rest(&x)
		}
		u.number = x.Number
		probes = append(probes, x)
	}
	if u.damaged {
		return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes))
	}
	return probes, nil
}

// unpacker reads; what cannot be is damaged, and reads as nothing.
type unpacker struct {
	in      []byte
	version byte
	texts   []string
	ttl     int
	number  int
	damaged bool
}

func (u *unpacker) uint() uint64 {
	v, n := binary.Uvarint(u.in)
	if n <= 0 {
		u.damaged, u.in = true, nil
		return 0
	}
	u.in = u.in[n:]
	return v
}

func (u *unpacker) int() int64 {
	v, n := binary.Varint(u.in)
	if n <= 0 {
		u.damaged, u.in = true, nil
		return 0
	}
	u.in = u.in[n:]
	return v
}

func (u *unpacker) byte() (b byte) {
	if len(u.in) == 0 {
		u.damaged = true
		return 0
	}
	b, u.in = u.in[0], u.in[1:]
	return b
}

// bounded is a number that cannot be larger.
func (u *unpacker) bounded(most uint64) int {
	v := u.uint()
	if v > most {
		u.damaged = true
		return 0
	}
	return int(v)
}

// rest reads what there is more of a probe.
func (u *unpacker) rest(x *Probe) {
	more := u.uint()
	if more >= isDamaged<<1 {
		u.damaged = true
		return
	}
	if more&moreLate != 0 {
		x.SentLate = time.Duration(u.bounded(1<<40)) * time.Microsecond
	}
	if more&moreTTL != 0 {
		x.TTL = u.bounded(255)
	}
	if x.hasRTT() {
		u.ttl = x.TTL
	}
	if more&moreCause != 0 {
		x.Cause = u.text()
	}
	if more&moreAs != 0 {
		x.As = u.text()
	}
	if more&morePeer != 0 {
		peer, err := netip.ParseAddr(u.text())
		u.damaged = u.damaged || err != nil
		x.Peer = peer
	}
	if more&moreMTU != 0 {
		x.MTU = u.bounded(1 << 20)
	}
	if more&moreNumber != 0 {
		x.Number = u.number + int(u.int())
	}
	x.Overtaken, x.Shut, x.Damaged = more&isOvertaken != 0, more&isShut != 0, more&isDamaged != 0
}

func (u *unpacker) text() string {
	if place := u.bounded(uint64(len(u.texts))); place > 0 {
		return u.texts[place-1]
	}
	n := u.bounded(mostText)
	if n > len(u.in) {
		u.damaged, n = true, 0
	}
	s := string(u.in[:n])
	u.in = u.in[n:]
	u.texts = append(u.texts, s)
	return s
}
