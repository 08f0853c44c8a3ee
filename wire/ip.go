package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// Protocol numbers (IANA) that Woodlark speaks.
const (
	ProtocolICMP   = 1
	ProtocolTCP    = 6
	ProtocolUDP    = 17
	ProtocolICMPv6 = 58
)

// Sizes of headers without options, in bytes.
const (
	IPv4HeaderSize = 20
	IPv6HeaderSize = 40
)

// ICMPOf is the protocol number of ICMP in a family.
func ICMPOf(f Family) uint8 {
	if f == IPv4 {
		return ProtocolICMP
	}
	return ProtocolICMPv6
}

// IP is an IPv4 (RFC 791) or IPv6 (RFC 8200) header.
type IP struct {
	Src, Dst netip.Addr
	Protocol uint8 // of the payload; of IPv6 after any extension headers
	TTL      uint8 // or hop limit
	// TrafficClass is the DSCP (RFC 2474) in the upper six bits and the ECN
	// (RFC 3168) in the lower two.
	TrafficClass uint8
	FlowLabel    uint32 // IPv6, 20 bits (RFC 6437)

	ID             uint16 // IPv4
	DontFragment   bool   // IPv4; IPv6 routers never fragment
	MoreFragments  bool
	FragmentOffset int // bytes

	HeaderSize int // bytes before the payload; set by ParseIP
	Size       int // of the whole packet in bytes; set by ParseIP
}

// Family of the header.
func (h IP) Family() Family { return FamilyOf(h.Dst) }

// Fragment reports whether the packet is a part of a larger one; only the part
// with offset 0 holds the header of what it carries.
func (h IP) Fragment() bool { return h.MoreFragments || h.FragmentOffset > 0 }

// ParseIP reads the header of a packet and returns it with the payload, which
// aliases b. Bytes after the packet's stated length are left out.
func ParseIP(b []byte) (IP, []byte, error) {
	if len(b) == 0 {
		return IP{}, nil, fmt.Errorf("%w: no bytes", ErrPacket)
	}
	switch b[0] >> 4 {
	case 4:
		return parseIPv4(b)
	case 6:
		return parseIPv6(b)
	}
	return IP{}, nil, fmt.Errorf("%w: IP version %d", ErrPacket, b[0]>>4)
}

func parseIPv4(b []byte) (IP, []byte, error) {
	if len(b) < IPv4HeaderSize {
		return IP{}, nil, fmt.Errorf("%w: IPv4 header of %d bytes", ErrPacket, len(b))
	}
	flags := binary.BigEndian.Uint16(b[6:])
	h := IP{
		HeaderSize: int(b[0]&0xf) * 4, Size: int(binary.BigEndian.Uint16(b[2:])), TrafficClass: b[1],
		ID: binary.BigEndian.Uint16(b[4:]), DontFragment: flags&0x4000 != 0, MoreFragments: flags&0x2000 != 0, FragmentOffset: int(flags&0x1fff) * 8,
		TTL: b[8], Protocol: b[9], Src: netip.AddrFrom4([4]byte(b[12:16])), Dst: netip.AddrFrom4([4]byte(b[16:20])),
	}
	if h.HeaderSize < IPv4HeaderSize || h.Size < h.HeaderSize || h.Size > len(b) {
		return IP{}, nil, fmt.Errorf("%w: IPv4 lengths %d and %d in %d bytes", ErrPacket, h.HeaderSize, h.Size, len(b))
	}
	if Checksum(b[:h.HeaderSize]) != 0 {
		return IP{}, nil, fmt.Errorf("%w: IPv4 header checksum", ErrPacket)
	}
	return h, b[h.HeaderSize:h.Size], nil
}

func parseIPv6(b []byte) (IP, []byte, error) {
	if len(b) < IPv6HeaderSize {
		return IP{}, nil, fmt.Errorf("%w: IPv6 header of %d bytes", ErrPacket, len(b))
	}
	word := binary.BigEndian.Uint32(b)
	h := IP{
		HeaderSize: IPv6HeaderSize, Size: IPv6HeaderSize + int(binary.BigEndian.Uint16(b[4:])), TrafficClass: uint8(word >> 20), FlowLabel: word & 0xfffff,
		Protocol: b[6], TTL: b[7], Src: netip.AddrFrom16([16]byte(b[8:24])), Dst: netip.AddrFrom16([16]byte(b[24:40])), DontFragment: true,
	}
	if h.Size > len(b) {
		return IP{}, nil, fmt.Errorf("%w: IPv6 length %d in %d bytes", ErrPacket, h.Size, len(b))
	}
	if err := h.skipExtensions(b[:h.Size]); err != nil {
		return IP{}, nil, err
	}
	return h, b[h.HeaderSize:h.Size], nil
}

// skipExtensions walks the IPv6 extension headers (RFC 8200 §4) up to the
// payload.
func (h *IP) skipExtensions(b []byte) error {
	for {
		rest := b[h.HeaderSize:]
		size := 8
		switch h.Protocol {
		case 0, 43, 60: // hop by hop, routing, destination options
			if len(rest) >= 2 {
				size += int(rest[1]) * 8
			}
		case 44: // fragment
			if len(rest) >= 4 {
				part := binary.BigEndian.Uint16(rest[2:])
				h.FragmentOffset, h.MoreFragments = int(part&^7), part&1 != 0
			}
		default:
			return nil
		}
		if len(rest) < size {
			return fmt.Errorf("%w: IPv6 extension header is cut short", ErrPacket)
		}
		h.Protocol = rest[0]
		h.HeaderSize += size
		if h.FragmentOffset > 0 {
			return nil // what follows is no header
		}
	}
}

// Marshal writes the packet: the header without options or extensions, and the
// payload. Lengths and the IPv4 checksum are computed.
func (h IP) Marshal(payload []byte) []byte {
	if h.Family() == IPv4 {
		b := make([]byte, IPv4HeaderSize+len(payload))
		b[0], b[1] = 0x45, h.TrafficClass
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		binary.BigEndian.PutUint16(b[4:], h.ID)
		flags := uint16(h.FragmentOffset / 8)
		if h.DontFragment {
			flags |= 0x4000
		}
		if h.MoreFragments {
			flags |= 0x2000
		}
		binary.BigEndian.PutUint16(b[6:], flags)
		b[8], b[9] = h.TTL, h.Protocol
		copy(b[12:], h.Src.Unmap().AsSlice())
		copy(b[16:], h.Dst.Unmap().AsSlice())
		binary.BigEndian.PutUint16(b[10:], Checksum(b[:IPv4HeaderSize]))
		copy(b[IPv4HeaderSize:], payload)
		return b
	}
	b := make([]byte, IPv6HeaderSize+len(payload))
	binary.BigEndian.PutUint32(b, 6<<28|uint32(h.TrafficClass)<<20|h.FlowLabel&0xfffff)
	binary.BigEndian.PutUint16(b[4:], uint16(len(payload)))
	b[6], b[7] = h.Protocol, h.TTL
	copy(b[8:], h.Src.AsSlice())
	copy(b[24:], h.Dst.AsSlice())
	copy(b[IPv6HeaderSize:], payload)
	return b
}

// DecrementTTL takes one off the TTL or hop limit of a whole packet and mends
// the IPv4 header checksum (RFC 1624). The packet must have been parsed.
func DecrementTTL(b []byte) {
	if b[0]>>4 == 6 {
		b[7]--
		return
	}
	b[8]--
	sum := uint32(binary.BigEndian.Uint16(b[10:])) + 0x100
	binary.BigEndian.PutUint16(b[10:], uint16(sum+sum>>16))
}

// FragmentIPv4 cuts a packet into fragments of at most mtu bytes (RFC 791
// §2.3). A packet that fits is returned as it is; one that may not be cut, that
// is not IPv4, or an MTU too small for any payload is an error.
func FragmentIPv4(b []byte, mtu int) ([][]byte, error) {
	if len(b) <= mtu {
		return [][]byte{b}, nil
	}
	h, payload, err := ParseIP(b)
	if err != nil {
		return nil, err
	}
	room := (mtu - IPv4HeaderSize) &^ 7
	if h.Family() != IPv4 || h.DontFragment || room < 8 {
		return nil, fmt.Errorf("%w: %d bytes may not be cut to %d", ErrPacket, len(b), mtu)
	}
	var parts [][]byte
	for at := 0; at < len(payload); at += room {
		part := h
		end := min(at+room, len(payload))
		part.FragmentOffset = h.FragmentOffset + at
		part.MoreFragments = h.MoreFragments || end < len(payload)
		parts = append(parts, part.Marshal(payload[at:end]))
	}
	return parts, nil
}

// TransportChecksum is the checksum of a TCP, UDP or ICMPv6 message whose own
// checksum field is 0, with the pseudo-header of the family (RFC 9293 §3.1,
// RFC 8200 §8.1). Over a message that holds its checksum it is 0 when that is
// right.
func TransportChecksum(src, dst netip.Addr, protocol uint8, b []byte) uint16 {
	var pseudo [IPv6HeaderSize]byte
	n := 0
	for _, a := range []netip.Addr{src.Unmap(), dst.Unmap()} {
		if a.Is4() {
			four := a.As4()
			n += copy(pseudo[n:], four[:])
		} else {
			sixteen := a.As16()
			n += copy(pseudo[n:], sixteen[:])
		}
	}
	binary.BigEndian.PutUint32(pseudo[n:], uint32(len(b)))
	binary.BigEndian.PutUint32(pseudo[n+4:], uint32(protocol))
	return fold(sum(pseudo[:n+8], 0) + sum(b, 0))
}
