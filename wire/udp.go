package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// UDPHeaderSize in bytes.
const UDPHeaderSize = 8

// UDP is a datagram (RFC 768).
type UDP struct {
	SrcPort, DstPort uint16
	Payload          []byte
}

// Marshal writes the datagram with its checksum, 0 sent as ffff.
func (u UDP) Marshal(src, dst netip.Addr) []byte {
	b := make([]byte, UDPHeaderSize+len(u.Payload))
	binary.BigEndian.PutUint16(b, u.SrcPort)
	binary.BigEndian.PutUint16(b[2:], u.DstPort)
	binary.BigEndian.PutUint16(b[4:], uint16(len(b)))
	copy(b[UDPHeaderSize:], u.Payload)
	sum := TransportChecksum(src, dst, ProtocolUDP, b)
	if sum == 0 {
		sum = 0xffff
	}
	binary.BigEndian.PutUint16(b[6:], sum)
	return b
}

// ParseUDP reads a datagram; the payload aliases b. It does not verify the
// checksum, which needs the addresses: see TransportChecksum.
func ParseUDP(b []byte) (UDP, error) {
	if len(b) < UDPHeaderSize {
		return UDP{}, fmt.Errorf("%w: UDP datagram of %d bytes", ErrPacket, len(b))
	}
	size := int(binary.BigEndian.Uint16(b[4:]))
	if size < UDPHeaderSize || size > len(b) {
		return UDP{}, fmt.Errorf("%w: UDP length %d in %d bytes", ErrPacket, size, len(b))
	}
	return UDP{SrcPort: binary.BigEndian.Uint16(b), DstPort: binary.BigEndian.Uint16(b[2:]), Payload: b[UDPHeaderSize:size]}, nil
}
