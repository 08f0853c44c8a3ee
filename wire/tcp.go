package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// TCPHeaderSize is that of a header without options, in bytes.
const TCPHeaderSize = 20

// TCPFlags are the control bits of a segment (RFC 9293 §3.1).
type TCPFlags uint8

// The control bits that Woodlark looks at.
const (
	FIN TCPFlags = 1 << iota
	SYN
	RST
	PSH
	ACK
)

// TCP is a segment (RFC 9293).
type TCP struct {
	SrcPort, DstPort uint16
	Seq, Ack         uint32
	Flags            TCPFlags
	Window           uint16
	Options          []byte // a multiple of four bytes
	Payload          []byte
}

// Has reports whether all the bits of flags are set.
func (t TCP) Has(flags TCPFlags) bool { return t.Flags&flags == flags }

// Marshal writes the segment with its checksum. Options beyond 40 bytes, or not
// of a multiple of four, are a fault of the caller and are left out.
func (t TCP) Marshal(src, dst netip.Addr) []byte {
	options := t.Options
	if len(options) > 40 || len(options)%4 != 0 {
		options = nil
	}
	header := TCPHeaderSize + len(options)
	b := make([]byte, header+len(t.Payload))
	binary.BigEndian.PutUint16(b, t.SrcPort)
	binary.BigEndian.PutUint16(b[2:], t.DstPort)
	binary.BigEndian.PutUint32(b[4:], t.Seq)
	binary.BigEndian.PutUint32(b[8:], t.Ack)
	b[12], b[13] = uint8(header/4)<<4, uint8(t.Flags)
	binary.BigEndian.PutUint16(b[14:], t.Window)
	copy(b[TCPHeaderSize:], options)
	copy(b[header:], t.Payload)
	binary.BigEndian.PutUint16(b[16:], TransportChecksum(src, dst, ProtocolTCP, b))
	return b
}

// ParseTCP reads a segment; options and payload alias b. It does not verify the
// checksum, which needs the addresses: see TransportChecksum.
func ParseTCP(b []byte) (TCP, error) {
	if len(b) < TCPHeaderSize {
		return TCP{}, fmt.Errorf("%w: TCP segment of %d bytes", ErrPacket, len(b))
	}
	header := int(b[12]>>4) * 4
	if header < TCPHeaderSize || header > len(b) {
		return TCP{}, fmt.Errorf("%w: TCP header length %d in %d bytes", ErrPacket, header, len(b))
	}
	return TCP{
		SrcPort: binary.BigEndian.Uint16(b), DstPort: binary.BigEndian.Uint16(b[2:]),
		Seq: binary.BigEndian.Uint32(b[4:]), Ack: binary.BigEndian.Uint32(b[8:]),
		Flags: TCPFlags(b[13]), Window: binary.BigEndian.Uint16(b[14:]),
		Options: b[TCPHeaderSize:header], Payload: b[header:],
	}, nil
}
