package kernel

import (
	"encoding/binary"
	"net"
	"net/netip"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// told is what the control messages of a packet say.
type told struct {
	at      time.Time // zero when the kernel gave none
	ttl     int       // 0 when not told
	dscp    network.DSCP
	problem *extendedError
}

func readControl(control []byte) (t told) {
	for len(control) > 0 {
		header, data, rest, err := unix.ParseOneSocketControlMessage(control)
		if err != nil {
			break
		}
		control = rest
		switch {
		case header.Level == unix.SOL_SOCKET && header.Type == unix.SCM_TIMESTAMPING && len(data) >= 16:
			seconds, nanos := int64(binary.NativeEndian.Uint64(data)), int64(binary.NativeEndian.Uint64(data[8:]))
			if seconds != 0 || nanos != 0 {
				t.at = time.Unix(seconds, nanos)
			}
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_TTL && len(data) >= 4,
			header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_HOPLIMIT && len(data) >= 4:
			t.ttl = int(binary.NativeEndian.Uint32(data))
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_TOS && len(data) >= 1:
			t.dscp = network.DSCP{Known: true, Value: data[0] >> 2}
		case header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_TCLASS && len(data) >= 4:
			t.dscp = network.DSCP{Known: true, Value: uint8(binary.NativeEndian.Uint32(data) >> 2)}
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_RECVERR,
			header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_RECVERR:
			t.problem = parseExtendedError(data)
		}
	}
	return t
}

// parse completes a packet from its control messages and strips what is before
// the message. It reports whether the packet is one to hand out.
func (c *conn) parse(p *network.Packet, control []byte, queue bool) bool {
	t := readControl(control)
	p.At, p.TTL, p.DSCP = t.at, t.ttl, t.dscp
	if !queue {
		return c.answer(p)
	}
	if t.problem == nil {
		return false
	}
	switch problem := t.problem; problem.origin {
	case unix.SO_EE_ORIGIN_TIMESTAMPING:
		p.Event = network.Departure
		return c.stripSent(p)
	case unix.SO_EE_ORIGIN_ICMP, unix.SO_EE_ORIGIN_ICMP6:
		if c.raw {
			return false // a raw socket also gets the error itself, with its sender
		}
		// The kernel names the target as who it came from.
		p.To = netip.AddrPortFrom(p.Peer, p.Port)
		e := wire.ICMPError{Type: problem.kind, Code: problem.code, MTU: problem.mtu(c.family)}
		if n := int(problem.extension); n > 0 && n < len(p.Data) {
			_ = e.Extend(p.Data[n:]) // a broken one says nothing
			p.Data = p.Data[:n]
		}
		refuse(p, e, c.family, problem.offender)
		p.ICMP = &e
		return true
	}
	return false
}

// refuse makes a refusal of a packet by what an ICMP error says.
func refuse(p *network.Packet, e wire.ICMPError, f wire.Family, offender netip.Addr) {
	p.Event, p.Peer, p.MTU = network.Refusal, offender, e.MTU
	p.Cause = e.Refusal(f) + " by " + offender.String()
	p.Shut = e.Is(f, wire.NoPort) && offender == p.To.Addr()
}

// extendedError is what of struct sock_extended_err matters here.
type extendedError struct {
	origin, kind, code uint8
	info               uint32
	extension          uint16 // where the extension begins in the data (RFC 4884); 0 when there is none
	offender           netip.Addr
}

func parseExtendedError(data []byte) *extendedError {
	if len(data) < 16 {
		return nil
	}
	e := &extendedError{origin: data[4], kind: data[5], code: data[6], info: binary.NativeEndian.Uint32(data[8:]), extension: binary.NativeEndian.Uint16(data[12:])}
	if offender := data[16:]; len(offender) >= 8 {
		switch binary.NativeEndian.Uint16(offender) {
		case unix.AF_INET:
			e.offender = netip.AddrFrom4([4]byte(offender[4:8]))
		case unix.AF_INET6:
			if len(offender) >= 24 {
				e.offender = netip.AddrFrom16([16]byte(offender[8:24]))
			}
		}
	}
	return e
}

// mtu is what a packet-too-big names.
func (e *extendedError) mtu(f wire.Family) int {
	if (wire.ICMPError{Type: e.kind, Code: e.code}).Is(f, wire.TooBig) {
		return int(e.info)
	}
	return 0
}

// answer makes ready what came in: of raw IPv4 it takes off the IP header, and
// an ICMP error becomes a refusal of the message that it quotes.
func (c *conn) answer(p *network.Packet) bool {
	if !c.raw {
		return true
	}
	if c.family == wire.IPv4 {
		if len(p.Data) < 20 || p.Data[0]>>4 != 4 {
			return false
		}
		header := int(p.Data[0]&0xf) * 4
		if header < 20 || len(p.Data) < header {
			return false
		}
		p.TTL = int(p.Data[8])
		p.Data = p.Data[header:]
	}
	if len(p.Data) > 0 && (p.Data[0] == 0 || p.Data[0] == 129) { // an echo reply
		return true
	}
	e, err := wire.ParseICMPError(c.family, p.Data)
	if err != nil {
		return true
	}
	ip, message, err := wire.ParseQuoted(e.Quoted)
	if err != nil || ip.Protocol != wire.ICMPOf(c.family) {
		return false
	}
	p.Data, p.To = message, netip.AddrPortFrom(ip.Dst, 0)
	refuse(p, e, c.family, p.Peer)
	return true
}

// stripSent takes off the headers that the copy of a sent packet carries: it
// comes back as it was given to the device.
func (c *conn) stripSent(p *network.Packet) bool {
	const ethernet = 14
	protocol, skipped := wire.ICMPOf(c.family), 0
	if c.kind == network.UDP {
		protocol, skipped = wire.ProtocolUDP, wire.UDPHeaderSize
	}
	for _, skip := range []int{ethernet, 0} {
		if len(p.Data) < skip+20 {
			continue
		}
		switch b := p.Data[skip:]; {
		case c.family == wire.IPv4 && b[0]>>4 == 4 && b[9] == protocol:
			if header := int(b[0]&0xf)*4 + skipped; len(b) >= header {
				p.Data = b[header:]
				return true
			}
		case c.family == wire.IPv6 && len(b) >= 40+skipped && b[0]>>4 == 6 && b[6] == protocol:
			p.Data = b[40+skipped:]
			return true
		}
	}
	return true
}

// zoneOf is the interface's number of a link-local address with a zone.
func zoneOf(a netip.Addr) uint32 {
	zone := a.Zone()
	if zone == "" {
		return 0
	}
	if n, err := strconv.Atoi(zone); err == nil {
		return uint32(n)
	}
	if i, err := net.InterfaceByName(zone); err == nil {
		return uint32(i.Index)
	}
	return 0
}
