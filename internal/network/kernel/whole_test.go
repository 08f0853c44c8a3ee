package kernel_test

import (
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/wire"
)

// gathered receives until a packet satisfies what is looked for.
func gathered(t *testing.T, c network.Conn, want func(network.Packet) bool) network.Packet {
	t.Helper()
	packets := make([]network.Packet, 64)
	found := make(chan network.Packet, 1)
	go func() {
		for {
			n, err := c.Receive(packets)
			if err != nil {
				return
			}
			for _, p := range packets[:n] {
				p.Data = append([]byte{}, p.Data...)
				if want(p) {
					found <- p
					return
				}
			}
		}
	}()
	select {
	case p := <-found:
		return p
	case <-time.After(10 * time.Second):
		require.Fail(t, "it did not come")
	}
	return network.Packet{}
}

func TestWholePackets(t *testing.T) {
	if os.Geteuid() != 0 {
		_, err := kernel.Host().Open(network.Whole, wire.IPv4, network.SocketOptions{})
		require.ErrorIs(t, err, network.ErrNotPermitted)
		return
	}
	for _, c := range []struct {
		family wire.Family
		addr   netip.Addr
	}{{wire.IPv4, netip.MustParseAddr("127.0.0.1")}, {wire.IPv6, netip.IPv6Loopback()}} {
		t.Run(c.family.String(), func(t *testing.T) {
			conn, err := kernel.Host().Open(network.Whole, c.family, network.SocketOptions{Hear: wire.ProtocolTCP, FirstPort: 21000, LastPort: 21010})
			require.NoError(t, err)
			defer conn.Close()
			body := wire.Echo{ID: 0x5151, Seq: 7, Payload: []byte("sixteen bytes ok")}.Marshal(c.family)
			if c.family == wire.IPv6 {
				body[2], body[3] = 0, 0
				sum := wire.TransportChecksum(c.addr, c.addr, wire.ProtocolICMPv6, body)
				body[2], body[3] = byte(sum>>8), byte(sum)
			}
			echo := wire.IP{Src: c.addr, Dst: c.addr, Protocol: wire.ICMPOf(c.family), TTL: 9, ID: 77, FlowLabel: 0xabcde}.Marshal(body)
			sent, err := conn.Send(netip.AddrPortFrom(c.addr, 0), echo)
			require.NoError(t, err)
			reply := gathered(t, conn, func(p network.Packet) bool {
				return p.Event == network.Answer && p.Protocol == wire.ICMPOf(c.family) && len(p.Data) > 6 && (p.Data[0] == 0 || p.Data[0] == 129) && p.Data[4] == 0x51
			})
			assert.Equal(t, c.addr, reply.Peer)
			assert.Equal(t, 64, reply.TTL)
			assert.False(t, reply.At.IsZero(), "stamped by the kernel")
			assert.GreaterOrEqual(t, reply.Seen.Sub(sent), time.Duration(0))

			// Nobody listens at the port: the kernel itself resets.
			syn := wire.TCP{SrcPort: 21003, DstPort: 9, Seq: 0x00010ffe, Flags: wire.SYN, Window: 65535}
			_, err = conn.Send(netip.AddrPortFrom(c.addr, 0), wire.IP{Src: c.addr, Dst: c.addr, Protocol: wire.ProtocolTCP, TTL: 64, ID: 78}.Marshal(syn.Marshal(c.addr, c.addr)))
			require.NoError(t, err)
			reset := gathered(t, conn, func(p network.Packet) bool { return p.Event == network.Answer && p.Protocol == wire.ProtocolTCP })
			segment, err := wire.ParseTCP(reset.Data)
			require.NoError(t, err)
			assert.Equal(t, uint16(21003), segment.DstPort, "only what comes to the ports that were asked for")
			assert.True(t, segment.Has(wire.RST|wire.ACK))
			assert.Equal(t, uint32(0x00010fff), segment.Ack)
			assert.Zero(t, conn.Dropped())
			require.NoError(t, conn.Close())
			_, err = conn.Send(netip.AddrPortFrom(c.addr, 0), echo)
			require.Error(t, err)
		})
	}
	_, err := kernel.Unprivileged().Open(network.Whole, wire.IPv4, network.SocketOptions{})
	require.ErrorIs(t, err, network.ErrNotPermitted)
	assert.Contains(t, err.Error(), "setcap cap_net_raw+ep")
}

// TestADatagramWithATTLOfItsOwn: the target refuses it, and the kernel says who.
func TestADatagramWithATTLOfItsOwn(t *testing.T) {
	for _, addr := range []netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.IPv6Loopback()} {
		conn, err := kernel.Unprivileged().Open(network.UDP, wire.FamilyOf(addr), network.SocketOptions{})
		require.NoError(t, err)
		limited, ok := conn.(network.Limited)
		require.True(t, ok)
		message := []byte("a datagram to nobody")
		_, err = limited.SendTTL(netip.AddrPortFrom(addr, 33999), message, 3)
		require.NoError(t, err)
		p := gathered(t, conn, func(p network.Packet) bool { return p.Event == network.Refusal })
		assert.True(t, p.Shut)
		assert.Equal(t, message, p.Data)
		assert.Equal(t, netip.AddrPortFrom(addr, 33999), p.To)
		require.NotNil(t, p.ICMP)
		assert.True(t, p.ICMP.Is(wire.FamilyOf(addr), wire.NoPort))
		require.NoError(t, conn.Close())
	}
}
