package host

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
)

// readable turns the kernel's way of writing an address, words of four bytes in
// its own order, into the usual one; empty for all addresses.
func readable(text string) string {
	b, err := hex.DecodeString(text)
	if err != nil || len(b)%4 != 0 {
		return text
	}
	for i := 0; i < len(b); i += 4 {
		binary.BigEndian.PutUint32(b[i:], binary.NativeEndian.Uint32(b[i:]))
	}
	a, ok := netip.AddrFromSlice(b)
	if !ok {
		return text
	}
	if a = a.Unmap(); a.IsUnspecified() {
		return ""
	}
	return a.String()
}
