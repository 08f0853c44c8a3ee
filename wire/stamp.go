package wire

import (
	"encoding/binary"
	"fmt"
	"time"
)

// The sizes of unauthenticated STAMP packets (RFC 8762 §4.2.1, §4.3.1), in
// bytes, and the port that reflectors listen at.
const (
	StampSize = 44
	StampPort = 862
)

// twampSize is the size of the least answer of a TWAMP reflector (RFC 5357 §4.2.1).
const twampSize = 41

// Error estimates (RFC 4656 §4.1.2) of a clock that runs free, and of one that is
// synchronised: of which nothing more exact is said.
const (
	StampFree   uint16 = 0x0001
	StampInStep uint16 = 0x8001
)

// StampRequest is the packet of a Session-Sender without authentication (RFC
// 8762 §4.2.1), with the session identifier of RFC 8972 §3.
type StampRequest struct {
	Seq     uint32
	Sent    time.Time
	Error   uint16 // error estimate (RFC 4656 §4.1.2)
	Session uint16
}

// StampReply is the packet that a Session-Reflector answers with (RFC 8762
// §4.3.1).
type StampReply struct {
	Seq       uint32
	Sent      time.Time // by the reflector's clock
	Error     uint16
	Session   uint16
	Received  time.Time // by the reflector's clock
	Request   StampRequest
	SenderTTL uint8 // of the request as it came
}

// ntpEpoch is where NTP's seconds begin, before Unix's (RFC 5905 §6).
const ntpEpoch = 2_208_988_800

// ntp writes a time in NTP's 64-bit format.
func ntp(t time.Time) uint64 {
	fraction := (uint64(t.Nanosecond())<<32 + 500_000_000) / 1_000_000_000
	return uint64(t.Unix()+ntpEpoch)<<32 + fraction
}

// fromNTP reads one: a time of the era that began in 1900, which ends in 2036,
// or of the next.
func fromNTP(v uint64) time.Time {
	seconds := int64(v >> 32)
	if seconds < ntpEpoch {
		seconds += 1 << 32
	}
	return time.Unix(seconds-ntpEpoch, int64(((v&0xffffffff)*1_000_000_000+1<<31)>>32)).UTC()
}

// Marshal writes the packet, padded with zeros to a size; StampSize at least.
func (q StampRequest) Marshal(size int) []byte {
	return q.Write(make([]byte, max(size, StampSize)))
}

// Write writes the packet into b, which has StampSize bytes at least, and returns it.
// What is behind stays as it is.
func (q StampRequest) Write(b []byte) []byte {
	binary.BigEndian.PutUint32(b, q.Seq)
	binary.BigEndian.PutUint64(b[4:], ntp(q.Sent))
	binary.BigEndian.PutUint16(b[12:], q.Error)
	binary.BigEndian.PutUint16(b[14:], q.Session)
	return b
}

// StampIdentity reads the sequence number and session of a sender's packet of which only
// the beginning may be quoted: 16 bytes, in authenticated mode 28.
func StampIdentity(b []byte, authenticated bool) (seq uint32, session uint16, err error) {
	at := 14
	if authenticated {
		at = 26
	}
	if len(b) < at+2 {
		return 0, 0, fmt.Errorf("%w: STAMP packet of %d bytes", ErrPacket, len(b))
	}
	return binary.BigEndian.Uint32(b), binary.BigEndian.Uint16(b[at:]), nil
}

// ParseStampRequest reads what a sender sent.
func ParseStampRequest(b []byte) (StampRequest, error) {
	if len(b) < StampSize {
		return StampRequest{}, fmt.Errorf("%w: STAMP packet of %d bytes", ErrPacket, len(b))
	}
	e := binary.BigEndian.Uint16(b[12:])
	return StampRequest{Seq: binary.BigEndian.Uint32(b), Sent: timeOf(binary.BigEndian.Uint64(b[4:]), e), Error: e, Session: binary.BigEndian.Uint16(b[14:])}, nil
}

// Marshal writes the packet at the size of the request, which it never exceeds.
func (r StampReply) Marshal(size int) []byte {
	b := make([]byte, max(size, StampSize))
	binary.BigEndian.PutUint32(b, r.Seq)
	binary.BigEndian.PutUint64(b[4:], ntp(r.Sent))
	binary.BigEndian.PutUint16(b[12:], r.Error)
	binary.BigEndian.PutUint16(b[14:], r.Session)
	binary.BigEndian.PutUint64(b[16:], ntp(r.Received))
	binary.BigEndian.PutUint32(b[24:], r.Request.Seq)
	binary.BigEndian.PutUint64(b[28:], ntp(r.Request.Sent))
	binary.BigEndian.PutUint16(b[36:], r.Request.Error)
	b[40] = r.SenderTTL
	return b
}

// ParseStampReply reads what a reflector sent, STAMP's or TWAMP's (RFC 8762 §4.6).
// Reflectors of before RFC 8972 leave Session 0, which says nothing then.
func ParseStampReply(b []byte) (StampReply, error) {
	if len(b) < twampSize {
		return StampReply{}, fmt.Errorf("%w: STAMP packet of %d bytes", ErrPacket, len(b))
	}
	r := StampReply{Seq: binary.BigEndian.Uint32(b), Error: binary.BigEndian.Uint16(b[12:]), Session: binary.BigEndian.Uint16(b[14:]),
		Request:   StampRequest{Seq: binary.BigEndian.Uint32(b[24:]), Error: binary.BigEndian.Uint16(b[36:])},
		SenderTTL: b[40]}
	r.Sent, r.Received = timeOf(binary.BigEndian.Uint64(b[4:]), r.Error), timeOf(binary.BigEndian.Uint64(b[16:]), r.Error)
	r.Request.Sent = timeOf(binary.BigEndian.Uint64(b[28:]), r.Request.Error)
	return r, nil
}
