package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

const (
	extensionVersion  = 2 << 4
	mplsClass         = 1 // RFC 4950 §3
	mplsIncomingStack = 1
	interfaceClass    = 2   // RFC 5837 §4
	leastOriginal     = 128 // bytes of the packet before extensions, RFC 4884 §5.5
)

// The bits of the C-Type of interface information (RFC 5837 §4.1). The upper two
// are the role; 0 is the interface that the packet came in by.
const (
	hasIndex = 1 << 3
	hasAddr  = 1 << 2
	hasName  = 1 << 1
	hasMTU   = 1
	mostName = 63 // bytes
)

// Interface is what a router says of one of its interfaces (RFC 5837 §4).
type Interface struct {
	Index uint32     // 0 when it does not say
	Addr  netip.Addr // not valid when it does not say
	Name  string     // the same
	MTU   int        // bytes; 0 when it does not say
}

func (i Interface) String() string {
	switch {
	case i.Name != "":
		return i.Name
	case i.Addr.IsValid():
		return i.Addr.String()
	case i.Index > 0:
		return fmt.Sprintf("interface %d", i.Index)
	}
	return ""
}

// extension is the extension structure of RFC 4884 §7 with the objects that the
// error has.
func (e ICMPError) extension() []byte {
	b := []byte{extensionVersion, 0, 0, 0}
	if len(e.Labels) > 0 {
		b = binary.BigEndian.AppendUint16(b, uint16(4+4*len(e.Labels)))
		b = append(b, mplsClass, mplsIncomingStack)
		for i, l := range e.Labels {
			word := l.Value<<12 | uint32(l.Class&7)<<9 | uint32(l.TTL)
			if i == len(e.Labels)-1 {
				word |= 1 << 8 // bottom of the stack
			}
			b = binary.BigEndian.AppendUint32(b, word)
		}
	}
	if e.Incoming != nil {
		object := e.Incoming.marshal()
		b = binary.BigEndian.AppendUint16(b, uint16(4+len(object)-1))
		b = append(b, interfaceClass)
		b = append(b, object...)
	}
	binary.BigEndian.PutUint16(b[2:], Checksum(b))
	return b
}

// marshal gives the C-Type and what follows it.
func (i Interface) marshal() []byte {
	b := []byte{0}
	if i.Index > 0 {
		b[0] |= hasIndex
		b = binary.BigEndian.AppendUint32(b, i.Index)
	}
	if i.Addr.IsValid() {
		b[0] |= hasAddr
		family := uint16(1)
		if i.Addr.Is6() {
			family = 2
		}
		b = binary.BigEndian.AppendUint16(b, family)
		b = append(b, 0, 0)
		b = append(b, i.Addr.AsSlice()...)
	}
	if i.Name != "" {
		b[0] |= hasName
		name := i.Name[:min(len(i.Name), mostName)]
		size := (1 + len(name) + 3) &^ 3
		field := make([]byte, size)
		field[0] = byte(size)
		copy(field[1:], name)
		b = append(b, field...)
	}
	if i.MTU > 0 {
		b[0] |= hasMTU
		b = binary.BigEndian.AppendUint32(b, uint32(i.MTU))
	}
	return b
}

// Extend reads the extension structure of RFC 4884 §7 that was found behind what
// the error quotes, into the error. What is broken is an error that wraps
// ErrPacket.
func (e *ICMPError) Extend(b []byte) error { return e.parseExtension(b) }

// parseExtension reads the extension structure behind what an error quotes.
func (e *ICMPError) parseExtension(b []byte) error {
	if len(b) < 4 || b[0]>>4 != extensionVersion>>4 {
		return fmt.Errorf("%w: ICMP extension structure", ErrPacket)
	}
	if binary.BigEndian.Uint16(b[2:]) != 0 && Checksum(b) != 0 {
		return fmt.Errorf("%w: checksum of the ICMP extension", ErrPacket)
	}
	for b = b[4:]; len(b) > 0; {
		if len(b) < 4 {
			return fmt.Errorf("%w: ICMP extension object is cut short", ErrPacket)
		}
		size := int(binary.BigEndian.Uint16(b))
		if size < 4 || size > len(b) {
			return fmt.Errorf("%w: ICMP extension object of %d bytes", ErrPacket, size)
		}
		switch {
		case b[2] == mplsClass && b[3] == mplsIncomingStack:
			for entry := b[4:size]; len(entry) >= 4; entry = entry[4:] {
				word := binary.BigEndian.Uint32(entry)
				e.Labels = append(e.Labels, Label{Value: word >> 12, Class: uint8(word >> 9 & 7), TTL: uint8(word)})
			}
		case b[2] == interfaceClass && b[3]>>6 == 0:
			i, err := parseInterface(b[3], b[4:size])
			if err != nil {
				return err
			}
			e.Incoming = &i
		}
		b = b[size:]
	}
	return nil
}

func parseInterface(has byte, b []byte) (Interface, error) {
	var i Interface
	short := fmt.Errorf("%w: interface information is cut short", ErrPacket)
	take := func(n int) []byte {
		if n < 0 || len(b) < n {
			return nil
		}
		part := b[:n]
		b = b[n:]
		return part
	}
	if has&hasIndex != 0 {
		part := take(4)
		if part == nil {
			return i, short
		}
		i.Index = binary.BigEndian.Uint32(part)
	}
	if has&hasAddr != 0 {
		head := take(4)
		if head == nil {
			return i, short
		}
		size := map[uint16]int{1: 4, 2: 16}[binary.BigEndian.Uint16(head)]
		part := take(size)
		a, ok := netip.AddrFromSlice(part)
		if !ok {
			return i, short
		}
		i.Addr = a
	}
	if has&hasName != 0 {
		if len(b) == 0 || b[0] == 0 {
			return i, short
		}
		part := take(int(b[0]))
		if part == nil {
			return i, short
		}
		i.Name = printable(part[1:])
	}
	if has&hasMTU != 0 {
		part := take(4)
		if part == nil {
			return i, short
		}
		i.MTU = int(binary.BigEndian.Uint32(part) & 0x7fffffff)
	}
	return i, nil
}

// printable is a name up to its padding, without what could disturb a terminal.
func printable(b []byte) string {
	var out []byte
	for _, c := range b {
		if c == 0 {
			break
		}
		if c < 0x20 || c > 0x7e {
			c = '?'
		}
		out = append(out, c)
	}
	return string(out)
}
