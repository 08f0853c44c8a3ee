package wire_test

import (
	"encoding/hex"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 250_000_000, time.UTC)

func TestAuthenticatedStamp(t *testing.T) {
	key := []byte("a shared key")
	q := wire.StampRequest{Seq: 5, Sent: noon, Error: 0x8001, Session: 9}
	b := q.MarshalAuth(0, key)
	require.Len(t, b, 112, "RFC 8762 §4.2.2")
	again, err := wire.ParseStampRequestAuth(b, key)
	require.NoError(t, err)
	assert.Equal(t, q, again)
	r := wire.StampReply{Seq: 6, Sent: noon.Add(time.Millisecond), Error: 1, Session: 9, Received: noon, Request: wire.StampRequest{Seq: 5, Sent: noon, Error: 0x8001}, SenderTTL: 64}
	c := r.MarshalAuth(0, key)
	require.Len(t, c, 112, "RFC 8762 §4.3.2")
	assert.Equal(t, byte(64), c[80])
	got, err := wire.ParseStampReplyAuth(c, key)
	require.NoError(t, err)
	assert.Equal(t, r, got)
	for i := range b {
		broken := append([]byte{}, b...)
		broken[i] ^= 1
		_, err := wire.ParseStampRequestAuth(broken, key)
		require.ErrorIs(t, err, wire.ErrPacket, "byte %d", i)
	}
	_, err = wire.ParseStampReplyAuth(c, []byte("another"))
	require.ErrorIs(t, err, wire.ErrPacket)
	_, err = wire.ParseStampRequestAuth(b[:111], key)
	require.ErrorIs(t, err, wire.ErrPacket)
}

func TestStampTLVs(t *testing.T) {
	info := wire.TimestampInfo{SyncIn: wire.SyncNTP, MethodIn: wire.StampSoft, SyncOut: wire.SyncLocal, MethodOut: wire.StampHard}
	class := wire.Class{Asked: 46, Received: 26, ECN: 1, Refused: true}
	direct := wire.DirectMeasurement{SenderSent: 1, ReflectorReceived: 2, ReflectorSent: 3}
	follow := wire.FollowUp{Seq: 8, Sent: noon, Method: wire.StampSoft}
	at := wire.Location{Source: netip.MustParseAddrPort("192.0.2.7:5000"), Destination: netip.MustParseAddrPort("203.0.113.8:862")}
	six := wire.Location{Source: netip.MustParseAddrPort("[2001:db8::7]:5000"), Destination: netip.MustParseAddrPort("[2001:db8::8]:862")}
	b := wire.AppendTLVs(wire.StampRequest{Seq: 1, Sent: noon}.Marshal(0), info.TLV(), class.TLV(), direct.TLV(), follow.TLV(), at.TLV(), six.TLV())
	assert.Equal(t, "00030004"+"01020501", hex.EncodeToString(b[44:52]))
	assert.Equal(t, "00040004"+"b9a50000", hex.EncodeToString(b[52:60]), "101110 011010 01 01: 46, 26, ECN 1, refused")
	list, err := wire.ParseTLVs(append(b[44:], 0, 0, 0))
	require.NoError(t, err, "zeros behind are padding")
	require.Len(t, list, 6)
	gotInfo, err := wire.ParseTimestampInfo(list[0])
	require.NoError(t, err)
	assert.Equal(t, info, gotInfo)
	gotClass, err := wire.ParseClass(list[1])
	require.NoError(t, err)
	assert.Equal(t, class, gotClass)
	gotDirect, err := wire.ParseDirect(list[2])
	require.NoError(t, err)
	assert.Equal(t, direct, gotDirect)
	gotFollow, err := wire.ParseFollowUp(list[3])
	require.NoError(t, err)
	assert.Equal(t, follow, gotFollow)
	for i, want := range []wire.Location{at, six} {
		got, err := wire.ParseLocation(list[4+i])
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	short := wire.TLV{Value: []byte{1}}
	for _, err := range []error{second(wire.ParseTimestampInfo(short)), second(wire.ParseClass(short)), second(wire.ParseDirect(short)), second(wire.ParseFollowUp(short)), second(wire.ParseLocation(short))} {
		require.ErrorIs(t, err, wire.ErrPacket)
	}
	_, err = wire.ParseTLVs([]byte{0, 3, 0, 9, 1})
	require.ErrorIs(t, err, wire.ErrPacket)
}

func second[T any](_ T, err error) error { return err }

func TestRTP(t *testing.T) {
	h := wire.RTP{Marker: true, Type: 18, Seq: 0x0102, Timestamp: 0x03040506, Source: 0x0708090a}
	b := h.Append(nil)
	assert.Equal(t, "8092"+"0102"+"03040506"+"0708090a", hex.EncodeToString(b))
	got, rest, err := wire.ParseRTP(append(b, 1, 2, 3))
	require.NoError(t, err)
	assert.Equal(t, h, got)
	assert.Equal(t, []byte{1, 2, 3}, rest)
	// With a contributing source and an extension of one word.
	more := append([]byte{0x91}, b[1:]...)
	more = append(more, 0, 0, 0, 1, 0xbe, 0xde, 0, 1, 9, 9, 9, 9, 42)
	_, rest, err = wire.ParseRTP(more)
	require.NoError(t, err)
	assert.Equal(t, []byte{42}, rest)
	for _, bad := range [][]byte{nil, b[:11], append([]byte{0x10}, b[1:]...), more[:14], more[:20]} {
		_, _, err = wire.ParseRTP(bad)
		require.ErrorIs(t, err, wire.ErrPacket)
	}
	assert.False(t, wire.IsRTCP(b))
}

func TestRTCP(t *testing.T) {
	r := wire.SenderReport{Source: 7, Sent: noon, Timestamp: 160, Packets: 50, Bytes: 8000,
		About: &wire.ReceptionBlock{Source: 9, Fraction: 12, Lost: -3, Highest: 70000, Jitter: 16, LastSR: wire.MiddleNTP(noon), Since: 65536}}
	b := r.Marshal("desk.northquay.example")
	assert.Zero(t, len(b)%4)
	assert.True(t, wire.IsRTCP(b))
	got, err := wire.ParseSenderReport(b)
	require.NoError(t, err)
	assert.Equal(t, r, got)
	r.About = nil
	got, err = wire.ParseSenderReport(r.Marshal("x"))
	require.NoError(t, err)
	assert.Equal(t, r, got)
	_, err = wire.ParseSenderReport(b[:40])
	require.ErrorIs(t, err, wire.ErrPacket)
}

func FuzzParseTwoEnds(f *testing.F) {
	f.Add(wire.RTP{Type: 1}.Append(nil))
	f.Add(wire.SenderReport{Source: 1, Sent: noon}.Marshal("x"))
	f.Add(wire.AppendTLVs(nil, wire.DirectMeasurement{}.TLV(), wire.Location{}.TLV()))
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = wire.ParseRTP(b)
		_, _ = wire.ParseSenderReport(b)
		list, _ := wire.ParseTLVs(b)
		for _, x := range list {
			_, _ = wire.ParseLocation(x)
			_, _ = wire.ParseFollowUp(x)
		}
	})
}
