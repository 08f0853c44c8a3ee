package reading

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// packVersion is the first byte of every packed reading.
const packVersion = 1

// ErrPacked is returned for bytes that Pack did not write.
var ErrPacked = errors.New("packed probes are damaged")

// Pack writes the probes of one reading into a few bytes each, exact to the
// nanosecond. at is the reading's beginning. Layout: version; then for each
// probe a head varint (outcome in the low 3 bits, copies above), the zigzag
// varint of the change of its due time against an even spacing, and, when it
// has a round-trip time, the stamp and the zigzag varint of the change of that
// time since the one before. Causes and TTLs are not kept.
func Pack(at time.Time, probes []Probe) []byte {
	out := make([]byte, 1, 1+6*len(probes))
	out[0] = packVersion
	due, step, rtt := int64(0), int64(0), int64(0)
	for _, p := range probes {
		out = binary.AppendUvarint(out, uint64(p.Copies)<<3|uint64(p.Outcome))
		offset := p.DueAt.Sub(at).Nanoseconds()
		out = binary.AppendVarint(out, offset-due-step)
		step, due = offset-due, offset
		if p.hasRTT() {
			out = append(out, byte(p.Stamp))
			out = binary.AppendVarint(out, int64(p.RTT)-rtt)
			rtt = int64(p.RTT)
		}
	}
	return out
}

func (p Probe) hasRTT() bool {
	return p.Outcome == Answered || p.Outcome == Late || p.Outcome == Refused
}

// Unpack reads what Pack wrote. It returns an error that wraps ErrPacked when
// the bytes are cut short or were not written by Pack.
func Unpack(at time.Time, packed []byte) ([]Probe, error) {
	if len(packed) == 0 {
		return nil, nil
	}
	if packed[0] != packVersion {
		return nil, fmt.Errorf("%w: version %d is unknown", ErrPacked, packed[0])
	}
	in := packed[1:]
	probes := make([]Probe, 0, len(in)/4)
	due, step, rtt := int64(0), int64(0), int64(0)
	for len(in) > 0 {
		head, n := binary.Uvarint(in)
		if n <= 0 || head&7 > uint64(Unsent) || head>>3 > 1<<20 {
			return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes))
		}
		in = in[n:]
		change, n := binary.Varint(in)
		if n <= 0 {
			return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes))
		}
		in = in[n:]
		step += change
		due += step
		p := Probe{Outcome: Outcome(head & 7), Copies: int(head >> 3), DueAt: at.Add(time.Duration(due))}
		if p.hasRTT() {
			if len(in) < 2 {
				return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes))
			}
			p.Stamp = Stamp(in[0])
			change, n := binary.Varint(in[1:])
			if n <= 0 {
				return nil, fmt.Errorf("%w at probe %d", ErrPacked, len(probes))
			}
			in = in[1+n:]
			rtt += change
			p.RTT = time.Duration(rtt)
		}
		probes = append(probes, p)
	}
	return probes, nil
}
