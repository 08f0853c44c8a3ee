package paced

import (
	"encoding/binary"
	"errors"
	"time"

	"woodlark.example/core/oneway"
)

// Log is what an end notes of one direction: by call, when each packet left, or what
// arrived.
type Log struct {
	Sent     [][]time.Time      // of the end that sends
	Arrivals [][]oneway.Arrival // of the end that receives
	Late     int                // packets that left more than 1 ms, or a tenth of the interval, late
	// Said is when STAMP packets that arrived had left, by their own word: for when the
	// sender's notes do not come over.
	Said [][]time.Time
}

// Stream joins what both ends noted of a call.
func Stream(s Shape, sent, received Log, call int) oneway.Stream {
	x := oneway.Stream{Interval: s.Interval}
	if call < len(sent.Sent) {
		x.Sent = sent.Sent[call]
	}
	if call < len(received.Arrivals) {
		x.Arrivals = received.Arrivals[call]
	}
	if call == 0 {
		x.Late = sent.Late
	}
	return x
}

// Told is what one end alone knows of a call that came: as far as the last packet that
// arrived. timed says that the packets told when they left; else their times of sending
// are those of an even pace, which tell loss, order and variation, and no delay.
func Told(s Shape, received Log, call int) (x oneway.Stream, timed bool) {
	x = oneway.Stream{Interval: s.Interval}
	if call >= len(received.Arrivals) || len(received.Arrivals[call]) == 0 {
		return x, false
	}
	x.Arrivals = received.Arrivals[call]
	first, last := x.Arrivals[0], 0
	for _, a := range x.Arrivals {
		last = max(last, a.Number)
	}
	said := func(n int) (at time.Time, ok bool) {
		if s.Format == Stamp && call < len(received.Said) && n < len(received.Said[call]) {
			at = received.Said[call][n]
		}
		return at, !at.IsZero()
	}
	at, timed := said(first.Number)
	if !timed {
		at = first.At
	}
	at = at.Add(-time.Duration(first.Number) * s.Interval)
	for n := range last + 1 {
		if left, ok := said(n); ok {
			at = left
		}
		x.Sent = append(x.Sent, at)
		at = at.Add(s.Interval)
	}
	return x, timed
}

var errLog = errors.New("the far end's notes are cut off")

// Pack writes a log in parts, each of at most about size bytes: the first byte of a
// part says what it holds. Times are differences in nanoseconds.
func (l Log) Pack(size int) [][]byte {
	var parts [][]byte
	var b []byte
	flush := func(kind byte, call int) {
		if len(b) > 0 {
			parts = append(parts, b)
		}
		b = binary.AppendUvarint([]byte{kind}, uint64(call))
	}
	for call, list := range l.Sent {
		flush('s', call)
		var last int64
		for i, t := range list {
			if t.IsZero() {
				continue
			}
			if len(b) > size {
				flush('s', call)
				last = 0
			}
			b = binary.AppendUvarint(b, uint64(i))
			b = binary.AppendVarint(b, t.UnixNano()-last)
			last = t.UnixNano()
		}
	}
	for call, list := range l.Arrivals {
		flush('a', call)
		var last int64
		for _, a := range list {
			if len(b) > size {
				flush('a', call)
				last = 0
			}
			b = binary.AppendUvarint(b, uint64(a.Number))
			b = binary.AppendVarint(b, a.At.UnixNano()-last)
			b = binary.AppendUvarint(b, uint64(a.Size))
			b = append(b, byte(a.TTL), byte(a.DSCP+1))
			last = a.At.UnixNano()
		}
	}
	if len(b) > 0 {
		parts = append(parts, b)
	}
	return parts
}

// reading takes numbers off a part.
type reading struct {
	b   []byte
	bad bool
}

func (r *reading) number() uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reading) difference() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *reading) byte() byte {
	if len(r.b) == 0 {
		r.bad = true
		return 0
	}
	v := r.b[0]
	r.b = r.b[1:]
	return v
}

// Unpack adds a part of the far end's log. The shape says how much there can be: what
// is beyond it is an error.
func (l *Log) Unpack(part []byte, s Shape) error {
	r := reading{b: part}
	kind, call := r.byte(), int(r.number())
	if r.bad || call < 0 || call >= s.Calls {
		return errLog
	}
	most := s.PerCall()
	var last int64
	for len(r.b) > 0 && !r.bad {
		n := int(r.number())
		last += r.difference()
		if n < 0 || n >= most {
			return errLog
		}
		switch kind {
		case 's':
			l.sentAt(s, call, n, time.Unix(0, last))
		case 'a':
			a := oneway.Arrival{Number: n, At: time.Unix(0, last), Size: int(r.number()), TTL: int(r.byte()), DSCP: int(r.byte()) - 1}
			for len(l.Arrivals) < s.Calls {
				l.Arrivals = append(l.Arrivals, nil)
			}
			if len(l.Arrivals[call]) > 4*most {
				return errLog
			}
			l.Arrivals[call] = append(l.Arrivals[call], a)
		default:
			return errLog
		}
	}
	if r.bad {
		return errLog
	}
	return nil
}

// sentAt notes when a packet left.
func (l *Log) sentAt(s Shape, call, number int, t time.Time) {
	if l.Sent == nil {
		l.Sent = make([][]time.Time, s.Calls)
	}
	for len(l.Sent[call]) <= number {
		l.Sent[call] = append(l.Sent[call], time.Time{})
	}
	l.Sent[call][number] = t
}
