package live_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/wire"
)

const quay = `
world: quay
nodes:
  - {name: here, addresses: [192.0.2.1, "2001:db8::1"]}
  - {name: gw, router: true, addresses: [192.0.2.254, "2001:db8::ff"]}
  - {name: near, addresses: [192.0.2.2, "2001:db8::2"]}
  - {name: far, addresses: [192.0.2.3]}
  - {name: guarded, addresses: [192.0.2.4], icmp: prohibit}
links:
  - {between: [here, gw], delay: 1ms}
  - {between: [gw, near], delay: 1ms}
  - {between: [gw, far], delay: 19ms}
  - {between: [gw, guarded], delay: 1ms}
`

func read(t *testing.T, text string) *world.Model {
	t.Helper()
	m, err := world.Read([]byte(text), world.Options{})
	require.NoError(t, err)
	return m
}

func dial(t *testing.T, f wire.Family) network.Conn {
	n, err := live.New(read(t, quay)).At("here")
	require.NoError(t, err)
	c, err := n.Open(network.ICMP, f, network.SocketOptions{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func send(t *testing.T, c network.Conn, f wire.Family, to string, seq uint16) time.Time {
	at, err := c.Send(netip.AddrPortFrom(netip.MustParseAddr(to), 0), wire.Echo{ID: 7, Seq: seq, Payload: []byte("skerry")}.Marshal(f))
	require.NoError(t, err)
	return at
}

func TestAnswersComeInTheOrderOfTheirTimes(t *testing.T) {
	c := dial(t, wire.IPv4)
	farAt := send(t, c, wire.IPv4, "192.0.2.3", 1)
	nearAt := send(t, c, wire.IPv4, "192.0.2.2", 2)
	got := map[uint16]network.Packet{}
	var order []uint16
	for len(got) < 2 {
		packets := make([]network.Packet, 8)
		n, err := c.Receive(packets)
		require.NoError(t, err)
		for _, p := range packets[:n] {
			m, err := wire.ParseICMP(wire.IPv4, p.Data)
			require.NoError(t, err)
			require.True(t, m.Echo.Reply)
			assert.Equal(t, "skerry", string(m.Echo.Payload))
			assert.False(t, p.Seen.Before(p.At), "nothing is seen before it arrives")
			got[m.Echo.Seq] = p
			order = append(order, m.Echo.Seq)
		}
	}
	assert.Equal(t, []uint16{2, 1}, order)
	assert.Equal(t, 4*time.Millisecond, got[2].At.Sub(nearAt), "the times are exact, however late they are seen")
	assert.Equal(t, 40*time.Millisecond, got[1].At.Sub(farAt))
	assert.Equal(t, 63, got[2].TTL)
	assert.True(t, c.Exact())
}

func TestRefusalsNameWhoRefused(t *testing.T) {
	c := dial(t, wire.IPv4)
	send(t, c, wire.IPv4, "192.0.2.4", 9)
	packets := make([]network.Packet, 1)
	n, err := c.Receive(packets)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	assert.Equal(t, network.Refusal, packets[0].Event)
	assert.Equal(t, "administratively prohibited by 192.0.2.4", packets[0].Cause)
	m, err := wire.ParseICMP(wire.IPv4, packets[0].Data)
	require.NoError(t, err)
	assert.Equal(t, uint16(9), m.Echo.Seq, "it holds what was refused")
}

func TestIPv6InAWorld(t *testing.T) {
	c := dial(t, wire.IPv6)
	at := send(t, c, wire.IPv6, "2001:db8::2", 3)
	packets := make([]network.Packet, 1)
	_, err := c.Receive(packets)
	require.NoError(t, err)
	assert.Equal(t, 4*time.Millisecond, packets[0].At.Sub(at))
	assert.Equal(t, "2001:db8::2", packets[0].Peer.String())

	n, err := live.New(read(t, quay)).At("far")
	require.NoError(t, err)
	_, err = n.Open(network.ICMP, wire.IPv6, network.SocketOptions{})
	require.ErrorContains(t, err, "far has no IPv6 address")
}

func TestWhatDoesNotCrossAWorld(t *testing.T) {
	c := dial(t, wire.IPv4)
	_, err := c.Send(netip.MustParseAddrPort("192.0.2.2:0"), []byte("no ICMP"))
	require.ErrorIs(t, err, wire.ErrPacket)
	_, err = c.Send(netip.MustParseAddrPort("203.0.113.250:0"), wire.Echo{}.Marshal(wire.IPv4))
	require.NoError(t, err, "an address that nobody has is silence, as in any network")
	require.NoError(t, c.Close())
	require.NoError(t, c.Close())
	_, err = c.Receive(make([]network.Packet, 1))
	require.Error(t, err)
}
