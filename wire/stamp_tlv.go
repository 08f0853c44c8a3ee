package wire

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"
)

// The flags of a STAMP TLV (RFC 8972 §4).
const (
	TLVUnrecognised byte = 0x80 // the reflector does not know its type
	TLVMalformed    byte = 0x40
	TLVUnverified   byte = 0x20 // the HMAC does not fit
)

// The types of STAMP TLVs (RFC 8972 §5.1).
const (
	TLVPadding   uint8 = 1
	TLVLocation  uint8 = 2
	TLVTimestamp uint8 = 3
	TLVClass     uint8 = 4
	TLVDirect    uint8 = 5
	TLVFollowUp  uint8 = 7
	TLVHMAC      uint8 = 8
)

// TLV is an optional part of a STAMP packet, behind its base (RFC 8972 §4).
type TLV struct {
	Flags byte
	Type  uint8
	Value []byte
}

const tlvHeader = 4

// AppendTLVs writes TLVs behind what b holds.
func AppendTLVs(b []byte, list ...TLV) []byte {
	for _, t := range list {
		b = append(b, t.Flags, t.Type)
		b = binary.BigEndian.AppendUint16(b, uint16(len(t.Value)))
		b = append(b, t.Value...)
	}
	return b
}

// ParseTLVs reads what is behind the base of a STAMP packet. Zeros are padding of
// before RFC 8972. It returns what it could read beside the error.
func ParseTLVs(b []byte) ([]TLV, error) {
	var list []TLV
	for len(b) > 0 {
		if b[0] == 0 && (len(b) < 2 || b[1] == 0) {
			return list, nil // reserved type: padding
		}
		if len(b) < tlvHeader {
			return list, fmt.Errorf("%w: STAMP TLV of %d bytes", ErrPacket, len(b))
		}
		n := int(binary.BigEndian.Uint16(b[2:]))
		if len(b) < tlvHeader+n {
			return list, fmt.Errorf("%w: STAMP TLV that says %d bytes and has %d", ErrPacket, n, len(b)-tlvHeader)
		}
		list = append(list, TLV{b[0], b[1], b[tlvHeader : tlvHeader+n]})
		b = b[tlvHeader+n:]
	}
	return list, nil
}

// How a STAMP end's clock is kept, and how it stamps (RFC 8972 §4.3).
const (
	SyncNTP   uint8 = 1
	SyncPTP   uint8 = 2
	SyncLocal uint8 = 5 // running free
	StampHard uint8 = 1
	StampSoft uint8 = 2
)

// TimestampInfo is the Timestamp Information TLV (RFC 8972 §4.3).
type TimestampInfo struct{ SyncIn, MethodIn, SyncOut, MethodOut uint8 }

// TLV writes it.
func (i TimestampInfo) TLV() TLV {
	return TLV{Type: TLVTimestamp, Value: []byte{i.SyncIn, i.MethodIn, i.SyncOut, i.MethodOut}}
}

// ParseTimestampInfo reads it.
func ParseTimestampInfo(t TLV) (TimestampInfo, error) {
	if len(t.Value) != 4 {
		return TimestampInfo{}, fmt.Errorf("%w: timestamp information of %d bytes", ErrPacket, len(t.Value))
	}
	return TimestampInfo{t.Value[0], t.Value[1], t.Value[2], t.Value[3]}, nil
}

// Class is the Class of Service TLV (RFC 8972 §4.4): the DSCP that the sender asks the
// reflector to answer with, the DSCP that the request came with, and its ECN.
type Class struct {
	Asked, Received uint8 // 0 to 63
	ECN             uint8
	Refused         bool // the reflector's policy does not let it answer so
}

// TLV writes it.
func (c Class) TLV() TLV {
	refused := uint32(0)
	if c.Refused {
		refused = 1
	}
	v := uint32(c.Asked&0x3f)<<26 | uint32(c.Received&0x3f)<<20 | uint32(c.ECN&3)<<18 | refused<<16
	return TLV{Type: TLVClass, Value: binary.BigEndian.AppendUint32(nil, v)}
}

// ParseClass reads it.
func ParseClass(t TLV) (Class, error) {
	if len(t.Value) != 4 {
		return Class{}, fmt.Errorf("%w: class of service of %d bytes", ErrPacket, len(t.Value))
	}
	v := binary.BigEndian.Uint32(t.Value)
	return Class{Asked: uint8(v >> 26), Received: uint8(v>>20) & 0x3f, ECN: uint8(v>>18) & 3, Refused: v>>16&3 != 0}, nil
}

// DirectMeasurement is the Direct Measurement TLV (RFC 8972 §4.5): how many packets each end
// sent and received of the session.
type DirectMeasurement struct{ SenderSent, ReflectorReceived, ReflectorSent uint32 }

// TLV writes it.
func (d DirectMeasurement) TLV() TLV {
	b := binary.BigEndian.AppendUint32(nil, d.SenderSent)
	b = binary.BigEndian.AppendUint32(b, d.ReflectorReceived)
	return TLV{Type: TLVDirect, Value: binary.BigEndian.AppendUint32(b, d.ReflectorSent)}
}

// ParseDirect reads it.
func ParseDirect(t TLV) (DirectMeasurement, error) {
	if len(t.Value) != 12 {
		return DirectMeasurement{}, fmt.Errorf("%w: direct measurement of %d bytes", ErrPacket, len(t.Value))
	}
	return DirectMeasurement{binary.BigEndian.Uint32(t.Value), binary.BigEndian.Uint32(t.Value[4:]), binary.BigEndian.Uint32(t.Value[8:])}, nil
}

// FollowUp is the Follow-Up Telemetry TLV (RFC 8972 §4.7): when the reflector's
// answer before this one really left.
type FollowUp struct {
	Seq    uint32 // of that answer
	Sent   time.Time
	Method uint8
}

// TLV writes it.
func (f FollowUp) TLV() TLV {
	b := binary.BigEndian.AppendUint32(nil, f.Seq)
	at := uint64(0)
	if !f.Sent.IsZero() {
		at = ntp(f.Sent)
	}
	b = binary.BigEndian.AppendUint64(b, at)
	return TLV{Type: TLVFollowUp, Value: append(b, f.Method, 0, 0, 0)}
}

// ParseFollowUp reads it; Sent is zero when the reflector had none yet.
func ParseFollowUp(t TLV) (FollowUp, error) {
	if len(t.Value) != 16 {
		return FollowUp{}, fmt.Errorf("%w: follow-up telemetry of %d bytes", ErrPacket, len(t.Value))
	}
	f := FollowUp{Seq: binary.BigEndian.Uint32(t.Value), Method: t.Value[12]}
	if at := binary.BigEndian.Uint64(t.Value[4:]); at != 0 {
		f.Sent = fromNTP(at)
	}
	return f, nil
}

// The sub-TLVs of a location that matter to us (RFC 8972 §5.1.1); their length tells
// the family.
const (
	locationDestination uint8 = 4
	locationSource      uint8 = 5
)

// Location is the Location TLV (RFC 8972 §4.2): the ports and addresses that the
// request had when it reached the reflector.
type Location struct{ Source, Destination netip.AddrPort }

// TLV writes it.
func (l Location) TLV() TLV {
	b := binary.BigEndian.AppendUint16(nil, l.Destination.Port())
	b = binary.BigEndian.AppendUint16(b, l.Source.Port())
	b = AppendTLVs(b, TLV{Type: locationDestination, Value: l.Destination.Addr().Unmap().AsSlice()})
	b = AppendTLVs(b, TLV{Type: locationSource, Value: l.Source.Addr().Unmap().AsSlice()})
	return TLV{Type: TLVLocation, Value: b}
}

// ParseLocation reads it.
func ParseLocation(t TLV) (Location, error) {
	if len(t.Value) < 4 {
		return Location{}, fmt.Errorf("%w: location of %d bytes", ErrPacket, len(t.Value))
	}
	var source, destination netip.Addr
	list, err := ParseTLVs(t.Value[4:])
	for _, s := range list {
		a, ok := netip.AddrFromSlice(s.Value)
		if !ok {
			continue
		}
		switch s.Type {
		case locationSource:
			source = a
		case locationDestination:
			destination = a
		}
	}
	return Location{Source: netip.AddrPortFrom(source, binary.BigEndian.Uint16(t.Value[2:])), Destination: netip.AddrPortFrom(destination, binary.BigEndian.Uint16(t.Value))}, err
}
