package reading

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"time"
)

// What a dense packing's mode byte says; the low six bits are how many bits of a time are written
// as they are.
const (
	modePrevious = 1 << 6 // times are held against the one before, else against the reference
	modeMixed    = 1 << 7 // some probes are not usual: a bit before each says so
	lowBits      = modePrevious - 1
)

const (
	// mostOnes is how far a time may be from what was expected, in steps of what is written as
	// it is; one that is farther is written beside.
	mostOnes = 20
	mostLow  = 48
	// unwritten is in place of how many bits are written as they are when nothing is.
	unwritten = 0xff
	// lateShare: when more than one of so many left late, how late is written of all.
	lateShare = 16
	// mostProbes bounds what a packing unfolds to: a probe may be a bit.
	mostProbes = 1 << 20
)

// Pack writes the probes of one reading into two or three bytes each, exact to the nanosecond; how
// late a probe left in whole microseconds, rounded up, from a tenth of a millisecond on. at is the
// reading's beginning.
//
// Most probes are usual: answered once, by an answer of the usual TTL, and numbered as the one before
// lets expect. Of those only times are written, as Rice codes: how far the round-trip time is from a
// reference (the smallest of them, so that this is never negative) or from the one before (zigzag),
// whichever takes less; and, where not all are as expected, how far it was due from the usual spacing
// behind the one before (zigzag), and how late it left.
//
// Layout: version; varints of the number of probes, the first due time, its number and the spacing;
// usual stamp; usual TTL; a byte for each of the three times that says how many bits of it are written
// as they are (none: it is not written); varint of the reference. When some are not usual the varint of
// how many bytes of bits there are. Then the bits, the highest first: where some are not usual one that
// says whether this is; of a usual one its times. Then, a byte each at least, those that are not usual:
// as in version 2, but for their due times, TTLs and round-trip times, which are held against what is
// usual.
func Pack(at time.Time, probes []Probe) []byte {
	if len(probes) == 0 {
		return []byte{packVersion}
	}
	dues := make([]int64, len(probes)) // ns from the reading's beginning
	for i := range probes {
		dues[i] = probes[i].DueAt.Sub(at).Nanoseconds()
	}
	u := usualOf(dues, probes)
	is, count, c := u.split(dues, probes)
	if count < len(probes) {
		c.rtt |= modeMixed
	}
	out := make([]byte, 1, 32+3*len(probes))
	out[0] = packVersion
	out = binary.AppendUvarint(out, uint64(len(probes)))
	out = binary.AppendVarint(out, u.first)
	out = binary.AppendVarint(out, int64(u.number))
	out = binary.AppendVarint(out, u.step)
	out = append(out, byte(u.stamp), byte(u.ttl), c.rtt, c.due, c.late)
	out = binary.AppendVarint(out, c.reference)
	b := bitWriter{out: make([]byte, 0, 3*len(probes))}
	beside := packer{texts: map[string]int{}, number: u.number - 1}
	before, due := c.reference, u.first-u.step
	for i := range probes {
		x := &probes[i]
		expected := due + u.step
		due = dues[i]
		if !is[i] {
			b.put(1, 1)
			beside.other(*x, due-expected, u, c.reference)
			continue
		}
		if c.rtt&modeMixed != 0 {
			b.put(0, 1)
		}
		b.rice(folded(int64(x.RTT), before, c.reference, c.rtt), uint(c.rtt&lowBits))
		if c.due != unwritten {
			b.rice(zigzag(due-expected), uint(c.due))
		}
		if c.late != unwritten {
			b.rice(lateness(*x), uint(c.late))
		}
		before, beside.number = int64(x.RTT), x.Number
	}
	b.close()
	if c.rtt&modeMixed != 0 {
		out = binary.AppendUvarint(out, uint64(len(b.out)))
	}
	out = append(out, b.out...)
	return append(out, beside.out...)
}

// Dense is a packing of any version as Pack would have made it. What cannot be read stays as it is.
func Dense(at time.Time, packed []byte) []byte {
	if len(packed) == 0 || packed[0] == packVersion {
		return packed
	}
	probes, err := Unpack(at, packed)
	if err != nil {
		return packed
	}
	return Pack(at, probes)
}

// usual is what most probes of a reading have in common.
type usual struct {
	first, step int64 // ns from the reading's beginning; between two
	number      int   // of the first
	stamp       Stamp
	ttl         int
}

func usualOf(dues []int64, probes []Probe) (u usual) {
	u.first, u.number = dues[0], probes[0].Number
	steps := make([]int64, 0, len(probes))
	var ttls [256]int
	var stamps [256]int
	for i := range probes {
		if i > 0 {
			steps = append(steps, dues[i]-dues[i-1])
		}
		if x := &probes[i]; x.Outcome == Answered {
			ttls[byte(min(max(0, x.TTL), 255))]++
			stamps[byte(x.Stamp)]++
		}
	}
	if len(steps) > 0 {
		if slices.ContainsFunc(steps, func(s int64) bool { return s != steps[0] }) {
			slices.Sort(steps)
		}
		u.step = steps[len(steps)/2]
	}
	u.ttl, u.stamp = most(ttls[:]), Stamp(most(stamps[:]))
	return u
}

// most is where the largest of counts is.
func most(counts []int) (at int) {
	for i, n := range counts {
		if n > counts[at] {
			at = i
		}
	}
	return at
}

// coding is how the times of usual probes are written.
type coding struct {
	rtt, due, late byte
	reference      int64
}

// split says which probes are usual, how many, and how their times are written.
func (u usual) split(dues []int64, probes []Probe) (is []bool, count int, c coding) {
	is = make([]bool, len(probes))
	late := 0
	for _, x := range probes {
		if x.Outcome == Answered && x.SentLate >= leastLate {
			late++
		}
	}
	many := late*lateShare > len(probes) // else each that is late is written beside
	// Of all, and of usual ones: round trip, due, late.
	var times, kept [3][]uint64
	room, n := make([]uint64, 6*len(probes)), len(probes)
	for i := range times {
		times[i], kept[i] = room[2*i*n:(2*i+1)*n], room[(2*i+1)*n:(2*i+2)*n]
	}
	p := packer{number: u.number - 1}
	due := u.first - u.step
	for i := range probes {
		x := &probes[i]
		expected := due + u.step
		due = dues[i]
		p.ttl = u.ttl
		more := p.more(*x)
		if many {
			more &^= moreLate
		}
		is[i] = x.Outcome == Answered && x.Copies == 0 && x.Stamp == u.stamp && x.RTT >= 0 && more == 0
		times[0][i], times[1][i] = uint64(x.RTT), zigzag(due-expected)
		if many {
			times[2][i] = lateness(*x)
		}
		p.number = x.Number
	}
	// One that is too far from all others to be written among them is not usual.
	for far := 1; far > 0; {
		for t := range kept {
			kept[t] = kept[t][:0]
			for i, v := range times[t] {
				if is[i] {
					kept[t] = append(kept[t], v)
				}
			}
		}
		c.rtt, c.reference = rice(kept[0])
		c.due, c.late = riceOf(kept[1]), riceOf(kept[2])
		before := c.reference
		far, count = 0, 0
		for i := range probes {
			if !is[i] {
				continue
			}
			rtt := int64(times[0][i])
			if folded(rtt, before, c.reference, c.rtt)>>(c.rtt&lowBits) >= mostOnes || tooFar(times[1][i], c.due) || tooFar(times[2][i], c.late) {
				is[i] = false
				far++
				continue
			}
			before = rtt
			count++
		}
	}
	return is, count, c
}

func tooFar(v uint64, low byte) bool {
	if low == unwritten {
		return v != 0
	}
	return v>>low >= mostOnes
}

// lateness is how late a probe left, as it is written.
func lateness(x Probe) uint64 {
	if x.SentLate < leastLate {
		return 0
	}
	return uint64((x.SentLate + time.Microsecond - 1).Microseconds())
}

// rice is how round-trip times are written in the fewest bits.
func rice(rtts []uint64) (mode byte, reference int64) {
	if len(rtts) == 0 {
		return 0, 0
	}
	reference = int64(slices.Min(rtts))
	best := uint64(math.MaxUint64)
	list := make([]uint64, len(rtts))
	for _, m := range []byte{0, modePrevious} {
		before := reference
		for i, r := range rtts {
			list[i] = folded(int64(r), before, reference, m)
			before = int64(r)
		}
		if k, cost := fewest(list); cost < best {
			best, mode = cost, m|k
		}
	}
	return mode, reference
}

// riceOf is how many bits of each are written as they are; unwritten when all are 0.
func riceOf(list []uint64) byte {
	if !slices.ContainsFunc(list, func(v uint64) bool { return v != 0 }) {
		return unwritten
	}
	k, _ := fewest(list)
	return k
}

// fewest is with how many bits as they are the fewest are written of all.
func fewest(list []uint64) (low byte, cost uint64) {
	sum := 0.0
	for _, v := range list {
		sum += float64(v)
	}
	// The best is near the binary logarithm of the mean times ln 2; outliers raise the mean.
	middle := min(bits.Len64(uint64(min(sum/float64(len(list)), 1<<mostLow))), mostLow)
	cost = math.MaxUint64
	for k := max(0, middle-3); k <= middle; k++ {
		bits := uint64(len(list) * (1 + k))
		for _, v := range list {
			bits += min(v>>k, 4*mostOnes)
		}
		if bits < cost {
			low, cost = byte(k), bits
		}
	}
	return low, cost
}

// folded is how far a time is from what it is held against, never negative.
func folded(rtt, before, reference int64, mode byte) uint64 {
	if mode&modePrevious == 0 {
		return uint64(rtt - reference)
	}
	return zigzag(rtt - before)
}

func zigzag(d int64) uint64   { return uint64(d<<1) ^ uint64(d>>63) }
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }

// unfolded is folded backwards.
func unfolded(v uint64, before, reference int64, mode byte) int64 {
	if mode&modePrevious == 0 {
		return reference + int64(v)
	}
	return before + unzigzag(v)
}

// other writes a probe that is not usual.
func (p *packer) other(x Probe, off int64, u usual, reference int64) {
	p.ttl = u.ttl
	more := p.more(x)
	head := uint64(x.Copies)<<copiesFrom | uint64(x.Outcome)
	if more != 0 {
		head |= headMore
	}
	p.uint(head)
	p.out = binary.AppendVarint(p.out, off)
	if x.hasRTT() {
		p.out = append(p.out, byte(x.Stamp))
		p.out = binary.AppendVarint(p.out, int64(x.RTT)-reference)
	}
	if more != 0 {
		p.rest(x, more)
	}
	p.number = x.Number
}

// unpackDense reads what Pack writes, behind its version.
func unpackDense(room []Probe, at time.Time, in []byte) ([]Probe, error) {
	if len(in) == 0 {
		return []Probe{}, nil
	}
	u := unpacker{in: in, version: packVersion}
	count := u.uint()
	var common usual
	common.first, common.number, common.step = u.int(), int(u.int()), u.int()
	common.stamp, common.ttl = Stamp(u.byte()), int(u.byte())
	c := coding{rtt: u.byte(), due: u.byte(), late: u.byte()}
	c.reference = u.int()
	if c.rtt&lowBits > mostLow || c.due > mostLow && c.due != unwritten || c.late > mostLow && c.late != unwritten || count > mostProbes {
		return nil, fmt.Errorf("%w: its head says what cannot be", ErrPacked)
	}
	b := bitReader{in: u.in}
	if c.rtt&modeMixed != 0 {
		n := u.uint()
		if n > uint64(len(u.in)) {
			return nil, fmt.Errorf("%w: it is cut short", ErrPacked)
		}
		b.in, u.in = u.in[:n], u.in[n:]
	} else {
		u.in = nil
	}
	u.damaged = u.damaged || count > 8*uint64(len(b.in)) // a probe takes a bit at least
	if u.damaged {
		return nil, fmt.Errorf("%w at its head", ErrPacked)
	}
	probes := slices.Grow(room[:0], int(count))
	before, due := c.reference, common.first-common.step
	u.number = common.number - 1
	for range count {
		due += common.step
		if c.rtt&modeMixed != 0 && b.bit() == 1 {
			probes = append(probes, u.other(at, &due, common, c.reference))
		} else {
			before = unfolded(b.rice(uint(c.rtt&lowBits)), before, c.reference, c.rtt)
			x := Probe{Number: u.number + 1, Outcome: Answered, RTT: time.Duration(before), TTL: common.ttl, Stamp: common.stamp}
			if c.due != unwritten {
				due += unzigzag(b.rice(uint(c.due)))
			}
			if c.late != unwritten {
				x.SentLate = time.Duration(b.rice(uint(c.late))) * time.Microsecond
			}
			x.DueAt = at.Add(time.Duration(due))
			u.number++
			probes = append(probes, x)
		}
		if u.damaged || b.damaged {
			return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes)-1)
		}
	}
	if len(u.in) > 0 || !b.ended() {
		return nil, fmt.Errorf("%w: there is more than its %d probes", ErrPacked, count)
	}
	return probes, nil
}

// other reads a probe that is not usual; due is when it was expected, and then when it was.
func (u *unpacker) other(at time.Time, due *int64, common usual, reference int64) Probe {
	head := u.uint()
	if head&7 > uint64(Unsent) || head>>copiesFrom > mostCopies {
		u.damaged = true
		return Probe{}
	}
	*due += u.int()
	x := Probe{Outcome: Outcome(head & 7), Copies: int(head >> copiesFrom), DueAt: at.Add(time.Duration(*due)), Number: u.number + 1}
	if x.hasRTT() {
		x.Stamp = Stamp(u.byte())
		x.RTT, x.TTL = time.Duration(reference+u.int()), common.ttl
	}
	u.ttl = common.ttl
	if head&headMore != 0 {
		u.rest(&x)
	}
	u.number = x.Number
	return x
}

// bitWriter writes bits, the highest first. What is in out is all of it once it was closed.
type bitWriter struct {
	out  []byte
	word uint64 // the low have bits are not in out yet
	have uint
}

// put writes the low n bits of v, of 56 at most.
func (b *bitWriter) put(v uint64, n uint) {
	b.word = b.word<<n | v&(1<<n-1)
	for b.have += n; b.have >= 8; {
		b.have -= 8
		b.out = append(b.out, byte(b.word>>b.have))
	}
}

// close fills the last byte up with zeros.
func (b *bitWriter) close() {
	if b.have > 0 {
		b.put(0, 8-b.have)
	}
}

// rice writes as many ones as v has of 1<<low, a zero, and what is left of it.
func (b *bitWriter) rice(v uint64, low uint) {
	ones := uint(v >> low)
	b.put(1<<(ones+1)-2, ones+1)
	b.put(v&(1<<low-1), low)
}

// bitReader reads bits; behind the end all is damaged.
type bitReader struct {
	in      []byte
	at      int // bits read
	damaged bool
}

func (b *bitReader) bit() uint64 { return b.bits(1) }

func (b *bitReader) bits(n uint) (v uint64) {
	if b.at+int(n) > 8*len(b.in) {
		b.damaged, b.at = true, 8*len(b.in)
		return 0
	}
	for n > 0 {
		have := uint(8 - b.at%8)
		take := min(n, have)
		part := uint64(b.in[b.at/8]) >> (have - take) & (1<<take - 1)
		v = v<<take | part
		b.at += int(take)
		n -= take
	}
	return v
}

func (b *bitReader) rice(low uint) uint64 {
	ones := uint64(0)
	for b.bit() == 1 {
		if ones++; ones >= mostOnes {
			b.damaged = true
			return 0
		}
	}
	return ones<<low | b.bits(low)
}

// ended reports whether there is nothing left but what fills the last byte.
func (b *bitReader) ended() bool {
	left := 8*len(b.in) - b.at
	return left < 8 && b.bits(uint(left)) == 0
}
