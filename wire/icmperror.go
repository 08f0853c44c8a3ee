package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
)

// ErrorKind is what an ICMP error says, in either family.
type ErrorKind int

// The errors that routers and hosts send, by their IPv4 (RFC 792, RFC 1812
// §5.2.7) and IPv6 (RFC 4443 §3) type and code.
const (
	NoRoute     ErrorKind = iota // network unreachable, no route
	NoHost                       // host unreachable, address unreachable
	NoPort                       // port unreachable
	Prohibited                   // administratively prohibited
	TooBig                       // fragmentation needed, packet too big
	TimeExpired                  // TTL or hop limit exceeded in transit
)

var errorCodes = map[Family]map[ErrorKind][2]uint8{
	IPv4: {NoRoute: {3, 0}, NoHost: {3, 1}, NoPort: {3, 3}, Prohibited: {3, 13}, TooBig: {3, 4}, TimeExpired: {11, 0}},
	IPv6: {NoRoute: {1, 0}, NoHost: {1, 3}, NoPort: {1, 4}, Prohibited: {1, 1}, TooBig: {2, 0}, TimeExpired: {3, 0}},
}

// Label is an entry of an MPLS label stack (RFC 3032 §2.1).
type Label struct {
	Value uint32 // 20 bits
	Class uint8  // traffic class, 3 bits
	TTL   uint8
}

// ICMPError is an error about a packet.
type ICMPError struct {
	Type, Code uint8
	MTU        int     // of the next hop, with "too big"; 0 when it was not told
	Quoted     []byte  // the packet that it is about, from its IP header on, as far as quoted
	Labels     []Label // the MPLS labels that the packet came with (RFC 4950)
	// Incoming is the interface that the packet came in by; nil when it was not told
	// (RFC 5837).
	Incoming *Interface
}

// NewICMPError is an error of a kind about a packet in a family.
func NewICMPError(f Family, kind ErrorKind, about []byte) ICMPError {
	code := errorCodes[f][kind]
	return ICMPError{Type: code[0], Code: code[1], Quoted: about}
}

// Is reports whether the error is of a kind in a family.
func (e ICMPError) Is(f Family, kind ErrorKind) bool {
	return errorCodes[f][kind] == [2]uint8{e.Type, e.Code}
}

// Refusal says what the error means, as RefusalText does.
func (e ICMPError) Refusal(f Family) string { return RefusalText(f, e.Type, e.Code) }

// Marshal writes the message from src to dst. So much is quoted as the family
// allows: the error does not exceed 576 bytes (RFC 1812 §4.3.2.3) or 1280 (RFC
// 4443 §2.4). With labels it has the extension structure of RFC 4884 §7.
func (e ICMPError) Marshal(src, dst netip.Addr) []byte {
	f := FamilyOf(dst)
	most := 576 - IPv4HeaderSize - icmpHeaderSize
	if f == IPv6 {
		most = 1280 - IPv6HeaderSize - icmpHeaderSize
	}
	var extension []byte
	if len(e.Labels) > 0 || e.Incoming != nil {
		extension = e.extension()
		most = (most - len(extension)) &^ 7
	}
	quoted := e.Quoted[:min(len(e.Quoted), most)]
	original := len(quoted)
	if extension != nil {
		original = max(leastOriginal, (original+7)&^7)
	}
	b := make([]byte, icmpHeaderSize+original, icmpHeaderSize+original+len(extension))
	b[0], b[1] = e.Type, e.Code
	if extension != nil && f == IPv4 {
		b[5] = uint8(original / 4)
	} else if extension != nil {
		b[4] = uint8(original / 8)
	}
	if e.Is(f, TooBig) && f == IPv4 {
		binary.BigEndian.PutUint16(b[6:], uint16(min(e.MTU, 0xffff)))
	} else if e.Is(f, TooBig) {
		binary.BigEndian.PutUint32(b[4:], uint32(e.MTU))
	}
	copy(b[icmpHeaderSize:], quoted)
	b = append(b, extension...)
	if f == IPv4 {
		binary.BigEndian.PutUint16(b[2:], Checksum(b))
	} else {
		binary.BigEndian.PutUint16(b[2:], TransportChecksum(src, dst, ProtocolICMPv6, b))
	}
	return b
}

// ParseICMPError reads an ICMP error message without its IP header. What it
// quotes aliases b. A message that is no error is an error that wraps
// ErrPacket. Extension objects of other kinds than MPLS labels and the incoming
// interface are passed over.
func ParseICMPError(f Family, b []byte) (ICMPError, error) {
	if len(b) < icmpHeaderSize {
		return ICMPError{}, fmt.Errorf("%w: ICMP message of %d bytes", ErrPacket, len(b))
	}
	if f == IPv4 && Checksum(b) != 0 {
		return ICMPError{}, fmt.Errorf("%w: ICMP checksum", ErrPacket)
	}
	e := ICMPError{Type: b[0], Code: b[1], Quoted: b[icmpHeaderSize:]}
	if e.Refusal(f) == "" {
		return ICMPError{}, fmt.Errorf("%w: ICMP type %d is no error", ErrPacket, e.Type)
	}
	original := 0
	switch {
	case f == IPv4 && e.Is(f, TooBig):
		e.MTU = int(binary.BigEndian.Uint16(b[6:]))
		original = int(b[5]) * 4
	case e.Is(f, TooBig):
		e.MTU = int(binary.BigEndian.Uint32(b[4:]))
	case f == IPv4:
		original = int(b[5]) * 4
	default:
		original = int(b[4]) * 8
	}
	if original >= leastOriginal && original < len(e.Quoted) {
		if err := e.parseExtension(e.Quoted[original:]); err != nil {
			return ICMPError{}, err
		}
		e.Quoted = e.Quoted[:original]
	}
	return e, nil
}

// ParseQuoted reads the packet that an ICMP error quotes, as far as it does: its
// header, and a copy of the transport message behind it with, for ICMP, a
// checksum that fits what is left.
func ParseQuoted(b []byte) (IP, []byte, error) {
	if len(b) < 20 {
		return IP{}, nil, ErrPacket
	}
	whole := slices.Clone(b)
	if whole[0]>>4 == 4 { // the stated length is that of the whole packet
		binary.BigEndian.PutUint16(whole[2:], uint16(len(whole)))
		whole[10], whole[11] = 0, 0
		binary.BigEndian.PutUint16(whole[10:], Checksum(whole[:min(len(whole), int(whole[0]&0xf)*4)]))
	} else if len(whole) >= IPv6HeaderSize {
		binary.BigEndian.PutUint16(whole[4:], uint16(len(whole)-IPv6HeaderSize))
	}
	ip, message, err := ParseIP(whole)
	if err == nil && ip.Protocol == ProtocolICMP && len(message) >= 8 {
		message[2], message[3] = 0, 0
		binary.BigEndian.PutUint16(message[2:], Checksum(message))
	}
	return ip, message, err
}
