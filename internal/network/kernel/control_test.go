package kernel

import (
	"encoding/binary"
	"errors"
	"net/netip"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// control makes one control message.
func control(level, kind int32, data []byte) []byte {
	b := make([]byte, unix.CmsgSpace(len(data)))
	header := (*unix.Cmsghdr)(unsafe.Pointer(&b[0]))
	header.Level, header.Type = level, kind
	header.SetLen(unix.CmsgLen(len(data)))
	copy(b[unix.CmsgLen(0):], data)
	return b
}

func word(v uint32) []byte { return binary.NativeEndian.AppendUint32(nil, v) }

// stamp is a time stamp of the kernel: software, then two that are not used.
func stamp(seconds, nanos uint64) []byte {
	b := binary.NativeEndian.AppendUint64(nil, seconds)
	b = binary.NativeEndian.AppendUint64(b, nanos)
	return append(b, make([]byte, 32)...)
}

// extended is a struct sock_extended_err and the address behind it.
func extended(origin, kind, code byte, offender string) []byte {
	b := make([]byte, 16)
	b[4], b[5], b[6] = origin, kind, code
	a := netip.MustParseAddr(offender)
	if a.Is4() {
		b = binary.NativeEndian.AppendUint16(b, unix.AF_INET)
		b = append(append(b, 0, 0), a.AsSlice()...)
		return append(b, make([]byte, 8)...)
	}
	b = binary.NativeEndian.AppendUint16(b, unix.AF_INET6)
	b = append(append(b, make([]byte, 6)...), a.AsSlice()...)
	return append(b, make([]byte, 4)...)
}

func ip4(icmp []byte) []byte {
	b := make([]byte, 20, 20+len(icmp))
	b[0], b[8], b[9] = 0x45, 61, unix.IPPROTO_ICMP
	return append(b, icmp...)
}

func TestAnswersOfARawSocket(t *testing.T) {
	c := &conn{family: wire.IPv4, raw: true}
	icmp := wire.Echo{ID: 1, Reply: true, Payload: []byte("x")}.Marshal(wire.IPv4)
	p := network.Packet{Data: ip4(icmp)}
	require.True(t, c.parse(&p, control(unix.SOL_SOCKET, unix.SCM_TIMESTAMPING, stamp(1700000000, 42)), false))
	assert.Equal(t, icmp, p.Data, "the IP header is taken off")
	assert.Equal(t, 61, p.TTL)
	assert.Equal(t, time.Unix(1700000000, 42), p.At)

	for name, data := range map[string][]byte{"short": {0x45}, "not IPv4": append([]byte{0x60}, make([]byte, 40)...), "header longer than the packet": append([]byte{0x4f}, make([]byte, 20)...)} {
		p := network.Packet{Data: data}
		assert.False(t, c.parse(&p, nil, false), name)
	}
}

func TestAnswersOfOtherSockets(t *testing.T) {
	icmp := []byte("as it is")
	p := network.Packet{Data: icmp}
	require.True(t, (&conn{family: wire.IPv4}).parse(&p, control(unix.IPPROTO_IP, unix.IP_TTL, word(57)), false))
	assert.Equal(t, 57, p.TTL)
	assert.Equal(t, icmp, p.Data)
	p = network.Packet{Data: icmp}
	require.True(t, (&conn{family: wire.IPv6, raw: true}).parse(&p, control(unix.IPPROTO_IPV6, unix.IPV6_HOPLIMIT, word(58)), false))
	assert.Equal(t, 58, p.TTL)
	assert.True(t, p.At.IsZero(), "no stamp was given")
}

func TestDepartures(t *testing.T) {
	icmp := wire.Echo{ID: 9, Payload: []byte("0123456789abcdef")}.Marshal(wire.IPv4)
	told := control(unix.IPPROTO_IP, unix.IP_RECVERR, extended(unix.SO_EE_ORIGIN_TIMESTAMPING, 0, 0, "0.0.0.0"))
	both := append(control(unix.SOL_SOCKET, unix.SCM_TIMESTAMPING, stamp(5, 6)), told...)
	for name, data := range map[string][]byte{"with the link's header": append(make([]byte, 14), ip4(icmp)...), "without": ip4(icmp), "bare": icmp} {
		p := network.Packet{Data: data}
		require.True(t, (&conn{family: wire.IPv4, raw: true}).parse(&p, both, true), name)
		assert.Equal(t, network.Departure, p.Event)
		assert.Equal(t, icmp, p.Data, name)
		assert.Equal(t, time.Unix(5, 6), p.At)
	}
	six := wire.Echo{ID: 9, Payload: []byte("0123456789abcdef")}.Marshal(wire.IPv6)
	header := make([]byte, 40)
	header[0], header[6] = 0x60, unix.IPPROTO_ICMPV6
	p := network.Packet{Data: append(make([]byte, 14), append(header, six...)...)}
	told = control(unix.IPPROTO_IPV6, unix.IPV6_RECVERR, extended(unix.SO_EE_ORIGIN_TIMESTAMPING, 0, 0, "::"))
	require.True(t, (&conn{family: wire.IPv6, raw: true}).parse(&p, told, true))
	assert.Equal(t, six, p.Data)
}

func TestRefusalsOnTheErrorQueue(t *testing.T) {
	for _, c := range []struct {
		family             wire.Family
		origin, kind, code byte
		offender, says     string
	}{
		{wire.IPv4, unix.SO_EE_ORIGIN_ICMP, 3, 1, "192.0.2.1", "host unreachable by 192.0.2.1"},
		{wire.IPv6, unix.SO_EE_ORIGIN_ICMP6, 1, 1, "2001:db8::1", "administratively prohibited by 2001:db8::1"},
	} {
		level, kind := int32(unix.IPPROTO_IP), int32(unix.IP_RECVERR)
		if c.family == wire.IPv6 {
			level, kind = unix.IPPROTO_IPV6, unix.IPV6_RECVERR
		}
		message := control(level, kind, extended(c.origin, c.kind, c.code, c.offender))
		p := network.Packet{Data: []byte("sent")}
		require.True(t, (&conn{family: c.family}).parse(&p, message, true))
		assert.Equal(t, network.Refusal, p.Event)
		assert.Equal(t, c.says, p.Cause)
		assert.Equal(t, netip.MustParseAddr(c.offender), p.Peer)
		raw := network.Packet{Data: []byte("sent")}
		assert.False(t, (&conn{family: c.family, raw: true}).parse(&raw, message, true), "a raw socket gets the error itself: it is not told twice")
	}
	p := network.Packet{Data: []byte("sent")}
	assert.False(t, (&conn{family: wire.IPv4}).parse(&p, control(unix.IPPROTO_IP, unix.IP_RECVERR, make([]byte, 8)), true), "cut short")
	assert.False(t, (&conn{family: wire.IPv4}).parse(&p, nil, true), "nothing told")
}

func TestZones(t *testing.T) {
	assert.Zero(t, zoneOf(netip.MustParseAddr("fe80::1")))
	assert.Equal(t, uint32(1), zoneOf(netip.MustParseAddr("fe80::1%lo")))
	assert.Equal(t, uint32(7), zoneOf(netip.MustParseAddr("fe80::1%7")))
	assert.Zero(t, zoneOf(netip.MustParseAddr("fe80::1%nosuch")))
	for _, c := range []string{"[fe80::1%3]:862", "[2001:db8::7]:53", "192.0.2.9:7", "192.0.2.9:65535"} {
		var name unix.RawSockaddrInet6
		to := netip.MustParseAddrPort(c)
		writeAddress(&name, to, to.Addr().Is6())
		a, port := addressIn(&name)
		assert.Equal(t, to, netip.AddrPortFrom(a, port), "written for the kernel and read back")
	}
	a, _ := addressIn(&unix.RawSockaddrInet6{})
	assert.False(t, a.IsValid())
}

func TestAClosedConnection(t *testing.T) {
	c, err := Host().Open(network.ICMP, wire.IPv4, network.SocketOptions{TTL: 5, DSCP: 46})
	if errors.Is(err, network.ErrNotPermitted) {
		assert.ErrorContains(t, err, "setcap") // nothing to close where nothing may be opened
		return
	}
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() {
		_, err := c.Receive(make([]network.Packet, 4))
		ended <- err
	}()
	require.NoError(t, c.Close())
	require.ErrorContains(t, <-ended, "closed", "waiting ends when the socket does")
	_, err = c.Send(netip.MustParseAddrPort("127.0.0.1:0"), nil)
	require.ErrorContains(t, err, "closed")
	require.NoError(t, c.Close(), "closing twice does no harm")
	idle, err := Host().Open(network.ICMP, wire.IPv4, network.SocketOptions{})
	require.NoError(t, err)
	require.NoError(t, idle.Close(), "nobody need have received")
}

func TestLookup(t *testing.T) {
	found, err := Host().Lookup(t.Context(), "localhost", wire.IPv4)
	require.NoError(t, err)
	assert.True(t, found.Addrs[0].IsLoopback())
	assert.Empty(t, found.Resolver, "the hosts file knows it")
	_, err = Host().Lookup(t.Context(), "nowhere.invalid", 0)
	require.Error(t, err)
}
