package network

import (
	"net/netip"

	"woodlark.example/wire"
)

// Station is how a station of a link stands among addresses: the link-local address that IPv6
// makes of its hardware address (RFC 4291 App. A), with the interface as zone. All stations of the
// link stand as its multicast address of all nodes.
func Station(h wire.Hardware, by string) netip.Addr {
	if h == wire.Everybody {
		return netip.IPv6LinkLocalAllNodes().WithZone(by)
	}
	a := [16]byte{0: 0xfe, 1: 0x80, 8: h[0] ^ 2, 9: h[1], 10: h[2], 11: 0xff, 12: 0xfe, 13: h[3], 14: h[4], 15: h[5]}
	return netip.AddrFrom16(a).WithZone(by)
}

// HardwareOf is the hardware address that a station stands for; false when it is none.
func HardwareOf(a netip.Addr) (h wire.Hardware, ok bool) {
	if !a.Is6() {
		return h, false
	}
	b := a.As16()
	if a.WithZone("") == netip.IPv6LinkLocalAllNodes() {
		return wire.Everybody, true
	}
	if b[0] != 0xfe || b[1] != 0x80 || b[11] != 0xff || b[12] != 0xfe {
		return h, false
	}
	return wire.Hardware{b[8] ^ 2, b[9], b[10], b[13], b[14], b[15]}, true
}
