package ping

import (
	"encoding/binary"
	"errors"

	"woodlark.example/wire"
)

// MinPayload is the least payload of a probe: it carries the mark by which an
// answer is known to be ours, and the probe's number.
const MinPayload = 16

// errForeign is returned for messages that are not answers to our probes.
var errForeign = errors.New("not an answer to a probe of ours")

// message writes the echo request of a probe. The payload is the engine's
// mark, the probe's number, and a pattern up to the size asked for.
func message(f wire.Family, mark, number uint64, size int) []byte {
	payload := make([]byte, max(size, MinPayload))
	binary.BigEndian.PutUint64(payload, mark)
	binary.BigEndian.PutUint64(payload[8:], number)
	for i := MinPayload; i < len(payload); i++ {
		payload[i] = byte(i)
	}
	return wire.Echo{ID: uint16(number >> 16), Seq: uint16(number), Payload: payload}.Marshal(f)
}

// numberOf reads the probe's number out of a payload that message wrote.
func numberOf(mark uint64, payload []byte) (uint64, error) {
	if len(payload) < MinPayload || binary.BigEndian.Uint64(payload) != mark {
		return 0, errForeign
	}
	for i := MinPayload; i < len(payload); i++ {
		if payload[i] != byte(i) {
			return 0, errForeign
		}
	}
	return binary.BigEndian.Uint64(payload[8:]), nil
}
