package respond

import (
	"encoding/binary"
	"net/netip"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// extension answers the TLVs of one request (RFC 8972 §4).
type extension struct {
	f    *reflector
	p    *network.Packet
	s    *state // nil for a stateless reflector
	peer netip.AddrPort
	key  []byte // of the authenticated mode; nil in the other

	asked uint8 // DSCP that the answer shall leave with
}

// fill writes the TLVs of a request for the answer, each at its place and of its size;
// those it does not know it marks so. In authenticated mode they are answered only when
// their HMAC fits, and get one of the answer's.
func (x *extension) fill(out, in []byte, seq, asked uint32) {
	copy(out, in)
	whole := out
	sealed := x.key == nil || wire.TLVsSealed(asked, in, x.key)
	for len(out) >= 4 && (out[0] != 0 || out[1] != 0) {
		n := int(binary.BigEndian.Uint16(out[2:]))
		out[0] = 0 // what the request's flags were says nothing (RFC 8972 §4)
		if len(out) < 4+n {
			out[0] |= wire.TLVMalformed
			return
		}
		switch {
		case out[1] == wire.TLVHMAC:
			x.seal(whole[:len(whole)-len(out)], out, n, seq, sealed)
		case !sealed:
			out[0] |= wire.TLVUnverified
		default:
			x.one(out, n)
		}
		out = out[4+n:]
	}
}

// seal writes the HMAC TLV over those before it.
func (x *extension) seal(before, out []byte, n int, seq uint32, sealed bool) {
	switch {
	case x.key == nil:
		out[0] |= wire.TLVUnrecognised
		return
	case !sealed:
		out[0] |= wire.TLVUnverified
	}
	t := wire.SealTLVs(seq, before, x.key)
	if len(t.Value) != n {
		out[0] |= wire.TLVMalformed
		return
	}
	copy(out[4:], t.Value)
}

// one answers the TLV at the beginning of out.
func (x *extension) one(out []byte, n int) {
	value := out[4 : 4+n]
	fill := func(t wire.TLV) {
		if len(t.Value) == n {
			copy(value, t.Value)
			return
		}
		out[0] |= wire.TLVMalformed
	}
	known := true
	switch out[1] {
	case wire.TLVPadding:
	case wire.TLVTimestamp:
		info := wire.TimestampInfo{SyncIn: wire.SyncLocal, SyncOut: wire.SyncLocal, MethodIn: wire.StampSoft, MethodOut: wire.StampSoft}
		if inStep, _, _ := wire.ReadErrorEstimate(x.f.accuracy()); inStep {
			info.SyncIn, info.SyncOut = wire.SyncNTP, wire.SyncNTP
		}
		fill(info.TLV())
	case wire.TLVClass:
		if known = x.p.DSCP.Known; !known {
			break
		}
		c, err := wire.ParseClass(wire.TLV{Value: value})
		if err != nil {
			out[0] |= wire.TLVMalformed
			break
		}
		_, able := x.f.conn.(network.Classed)
		c.Received, c.Refused = x.p.DSCP.Value, !able && c.Asked != 0
		if able {
			x.asked = c.Asked
		}
		fill(c.TLV())
	case wire.TLVDirect:
		if known = x.s != nil; known {
			d, _ := wire.ParseDirect(wire.TLV{Value: value})
			d.ReflectorReceived, d.ReflectorSent = x.s.received, x.s.sent
			fill(d.TLV())
		}
	case wire.TLVFollowUp:
		if known = x.s != nil; known {
			fill(x.s.last.TLV())
		}
	case wire.TLVLocation:
		// At an unspecified address it is not known by which one it came.
		if known = !x.f.r.o.Listen.Addr().IsUnspecified(); known {
			fill(wire.Location{Source: x.peer, Destination: x.f.r.o.Listen}.TLV())
		}
	default:
		known = false
	}
	if !known {
		out[0] |= wire.TLVUnrecognised
	}
}
