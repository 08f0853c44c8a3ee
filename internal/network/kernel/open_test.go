package kernel

import (
	"net"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

func openOn(t *testing.T, k network.Kind, f wire.Family, o network.SocketOptions) network.Conn {
	t.Helper()
	c, err := Host().Open(k, f, o)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// next waits for an event of a kind.
func next(t *testing.T, c network.Conn, e network.Event) network.Packet {
	t.Helper()
	packets := make([]network.Packet, 8)
	for {
		n, err := c.Receive(packets)
		require.NoError(t, err)
		for _, p := range packets[:n] {
			if p.Event == e {
				return p
			}
		}
	}
}

func TestOpeningsOfConnections(t *testing.T) {
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		address := map[wire.Family]string{wire.IPv4: "127.0.0.1", wire.IPv6: "::1"}[f]
		l, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
		require.NoError(t, err)
		open := l.Addr().(*net.TCPAddr).AddrPort()
		c := openOn(t, network.TCP, f, network.SocketOptions{DSCP: 46, TTL: 9})
		_, err = c.Send(open, []byte("first"))
		require.NoError(t, err)
		p := next(t, c, network.Answer)
		assert.Equal(t, "first", string(p.Data), "the message comes back")
		assert.Equal(t, open, p.To)
		assert.Positive(t, p.Took, "the kernel timed the handshake")
		require.NoError(t, l.Close())
		list := []network.Outgoing{{To: open, Message: []byte("second")}, {To: open, Message: []byte("third")}}
		n, err := c.SendAll(list)
		require.NoError(t, err)
		assert.Equal(t, 2, n)
		assert.False(t, list[1].Sent.IsZero())
		p = next(t, c, network.Refusal)
		assert.True(t, p.Shut, "refused by the port itself")
		assert.Equal(t, "connection refused by "+address, p.Cause)
		assert.Zero(t, c.Dropped())
		require.NoError(t, c.Close())
		_, err = c.Send(open, nil)
		require.ErrorContains(t, err, "closed")
		_, err = c.Poll(make([]network.Packet, 1))
		require.Error(t, err)
	}
}

func TestDatagrams(t *testing.T) {
	c := openOn(t, network.UDP, wire.IPv4, network.SocketOptions{})
	far, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	to := far.LocalAddr().(*net.UDPAddr).AddrPort()
	list := []network.Outgoing{{To: to, Message: []byte("one")}, {To: to, Message: []byte("two")}}
	n, err := c.SendAll(list)
	require.NoError(t, err)
	require.Equal(t, 2, n)
	b := make([]byte, 10)
	size, peer, err := far.ReadFrom(b)
	require.NoError(t, err)
	assert.Equal(t, "one", string(b[:size]))
	_, err = far.WriteTo([]byte("answer"), peer)
	require.NoError(t, err)
	p := next(t, c, network.Answer)
	assert.Equal(t, "answer", string(p.Data))
	assert.Equal(t, to, netip.AddrPortFrom(p.Peer, p.Port))
	assert.False(t, p.At.IsZero(), "stamped by the kernel")
	require.NoError(t, far.Close())
	_, err = c.Send(to, []byte("three"))
	require.NoError(t, err)
	p = next(t, c, network.Refusal)
	assert.True(t, p.Shut)
	assert.Equal(t, to, p.To)
	assert.Equal(t, "three", string(p.Data), "what was refused")
	assert.Equal(t, "port unreachable by 127.0.0.1", p.Cause)
}

func TestWhatIsAskedOfASocket(t *testing.T) {
	for _, c := range []struct {
		name    string
		kind    network.Kind
		family  wire.Family
		options network.SocketOptions
		says    string
	}{
		{"no such interface", network.ICMP, wire.IPv4, network.SocketOptions{Interface: "quay0"}, `there is no interface "quay0"`},
		{"no such interface, TCP", network.TCP, wire.IPv4, network.SocketOptions{Interface: "quay0"}, `there is no interface "quay0"`},
		{"another's address", network.UDP, wire.IPv4, network.SocketOptions{Source: netip.MustParseAddr("203.0.113.7")}, "203.0.113.7 is not an address of this host"},
		{"an address of the other family", network.ICMP, wire.IPv6, network.SocketOptions{Source: netip.MustParseAddr("127.0.0.1")}, "127.0.0.1 is not of IPv6"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Host().Open(c.kind, c.family, c.options)
			require.ErrorIs(t, err, network.ErrNoSuch)
			require.ErrorContains(t, err, c.says)
		})
	}
	own := openOn(t, network.ICMP, wire.IPv4, network.SocketOptions{Source: netip.MustParseAddr("127.0.0.9"), Interface: "lo"})
	_, err := own.Send(netip.MustParseAddrPort("127.0.0.1:0"), wire.Echo{ID: 3, Payload: []byte("from another address")}.Marshal(wire.IPv4))
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1", next(t, own, network.Answer).Peer.String())
}

func TestTooLargeToLeaveWhole(t *testing.T) {
	c := openOn(t, network.UDP, wire.IPv4, network.SocketOptions{DontFragment: true})
	_, err := c.Send(netip.MustParseAddrPort("127.0.0.1:9"), make([]byte, 65_520))
	require.ErrorIs(t, err, network.ErrTooBig, "loopback takes 65,536 bytes, IP 65,535")
	list := []network.Outgoing{{To: netip.MustParseAddrPort("127.0.0.1:9"), Message: []byte("fits")}, {To: netip.MustParseAddrPort("127.0.0.1:9"), Message: make([]byte, 65_520)}}
	n, err := c.SendAll(list)
	require.ErrorIs(t, err, network.ErrTooBig)
	assert.Equal(t, 1, n, "the first went, the second is named")
}

// TestDatagramsTogether: what leaves together arrives as it was sent, each by itself; what does not
// go together is sent one by one.
func TestDatagramsTogether(t *testing.T) {
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		c := openOn(t, network.UDP, f, network.SocketOptions{Bulk: true, Frames: true, DontFragment: true, Together: true})
		at := map[wire.Family]string{wire.IPv4: "127.0.0.1:0", wire.IPv6: "[::1]:0"}[f]
		far, err := net.ListenPacket("udp", at)
		require.NoError(t, err)
		defer far.Close()
		to := far.LocalAddr().(*net.UDPAddr).AddrPort()
		var list []network.Outgoing
		for i := range 200 {
			size := 100
			if i%50 > 40 {
				size = 100 + i%7
			}
			list = append(list, network.Outgoing{To: to, Message: append([]byte{byte(i)}, make([]byte, size)...)})
		}
		n, err := c.SendAll(list)
		require.NoError(t, err)
		require.Len(t, list, n)
		b := make([]byte, 2000)
		for i := range list {
			size, _, err := far.ReadFrom(b)
			require.NoError(t, err)
			require.Equal(t, list[i].Message, b[:size], "datagram %d", i)
			assert.False(t, list[i].Sent.IsZero())
		}
		_, err = c.SendAll([]network.Outgoing{{To: to, Message: make([]byte, 65_530)}, {To: to, Message: make([]byte, 65_530)}})
		require.ErrorIs(t, err, network.ErrTooBig)
	}
}
