package wire_test

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

var (
	a4 = netip.MustParseAddr("192.0.2.1")
	b4 = netip.MustParseAddr("198.51.100.2")
	a6 = netip.MustParseAddr("2001:db8::1")
	b6 = netip.MustParseAddr("2001:db8::2")
)

func ends(f wire.Family) (src, dst netip.Addr) {
	if f == wire.IPv4 {
		return a4, b4
	}
	return a6, b6
}

func TestIPThereAndBack(t *testing.T) {
	for _, h := range []wire.IP{
		{Src: a4, Dst: b4, Protocol: wire.ProtocolUDP, TTL: 7, TrafficClass: 0xb8, ID: 4660, DontFragment: true},
		{Src: a4, Dst: b4, Protocol: wire.ProtocolTCP, TTL: 255, MoreFragments: true, FragmentOffset: 1480},
		{Src: a6, Dst: b6, Protocol: wire.ProtocolICMPv6, TTL: 64, TrafficClass: 0x2e << 2, FlowLabel: 0xabcde, DontFragment: true},
	} {
		b := h.Marshal([]byte("skerry line"))
		got, payload, err := wire.ParseIP(b)
		require.NoError(t, err)
		assert.Equal(t, "skerry line", string(payload))
		assert.Equal(t, len(b), got.Size)
		h.Size, h.HeaderSize = got.Size, got.HeaderSize
		assert.Equal(t, h, got)
		assert.Equal(t, h.MoreFragments, got.Fragment())

		longer := append(b, 0, 0, 0) // padding of a frame
		_, payload, err = wire.ParseIP(longer)
		require.NoError(t, err)
		assert.Len(t, payload, 11)

		wire.DecrementTTL(b)
		less, _, err := wire.ParseIP(b)
		require.NoError(t, err, "the checksum was mended")
		assert.Equal(t, h.TTL-1, less.TTL)
		for n := range got.HeaderSize {
			_, _, err := wire.ParseIP(b[:n])
			require.ErrorIs(t, err, wire.ErrPacket)
		}
	}
	// By hand (RFC 1071): 4500 + 0014 + 0001 + 4001 + c000 + 0201 + c633 + 6402 =
	// 2 714c, folded 714e, inverted 8eb1.
	b := wire.IP{Src: a4, Dst: b4, Protocol: 1, TTL: 64, ID: 1}.Marshal(nil)
	assert.Equal(t, "450000140001000040018eb1c0000201c6336402", hex.EncodeToString(b))
	b[8]++
	_, _, err := wire.ParseIP(b)
	require.ErrorContains(t, err, "checksum")
}

func TestIPv6Extensions(t *testing.T) {
	udp := wire.UDP{SrcPort: 1, DstPort: 2, Payload: []byte("x")}.Marshal(a6, b6)
	hopByHop := append([]byte{wire.ProtocolUDP, 0, 1, 4, 0, 0, 0, 0}, udp...)
	h, payload, err := wire.ParseIP(wire.IP{Src: a6, Dst: b6, TTL: 3}.Marshal(hopByHop))
	require.NoError(t, err)
	assert.Equal(t, uint8(wire.ProtocolUDP), h.Protocol)
	assert.Equal(t, udp, payload)
	fragment := append([]byte{wire.ProtocolUDP, 0, 0x05, 0xa9, 0, 0, 0, 7}, udp...)
	h, _, err = wire.ParseIP(wire.IP{Src: a6, Dst: b6, Protocol: 44, TTL: 3}.Marshal(fragment))
	require.NoError(t, err)
	assert.Equal(t, 1448, h.FragmentOffset)
	assert.True(t, h.MoreFragments)
	_, _, err = wire.ParseIP(wire.IP{Src: a6, Dst: b6, Protocol: 60, TTL: 3}.Marshal([]byte{17, 9, 0, 0}))
	require.ErrorIs(t, err, wire.ErrPacket, "cut short")
}

func TestFragments(t *testing.T) {
	payload := make([]byte, 3000)
	for i := range payload {
		payload[i] = byte(i)
	}
	whole := wire.IP{Src: a4, Dst: b4, Protocol: wire.ProtocolUDP, TTL: 9, ID: 77}.Marshal(payload)
	parts, err := wire.FragmentIPv4(whole, 1500)
	require.NoError(t, err)
	require.Len(t, parts, 3, "1480, 1480 and 40 bytes")
	var again []byte
	for i, part := range parts {
		h, p, err := wire.ParseIP(part)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(part), 1500)
		assert.Equal(t, len(again), h.FragmentOffset)
		assert.Equal(t, i < 2, h.MoreFragments)
		assert.Equal(t, uint16(77), h.ID)
		again = append(again, p...)
	}
	assert.Equal(t, payload, again)
	same, err := wire.FragmentIPv4(whole, 4000)
	require.NoError(t, err)
	assert.Len(t, same, 1)
	_, err = wire.FragmentIPv4(whole, 24)
	require.ErrorIs(t, err, wire.ErrPacket)
	_, err = wire.FragmentIPv4(wire.IP{Src: a4, Dst: b4, DontFragment: true}.Marshal(payload), 1500)
	require.ErrorIs(t, err, wire.ErrPacket)
}

func TestUDPAndTCP(t *testing.T) {
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		src, dst := ends(f)
		u := wire.UDP{SrcPort: 40000, DstPort: 53, Payload: []byte("who")}
		b := u.Marshal(src, dst)
		assert.Zero(t, wire.TransportChecksum(src, dst, wire.ProtocolUDP, b))
		got, err := wire.ParseUDP(b)
		require.NoError(t, err)
		assert.Equal(t, u, got)

		s := wire.TCP{SrcPort: 40000, DstPort: 443, Seq: 1 << 31, Ack: 7, Flags: wire.SYN | wire.ACK, Window: 512, Options: []byte{2, 4, 5, 0xb4}, Payload: []byte("hi")}
		b = s.Marshal(src, dst)
		assert.Zero(t, wire.TransportChecksum(src, dst, wire.ProtocolTCP, b))
		back, err := wire.ParseTCP(b)
		require.NoError(t, err)
		assert.Equal(t, s, back)
		assert.True(t, back.Has(wire.SYN))
		assert.False(t, back.Has(wire.RST))
	}
	assert.Len(t, wire.TCP{Options: []byte{1}}.Marshal(a4, b4), wire.TCPHeaderSize, "options that do not fit are left out")
	for n := range 20 {
		_, err := wire.ParseTCP(make([]byte, n))
		require.ErrorIs(t, err, wire.ErrPacket)
	}
	_, err := wire.ParseUDP([]byte{0, 1, 0, 2, 0, 99, 0, 0})
	require.ErrorIs(t, err, wire.ErrPacket, "longer than it is")
}

func TestICMPErrorsThereAndBack(t *testing.T) {
	labels := []wire.Label{{Value: 16004, Class: 5, TTL: 1}, {Value: 24001, TTL: 254}}
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		src, dst := ends(f)
		for _, size := range []int{30, 200, 3000} {
			about := wire.IP{Src: dst, Dst: src, Protocol: wire.ProtocolUDP, TTL: 1}.Marshal(make([]byte, size))
			for _, kind := range []wire.ErrorKind{wire.NoRoute, wire.NoHost, wire.NoPort, wire.Prohibited, wire.TooBig, wire.TimeExpired} {
				e := wire.NewICMPError(f, kind, about)
				if kind == wire.TooBig {
					e.MTU = 1400
				}
				if kind == wire.TimeExpired {
					e.Labels = labels
				}
				b := e.Marshal(src, dst)
				if f == wire.IPv6 {
					assert.Zero(t, wire.TransportChecksum(src, dst, wire.ProtocolICMPv6, b))
					assert.LessOrEqual(t, len(b), 1280-wire.IPv6HeaderSize)
				} else {
					assert.LessOrEqual(t, len(b), 576-wire.IPv4HeaderSize)
				}
				got, err := wire.ParseICMPError(f, b)
				require.NoError(t, err)
				assert.True(t, got.Is(f, kind))
				assert.Equal(t, e.MTU, got.MTU)
				assert.Equal(t, e.Labels, got.Labels)
				n := min(len(about), len(got.Quoted))
				assert.Equal(t, about[:n], got.Quoted[:n])
				assert.NotEmpty(t, got.Refusal(f))
			}
		}
	}
}

// TestMPLSExample is the layout of RFC 4884 §7 and RFC 4950 §3, by hand: length
// 32 words, the packet padded to 128 bytes, version 2, one object of class 1
// and type 1 with the label 16004, bottom of the stack, TTL 1.
func TestMPLSExample(t *testing.T) {
	e := wire.NewICMPError(wire.IPv4, wire.TimeExpired, wire.IP{Src: a4, Dst: b4, TTL: 1}.Marshal(nil))
	e.Labels = []wire.Label{{Value: 16004, TTL: 1}}
	b := e.Marshal(b4, a4)
	require.Len(t, b, 8+128+4+8)
	assert.Equal(t, byte(32), b[5])
	assert.Equal(t, "00080101"+"03e84101", hex.EncodeToString(b[140:]), "16004 << 12 | 1 << 8 | 1")
	assert.Equal(t, byte(0x20), b[136])
	b[141]++
	binary.BigEndian.PutUint16(b[2:], 0)
	binary.BigEndian.PutUint16(b[2:], wire.Checksum(b))
	_, err := wire.ParseICMPError(wire.IPv4, b)
	require.ErrorContains(t, err, "checksum of the ICMP extension")
	_, err = wire.ParseICMPError(wire.IPv4, wire.Echo{ID: 1}.Marshal(wire.IPv4))
	require.ErrorContains(t, err, "is no error")
}

func FuzzParseIP(f *testing.F) {
	f.Add(wire.IP{Src: a4, Dst: b4, Protocol: wire.ProtocolUDP, TTL: 9}.Marshal(wire.UDP{Payload: []byte("x")}.Marshal(a4, b4)))
	f.Add(wire.IP{Src: a6, Dst: b6, Protocol: wire.ProtocolTCP, TTL: 9}.Marshal(wire.TCP{Options: []byte{1, 1, 1, 1}}.Marshal(a6, b6)))
	f.Add(wire.IP{Src: a6, Dst: b6, TTL: 9}.Marshal([]byte{44, 0, 0, 0, 0, 0, 0, 0, 17, 0, 0, 1, 0, 0, 0, 0}))
	f.Fuzz(func(t *testing.T, b []byte) {
		h, payload, err := wire.ParseIP(b)
		if err != nil {
			require.ErrorIs(t, err, wire.ErrPacket)
			return
		}
		require.LessOrEqual(t, len(payload), len(b))
		for _, parse := range []func() error{
			func() error { _, err := wire.ParseUDP(payload); return err },
			func() error { _, err := wire.ParseTCP(payload); return err },
			func() error { _, err := wire.ParseICMP(h.Family(), payload); return err },
			func() error { _, err := wire.ParseICMPError(h.Family(), payload); return err },
		} {
			if err := parse(); err != nil {
				require.ErrorIs(t, err, wire.ErrPacket)
			}
		}
		parts, err := wire.FragmentIPv4(b[:h.Size], 100)
		if err == nil {
			for _, part := range parts {
				require.True(t, len(part) <= 100 || len(parts) == 1)
			}
		}
	})
}

func FuzzParseICMPError(f *testing.F) {
	e := wire.NewICMPError(wire.IPv4, wire.TimeExpired, make([]byte, 300))
	e.Labels = []wire.Label{{Value: 1}}
	f.Add(true, e.Marshal(a4, b4))
	six := wire.NewICMPError(wire.IPv6, wire.TooBig, make([]byte, 300))
	six.MTU = 1280
	f.Add(false, six.Marshal(a6, b6))
	f.Fuzz(func(t *testing.T, four bool, b []byte) {
		family := wire.IPv6
		if four {
			family = wire.IPv4
			if len(b) > 8 { // get past the checksum
				b[2], b[3] = 0, 0
				binary.BigEndian.PutUint16(b[2:], wire.Checksum(b))
			}
		}
		got, err := wire.ParseICMPError(family, b)
		if err != nil {
			require.ErrorIs(t, err, wire.ErrPacket)
			return
		}
		require.LessOrEqual(t, len(got.Quoted), len(b))
		require.LessOrEqual(t, 4*len(got.Labels), len(b))
	})
}

// TestInterfaceExample is the layout of RFC 5837 §4, by hand: class 2, the role
// "incoming" with index, address, name and MTU.
func TestInterfaceExample(t *testing.T) {
	e := wire.NewICMPError(wire.IPv4, wire.TimeExpired, wire.IP{Src: a4, Dst: b4, TTL: 1}.Marshal(nil))
	e.Incoming = &wire.Interface{Index: 7, Addr: a4, Name: "ge-0/1", MTU: 1500}
	e.Labels = []wire.Label{{Value: 16004, TTL: 1}}
	b := e.Marshal(b4, a4)
	four := a4.As4()
	assert.Equal(t, "001c020f"+"00000007"+"00010000"+hex.EncodeToString(four[:])+"08"+hex.EncodeToString([]byte("ge-0/1"))+"00"+"000005dc",
		hex.EncodeToString(b[148:]), "behind the labels: 28 bytes, C-Type 0 0 1 1 1 1; a name of 8 bytes with its length")
	got, err := wire.ParseICMPError(wire.IPv4, b)
	require.NoError(t, err)
	assert.Equal(t, e.Incoming, got.Incoming)
	assert.Equal(t, e.Labels, got.Labels)
	assert.Equal(t, "ge-0/1", got.Incoming.String())
	for _, i := range []wire.Interface{{Index: 7}, {Addr: a6}, {Name: "x"}, {MTU: 9000}} {
		e := wire.NewICMPError(wire.IPv6, wire.TimeExpired, wire.IP{Src: a6, Dst: b6, TTL: 1}.Marshal(nil))
		e.Incoming = &i
		got, err := wire.ParseICMPError(wire.IPv6, e.Marshal(b6, a6))
		require.NoError(t, err)
		assert.Equal(t, &i, got.Incoming)
	}
	assert.Equal(t, "interface 7", wire.Interface{Index: 7}.String())
	e.Incoming, e.Labels = &wire.Interface{Name: "\x1b[31m"}, nil
	got, err = wire.ParseICMPError(wire.IPv4, e.Marshal(b4, a4))
	require.NoError(t, err)
	assert.Equal(t, "?[31m", got.Incoming.Name, "nothing that disturbs a terminal")
	short := e.Marshal(b4, a4)
	short[140+4] = 0 // the name has no length any more
	binary.BigEndian.PutUint16(short[138:], 0)
	binary.BigEndian.PutUint16(short[2:], 0)
	binary.BigEndian.PutUint16(short[2:], wire.Checksum(short))
	_, err = wire.ParseICMPError(wire.IPv4, short)
	require.ErrorContains(t, err, "cut short")
}
