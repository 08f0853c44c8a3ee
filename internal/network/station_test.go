package network

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/wire"
)

func TestStations(t *testing.T) {
	h := wire.Hardware{0x34, 0x56, 0x78, 0x9a, 0xbc, 0xde}
	a := Station(h, "quay0")
	assert.Equal(t, "fe80::3656:78ff:fe9a:bcde%quay0", a.String(), "the example of RFC 4291, App. A")
	for _, h := range []wire.Hardware{h, {}, wire.Everybody} {
		back, ok := HardwareOf(Station(h, "quay0"))
		assert.True(t, ok)
		assert.Equal(t, h, back)
	}
	for _, other := range []string{"192.0.2.1", "fe80::1", "2001:db8::3656:78ff:fe9a:bcde"} {
		_, ok := HardwareOf(netip.MustParseAddr(other))
		assert.False(t, ok, other)
	}
}
