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

func TestChecksum(t *testing.T) {
	// The worked example of RFC 1071 §3: 00 01 f2 03 f4 f5 f6 f7 sums to ddf2.
	b, _ := hex.DecodeString("0001f203f4f5f6f7")
	assert.Equal(t, ^uint16(0xddf2), wire.Checksum(b))
	assert.Equal(t, ^uint16(0x0100), wire.Checksum([]byte{1}), "an odd byte is padded with zero")
}

func TestEchoThereAndBack(t *testing.T) {
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		for _, reply := range []bool{false, true} {
			want := wire.Echo{ID: 0x1234, Seq: 0xfffe, Reply: reply, Payload: []byte("skerry line")}
			m, err := wire.ParseICMP(f, want.Marshal(f))
			require.NoError(t, err)
			require.NotNil(t, m.Echo)
			assert.Equal(t, want, *m.Echo)
		}
	}
	b := wire.Echo{ID: 1, Seq: 2}.Marshal(wire.IPv4)
	assert.Equal(t, "0800f7fc00010002", hex.EncodeToString(b), "type 8, checksum over the rest, identifier, sequence")
	b[7]++
	_, err := wire.ParseICMP(wire.IPv4, b)
	require.ErrorIs(t, err, wire.ErrPacket, "a wrong checksum is found out")
}

// quoting makes an error of a type and code that quotes an echo request.
func quoting(f wire.Family, kind, code byte, to string) []byte {
	inner := wire.Echo{ID: 7, Seq: 9, Payload: []byte("0123456789abcdef")}.Marshal(f)
	addr := netip.MustParseAddr(to)
	var header []byte
	if f == wire.IPv4 {
		header = make([]byte, 20)
		header[0], header[8], header[9] = 0x45, 64, 1
		copy(header[16:], addr.AsSlice())
	} else {
		header = make([]byte, 40)
		header[0], header[6] = 0x60, 58
		copy(header[24:], addr.AsSlice())
	}
	b := append([]byte{kind, code, 0, 0, 0, 0, 0, 0}, append(header, inner...)...)
	if f == wire.IPv4 {
		binary.BigEndian.PutUint16(b[2:], wire.Checksum(b))
	}
	return b
}

func TestErrors(t *testing.T) {
	for _, c := range []struct {
		family     wire.Family
		kind, code byte
		to, says   string
	}{
		{wire.IPv4, 3, 1, "203.0.113.7", "host unreachable"},
		{wire.IPv4, 3, 13, "203.0.113.7", "administratively prohibited"},
		{wire.IPv4, 3, 99, "203.0.113.7", "unreachable (code 99)"},
		{wire.IPv4, 11, 0, "203.0.113.7", "TTL exceeded"},
		{wire.IPv6, 1, 0, "2001:db8::7", "no route"},
		{wire.IPv6, 3, 0, "2001:db8::7", "hop limit exceeded"},
		{wire.IPv6, 2, 0, "2001:db8::7", "packet too big"},
	} {
		b := quoting(c.family, c.kind, c.code, c.to)
		m, err := wire.ParseICMP(c.family, b)
		require.NoError(t, err, c.says)
		assert.Equal(t, c.says, m.Refusal)
		e, err := wire.ParseICMPError(c.family, b)
		require.NoError(t, err)
		assert.Equal(t, c.says, e.Refusal(c.family))
		ip, message, err := wire.ParseQuoted(e.Quoted)
		require.NoError(t, err)
		assert.Equal(t, netip.MustParseAddr(c.to), ip.Dst)
		assert.Equal(t, []byte{0, 7, 0, 9}, message[4:8], "identifier and sequence number")
		// Cut short anywhere, it is refused, not misread.
		header := 20
		if c.family == wire.IPv6 {
			header = 40
		}
		for n := range len(e.Quoted) {
			ip, message, err := wire.ParseQuoted(e.Quoted[:n])
			if n < header {
				assert.Error(t, err, "%s cut to %d", c.says, n)
				continue
			}
			require.NoError(t, err, "%s cut to %d", c.says, n)
			assert.Equal(t, netip.MustParseAddr(c.to), ip.Dst)
			assert.Len(t, message, n-header)
		}
	}
}

func TestOtherMessagesAreLetBe(t *testing.T) {
	b := []byte{13, 0, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(b[2:], wire.Checksum(b))
	m, err := wire.ParseICMP(wire.IPv4, b)
	require.NoError(t, err)
	assert.Nil(t, m.Echo)
	assert.Empty(t, m.Refusal)
}

func FuzzParseICMP(f *testing.F) {
	f.Add(true, wire.Echo{ID: 1, Seq: 2, Payload: []byte("x")}.Marshal(wire.IPv4))
	f.Add(true, quoting(wire.IPv4, 3, 1, "203.0.113.7"))
	f.Add(false, quoting(wire.IPv6, 1, 0, "2001:db8::7"))
	f.Fuzz(func(t *testing.T, four bool, b []byte) {
		family := wire.IPv6
		if four {
			family = wire.IPv4
		}
		m, err := wire.ParseICMP(family, b)
		if err != nil {
			require.ErrorIs(t, err, wire.ErrPacket)
		}
		if m.Echo != nil {
			again := m.Echo.Marshal(family)
			require.Len(t, again, len(b))
		}
	})
}
