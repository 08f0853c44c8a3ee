package live

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

// TestDepartures: each byte counts once, however often it leaves, over the end of the
// sequence numbers too.
func TestDepartures(t *testing.T) {
	from, to := netip.MustParseAddrPort("192.0.2.1:5000"), netip.MustParseAddrPort("203.0.113.2:7474")
	var d departures
	leaves := func(seq uint32, flags wire.TCPFlags, size int) {
		s := wire.TCP{SrcPort: from.Port(), DstPort: to.Port(), Seq: seq, Flags: flags, Payload: make([]byte, size)}
		h := wire.IP{Src: from.Addr(), Dst: to.Addr(), Protocol: wire.ProtocolTCP, TTL: 64}
		d.count(h.Marshal(s.Marshal(from.Addr(), to.Addr())))
	}
	near, far := net.TCPAddrFromAddrPort(from), net.TCPAddrFromAddrPort(to)
	_, ok := d.of(near, far)
	assert.False(t, ok, "nothing left yet")
	const first = 1<<32 - 1501 // the second segment goes over the end
	leaves(first, wire.SYN, 0)
	for _, x := range []struct{ at, size int }{{0, 1000}, {1000, 1000}, {1000, 1000}, {2000, 400}, {0, 1000}, {1500, 1400}} {
		leaves(uint32(first+1)+uint32(x.at), wire.ACK, x.size)
	}
	leaves(2900-1500, wire.ACK, 0) // an acknowledgement holds nothing
	s, ok := d.of(near, far)
	require.True(t, ok)
	assert.Equal(t, int64(2900), s.Left)
	assert.Equal(t, int64(6), s.Sent)
	assert.Equal(t, int64(2), s.Retransmits)
	assert.Equal(t, 1400, s.Segment)
	_, ok = d.of(far, near)
	assert.False(t, ok, "the other way is another connection")
	d.count([]byte{1, 2, 3})
	leaves(0, wire.RST, 0)
	_, ok = d.of(near, far)
	assert.False(t, ok)
}
