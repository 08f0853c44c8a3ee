package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// ICMP types that Woodlark speaks of (RFC 792, RFC 4443).
const (
	echoReply4     = 0
	unreachable4   = 3
	echo4          = 8
	timeExceeded4  = 11
	unreachable6   = 1
	packetTooBig6  = 2
	timeExceeded6  = 3
	echo6          = 128
	echoReply6     = 129
	icmpHeaderSize = 8
)

// ErrPacket is wrapped by every error about bytes that are no valid packet.
var ErrPacket = errors.New("not a valid packet")

// Echo is an echo request or reply.
type Echo struct {
	ID, Seq uint16
	Reply   bool
	Payload []byte
}

// Marshal writes the message with its checksum for IPv4. For IPv6 the checksum
// covers addresses that the message does not hold, so it is left 0 for the
// kernel to fill (RFC 3542 §3.1).
func (e Echo) Marshal(f Family) []byte {
	b := make([]byte, icmpHeaderSize+len(e.Payload))
	switch {
	case f == IPv6 && e.Reply:
		b[0] = echoReply6
	case f == IPv6:
		b[0] = echo6
	case e.Reply:
		b[0] = echoReply4
	default:
		b[0] = echo4
	}
	binary.BigEndian.PutUint16(b[4:], e.ID)
	binary.BigEndian.PutUint16(b[6:], e.Seq)
	copy(b[icmpHeaderSize:], e.Payload)
	if f == IPv4 {
		binary.BigEndian.PutUint16(b[2:], Checksum(b))
	}
	return b
}

// Checksum is the Internet checksum of b (RFC 1071), whose own field is 0.
func Checksum(b []byte) uint16 { return fold(sum(b, 0)) }

// sum adds the 16-bit words of b, an odd byte padded with zero.
func sum(b []byte, start uint64) uint64 {
	for len(b) >= 4 {
		start += uint64(binary.BigEndian.Uint32(b))
		b = b[4:]
	}
	if len(b) >= 2 {
		start += uint64(b[0])<<8 | uint64(b[1])
		b = b[2:]
	}
	if len(b) == 1 {
		start += uint64(b[0]) << 8
	}
	return start
}

func fold(sum uint64) uint16 {
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}

// ICMP is a parsed message: an echo, or an error, which ParseICMPError reads in
// full.
type ICMP struct {
	Type, Code uint8
	Echo       *Echo  // set for echo requests and replies
	Refusal    string // of errors: what they say
}

// ParseICMP reads an ICMP message without its IP header. Payloads alias b. The
// checksum is verified for IPv4; the kernel verifies it for IPv6.
func ParseICMP(f Family, b []byte) (ICMP, error) {
	if len(b) < icmpHeaderSize {
		return ICMP{}, fmt.Errorf("%w: ICMP message of %d bytes", ErrPacket, len(b))
	}
	if f == IPv4 && Checksum(b) != 0 {
		return ICMP{}, fmt.Errorf("%w: ICMP checksum", ErrPacket)
	}
	m := ICMP{Type: b[0], Code: b[1]}
	if isEcho(f, m.Type) {
		m.Echo = &Echo{ID: binary.BigEndian.Uint16(b[4:]), Seq: binary.BigEndian.Uint16(b[6:]),
			Reply: m.Type == echoReply4 && f == IPv4 || m.Type == echoReply6 && f == IPv6, Payload: b[icmpHeaderSize:]}
		return m, nil
	}
	m.Refusal = RefusalText(f, m.Type, m.Code)
	return m, nil
}

func isEcho(f Family, kind uint8) bool {
	if f == IPv6 {
		return kind == echo6 || kind == echoReply6
	}
	return kind == echo4 || kind == echoReply4
}

var unreachableText4 = map[uint8]string{
	0: "network unreachable", 1: "host unreachable", 2: "protocol unreachable", 3: "port unreachable",
	4: "fragmentation needed", 5: "source route failed", 6: "network unknown", 7: "host unknown",
	9: "network prohibited", 10: "host prohibited", 11: "network unreachable for this service class",
	12: "host unreachable for this service class", 13: "administratively prohibited",
}

var unreachableText6 = map[uint8]string{
	0: "no route", 1: "administratively prohibited", 2: "beyond the scope of the source address",
	3: "address unreachable", 4: "port unreachable", 5: "source address refused by policy", 6: "route rejected",
}

// RefusalText says what an ICMP error means (RFC 792, RFC 1812 §5.2.7, RFC
// 4443 §3); empty for a message that is no error.
func RefusalText(f Family, kind, code uint8) string {
	var text string
	switch {
	case f == IPv4 && kind == unreachable4:
		text = unreachableText4[code]
	case f == IPv4 && kind == timeExceeded4:
		text = "TTL exceeded"
	case f == IPv6 && kind == unreachable6:
		text = unreachableText6[code]
	case f == IPv6 && kind == packetTooBig6:
		return "packet too big"
	case f == IPv6 && kind == timeExceeded6:
		text = "hop limit exceeded"
	default:
		return ""
	}
	if text == "" {
		text = fmt.Sprintf("unreachable (code %d)", code)
	}
	return text
}
