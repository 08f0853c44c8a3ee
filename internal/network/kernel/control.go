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

// parse completes a packet from its control messages and strips what is before
// the ICMP message. It reports whether the packet is one to hand out.
func (c *conn) parse(p *network.Packet, control []byte, queue bool) bool {
	var problem *extendedError
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
				p.At = time.Unix(seconds, nanos)
			}
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_TTL && len(data) >= 4,
			header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_HOPLIMIT && len(data) >= 4:
			p.TTL = int(binary.NativeEndian.Uint32(data))
		case header.Level == unix.IPPROTO_IP && header.Type == unix.IP_RECVERR,
			header.Level == unix.IPPROTO_IPV6 && header.Type == unix.IPV6_RECVERR:
			problem = parseExtendedError(data)
		}
	}
	if !queue {
		return c.strip(p)
	}
	if problem == nil {
		return false
	}
	switch problem.origin {
	case unix.SO_EE_ORIGIN_TIMESTAMPING:
		p.Event = network.Departure
		return c.stripSent(p)
	case unix.SO_EE_ORIGIN_ICMP, unix.SO_EE_ORIGIN_ICMP6:
		if c.raw {
			return false // a raw socket also gets the error itself, with its sender
		}
		p.Event = network.Refusal
		p.Peer = problem.offender
		p.Cause = wire.RefusalText(c.family, problem.kind, problem.code) + " by " + problem.offender.String()
		return true
	}
	return false
}

// extendedError is what of struct sock_extended_err matters here.
type extendedError struct {
	origin, kind, code uint8
	offender           netip.Addr
}

func parseExtendedError(data []byte) *extendedError {
	if len(data) < 16 {
		return nil
	}
	e := &extendedError{origin: data[4], kind: data[5], code: data[6]}
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

// strip takes the IP header off what a raw IPv4 socket gives.
func (c *conn) strip(p *network.Packet) bool {
	if !c.raw || c.family == wire.IPv6 {
		return true
	}
	if len(p.Data) < 20 || p.Data[0]>>4 != 4 {
		return false
	}
	header := int(p.Data[0]&0xf) * 4
	if header < 20 || len(p.Data) < header {
		return false
	}
	p.TTL = int(p.Data[8])
	p.Data = p.Data[header:]
	return true
}

// stripSent takes off the headers that the copy of a sent packet carries: it
// comes back as it was given to the device.
func (c *conn) stripSent(p *network.Packet) bool {
	const ethernet = 14
	for _, skip := range []int{ethernet, 0} {
		if len(p.Data) < skip+20 {
			continue
		}
		switch b := p.Data[skip:]; {
		case c.family == wire.IPv4 && b[0]>>4 == 4 && b[9] == unix.IPPROTO_ICMP:
			if header := int(b[0]&0xf) * 4; len(b) >= header {
				p.Data = b[header:]
				return true
			}
		case c.family == wire.IPv6 && len(b) >= 40 && b[0]>>4 == 6 && b[6] == unix.IPPROTO_ICMPV6:
			p.Data = b[40:]
			return true
		}
	}
	return true
}

func addressOf(from unix.Sockaddr) netip.Addr {
	switch s := from.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrFrom4(s.Addr)
	case *unix.SockaddrInet6:
		a := netip.AddrFrom16(s.Addr)
		if s.ZoneId != 0 {
			a = a.WithZone(strconv.Itoa(int(s.ZoneId)))
		}
		return a
	}
	return netip.Addr{}
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
