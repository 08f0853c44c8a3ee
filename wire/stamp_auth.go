package wire

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
)

// StampAuthSize is the size of authenticated STAMP packets (RFC 8762 §4.2.2, §4.3.2),
// in bytes, and stampCovered how many of them the HMAC covers.
const (
	StampAuthSize = 112
	stampCovered  = StampAuthSize - stampMAC
	stampMAC      = 16
)

// stampSum is HMAC-SHA-256 truncated to 128 bits (RFC 8762 §4.4).
func stampSum(key, covered []byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write(covered)
	return m.Sum(nil)[:stampMAC]
}

func stampSeal(b, key []byte) { copy(b[stampCovered:StampAuthSize], stampSum(key, b[:stampCovered])) }

func stampOpen(b, key []byte) error {
	if len(b) < StampAuthSize {
		return fmt.Errorf("%w: authenticated STAMP packet of %d bytes", ErrPacket, len(b))
	}
	if !hmac.Equal(b[stampCovered:StampAuthSize], stampSum(key, b[:stampCovered])) {
		return fmt.Errorf("%w: STAMP packet with another key's HMAC", ErrPacket)
	}
	return nil
}

// MarshalAuth writes the packet in authenticated mode, padded with zeros to a size;
// StampAuthSize at least.
func (q StampRequest) MarshalAuth(size int, key []byte) []byte {
	b := make([]byte, max(size, StampAuthSize))
	binary.BigEndian.PutUint32(b, q.Seq)
	binary.BigEndian.PutUint64(b[16:], ntp(q.Sent))
	binary.BigEndian.PutUint16(b[24:], q.Error)
	binary.BigEndian.PutUint16(b[26:], q.Session)
	stampSeal(b, key)
	return b
}

// ParseStampRequestAuth reads what a sender sent in authenticated mode; another key's
// packet is an error.
func ParseStampRequestAuth(b, key []byte) (StampRequest, error) {
	if err := stampOpen(b, key); err != nil {
		return StampRequest{}, err
	}
	e := binary.BigEndian.Uint16(b[24:])
	return StampRequest{Seq: binary.BigEndian.Uint32(b), Sent: timeOf(binary.BigEndian.Uint64(b[16:]), e), Error: e, Session: binary.BigEndian.Uint16(b[26:])}, nil
}

// MarshalAuth writes the reply in authenticated mode at the size of the request.
func (r StampReply) MarshalAuth(size int, key []byte) []byte {
	b := make([]byte, max(size, StampAuthSize))
	binary.BigEndian.PutUint32(b, r.Seq)
	binary.BigEndian.PutUint64(b[16:], ntp(r.Sent))
	binary.BigEndian.PutUint16(b[24:], r.Error)
	binary.BigEndian.PutUint16(b[26:], r.Session)
	binary.BigEndian.PutUint64(b[32:], ntp(r.Received))
	binary.BigEndian.PutUint32(b[48:], r.Request.Seq)
	binary.BigEndian.PutUint64(b[64:], ntp(r.Request.Sent))
	binary.BigEndian.PutUint16(b[72:], r.Request.Error)
	b[80] = r.SenderTTL
	stampSeal(b, key)
	return b
}

// ParseStampReplyAuth reads what a reflector sent in authenticated mode.
func ParseStampReplyAuth(b, key []byte) (StampReply, error) {
	if err := stampOpen(b, key); err != nil {
		return StampReply{}, err
	}
	r := StampReply{Seq: binary.BigEndian.Uint32(b), Error: binary.BigEndian.Uint16(b[24:]), Session: binary.BigEndian.Uint16(b[26:]),
		Request:   StampRequest{Seq: binary.BigEndian.Uint32(b[48:]), Error: binary.BigEndian.Uint16(b[72:])},
		SenderTTL: b[80]}
	r.Sent, r.Received = timeOf(binary.BigEndian.Uint64(b[16:]), r.Error), timeOf(binary.BigEndian.Uint64(b[32:]), r.Error)
	r.Request.Sent = timeOf(binary.BigEndian.Uint64(b[64:]), r.Request.Error)
	return r, nil
}

// SealTLVs is the HMAC TLV that protects those before it (RFC 8972 §4.8): over the
// sequence number of the packet and the TLVs as they are written.
func SealTLVs(seq uint32, tlvs, key []byte) TLV {
	return TLV{Type: TLVHMAC, Value: stampSum(key, append(binary.BigEndian.AppendUint32(nil, seq), tlvs...))}
}

// TLVsSealed reports whether the TLVs behind the base of a packet are protected by their
// HMAC TLV, and unchanged.
func TLVsSealed(seq uint32, b, key []byte) bool {
	list, _ := ParseTLVs(b)
	n := 0
	for _, t := range list {
		if t.Type == TLVHMAC {
			return hmac.Equal(t.Value, SealTLVs(seq, b[:n], key).Value)
		}
		n += tlvHeader + len(t.Value)
	}
	return false
}
