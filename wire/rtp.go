package wire

import (
	"encoding/binary"
	"fmt"
	"time"
)

// RTPHeader is the size of an RTP header without contributing sources or extension, in
// bytes (RFC 3550 §5.1).
const RTPHeader = 12

// RTP is the header of an RTP packet.
type RTP struct {
	Marker    bool
	Type      uint8 // of the payload, 0 to 127
	Seq       uint16
	Timestamp uint32
	Source    uint32 // SSRC
}

// Append writes the header behind what b holds.
func (r RTP) Append(b []byte) []byte {
	kind := r.Type & 0x7f
	if r.Marker {
		kind |= 0x80
	}
	b = append(b, 2<<6, kind)
	b = binary.BigEndian.AppendUint16(b, r.Seq)
	b = binary.BigEndian.AppendUint32(b, r.Timestamp)
	return binary.BigEndian.AppendUint32(b, r.Source)
}

// ParseRTP reads a header and returns what is behind it.
func ParseRTP(b []byte) (RTP, []byte, error) {
	if len(b) < RTPHeader || b[0]>>6 != 2 {
		return RTP{}, nil, fmt.Errorf("%w: not RTP", ErrPacket)
	}
	skip := RTPHeader + 4*int(b[0]&0xf)
	if b[0]&0x10 != 0 {
		if len(b) < skip+4 {
			return RTP{}, nil, fmt.Errorf("%w: RTP extension is cut off", ErrPacket)
		}
		skip += 4 + 4*int(binary.BigEndian.Uint16(b[skip+2:]))
	}
	if len(b) < skip {
		return RTP{}, nil, fmt.Errorf("%w: RTP header is cut off", ErrPacket)
	}
	return RTP{Marker: b[1]&0x80 != 0, Type: b[1] & 0x7f, Seq: binary.BigEndian.Uint16(b[2:]), Timestamp: binary.BigEndian.Uint32(b[4:]), Source: binary.BigEndian.Uint32(b[8:])}, b[skip:], nil
}

// The RTCP packet types (RFC 3550 §12.1).
const (
	RTCPSender   uint8 = 200
	RTCPReceiver uint8 = 201
	RTCPSource   uint8 = 202
)

// IsRTCP tells an RTCP packet from an RTP one (RFC 5761 §4).
func IsRTCP(b []byte) bool { return len(b) >= 8 && b[0]>>6 == 2 && b[1] >= 192 && b[1] <= 223 }

// SenderReport is an RTCP sender report with at most one block about what its sender
// receives (RFC 3550 §6.4.1).
type SenderReport struct {
	Source    uint32
	Sent      time.Time
	Timestamp uint32 // RTP's at that time
	Packets   uint32
	Bytes     uint32
	About     *ReceptionBlock
}

// ReceptionBlock is what a receiver says of a source.
type ReceptionBlock struct {
	Source   uint32
	Fraction uint8 // of packets lost since the last report, in 1/256
	Lost     int32 // since the start; negative with duplicates
	Highest  uint32
	Jitter   uint32 // in units of the RTP clock
	LastSR   uint32 // the middle of the NTP time of the last sender report
	Since    uint32 // that report, in 1/65536 s
}

const (
	senderReportSize   = 28
	receptionBlockSize = 24
)

// Marshal writes the report, followed by the name of its source, which each compound
// packet must have (RFC 3550 §6.1).
func (r SenderReport) Marshal(name string) []byte {
	count := 0
	size := senderReportSize
	if r.About != nil {
		count, size = 1, size+receptionBlockSize
	}
	b := []byte{2<<6 | byte(count), RTCPSender}
	b = binary.BigEndian.AppendUint16(b, uint16(size/4-1))
	b = binary.BigEndian.AppendUint32(b, r.Source)
	b = binary.BigEndian.AppendUint64(b, ntp(r.Sent))
	for _, v := range []uint32{r.Timestamp, r.Packets, r.Bytes} {
		b = binary.BigEndian.AppendUint32(b, v)
	}
	if a := r.About; a != nil {
		for _, v := range []uint32{a.Source, uint32(a.Fraction)<<24 | uint32(a.Lost)&0xffffff, a.Highest, a.Jitter, a.LastSR, a.Since} {
			b = binary.BigEndian.AppendUint32(b, v)
		}
	}
	return appendSource(b, r.Source, name)
}

// appendSource writes an SDES packet with the canonical name of a source (§6.5).
func appendSource(b []byte, source uint32, name string) []byte {
	name = name[:min(len(name), 255)]
	text := append([]byte{1, byte(len(name))}, name...)
	text = append(text, make([]byte, 4-len(text)%4)...) // ends with a zero at least
	b = append(b, 2<<6|1, RTCPSource)
	b = binary.BigEndian.AppendUint16(b, uint16((4+4+len(text))/4-1))
	b = binary.BigEndian.AppendUint32(b, source)
	return append(b, text...)
}

// ParseSenderReport reads the first packet of a compound one, which must be a sender
// report.
func ParseSenderReport(b []byte) (SenderReport, error) {
	if !IsRTCP(b) || b[1] != RTCPSender || len(b) < senderReportSize {
		return SenderReport{}, fmt.Errorf("%w: not an RTCP sender report", ErrPacket)
	}
	u := func(at int) uint32 { return binary.BigEndian.Uint32(b[at:]) }
	r := SenderReport{Source: u(4), Sent: fromNTP(binary.BigEndian.Uint64(b[8:])), Timestamp: u(16), Packets: u(20), Bytes: u(24)}
	if b[0]&0x1f == 0 {
		return r, nil
	}
	if len(b) < senderReportSize+receptionBlockSize {
		return r, fmt.Errorf("%w: RTCP block is cut off", ErrPacket)
	}
	lost := int32(u(32)<<8) >> 8
	r.About = &ReceptionBlock{Source: u(28), Fraction: b[32], Lost: lost, Highest: u(36), Jitter: u(40), LastSR: u(44), Since: u(48)}
	return r, nil
}

// MiddleNTP is the middle 32 bits of a time, as reception blocks name reports.
func MiddleNTP(t time.Time) uint32 { return uint32(ntp(t) >> 16) }
