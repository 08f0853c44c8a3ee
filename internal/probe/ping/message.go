package ping

import (
	"encoding/binary"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// MinPayload is the least payload of a probe: it carries the mark by which an
// answer is known to be ours, and the probe's number.
const MinPayload = 16

// message writes a probe.
func (e *Engine) message(v reading.Via, f wire.Family, number uint64, size int, now time.Time) []byte {
	mark := e.mark
	switch v.Kind {
	case reading.ByStamp:
		q := wire.StampRequest{Seq: uint32(number), Sent: now, Error: wire.StampFree, Session: uint16(mark)}
		if e.key != nil {
			return q.MarshalAuth(size, e.key)
		}
		return q.Marshal(size)
	case reading.ByTCP:
		return payload(mark, number, MinPayload)
	case reading.ByUDP:
		return payload(mark, number, size)
	}
	return wire.Echo{ID: uint16(number >> 16), Seq: uint16(number), Payload: payload(mark, number, size)}.Marshal(f)
}

// payload is the engine's mark, the probe's number, and a pattern up to the size
// asked for.
func payload(mark, number uint64, size int) []byte {
	b := make([]byte, max(size, MinPayload))
	binary.BigEndian.PutUint64(b, mark)
	binary.BigEndian.PutUint64(b[8:], number)
	for i := MinPayload; i < len(b); i++ {
		b[i] = byte(i)
	}
	return b
}

// numberOf reads the probe's number out of a payload that payload wrote; ours is
// false for what others sent, whole is false for what was changed or cut.
func numberOf(mark uint64, b []byte) (number uint64, ours, whole bool) {
	if len(b) < MinPayload || binary.BigEndian.Uint64(b) != mark {
		return 0, false, false
	}
	for i := MinPayload; i < len(b); i++ {
		if b[i] != byte(i) {
			return binary.BigEndian.Uint64(b[8:]), true, false
		}
	}
	return binary.BigEndian.Uint64(b[8:]), true, true
}

// carrier is the kind of connection that carries the probes.
func carrier(v reading.Via) network.Kind {
	switch v.Kind {
	case reading.ByTCP:
		return network.TCP
	case reading.ByUDP, reading.ByStamp:
		return network.UDP
	}
	return network.ICMP
}
