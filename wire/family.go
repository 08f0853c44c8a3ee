package wire

import (
	"fmt"
	"net/netip"
)

// Family is an IP version. The zero value is none.
type Family int

// The two families.
const (
	IPv4 Family = 4
	IPv6 Family = 6
)

func (f Family) String() string { return fmt.Sprintf("IPv%d", int(f)) }

// FamilyOf is the family of an address; an IPv4-mapped IPv6 address is IPv4.
func FamilyOf(a netip.Addr) Family {
	if a.Is4() || a.Is4In6() {
		return IPv4
	}
	return IPv6
}
