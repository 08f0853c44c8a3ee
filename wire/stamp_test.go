package wire_test

import (
	"encoding/hex"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

func TestStampRequest(t *testing.T) {
	// 2000-01-01 00:00:00.5 UTC is second 3,155,673,600 (bc17c200) of NTP's era,
	// half of 2^32 (80000000).
	q := wire.StampRequest{Seq: 7, Sent: time.Date(2000, 1, 1, 0, 0, 0, 500_000_000, time.UTC), Error: 0x8001, Session: 0xbeef}
	b := q.Marshal(0)
	assert.Equal(t, "00000007bc17c2008000000080"+"01beef", hex.EncodeToString(b[:16]))
	assert.Len(t, b, 44, "RFC 8762 §4.2.1")
	assert.Len(t, q.Marshal(100), 100)
	again, err := wire.ParseStampRequest(b)
	require.NoError(t, err)
	assert.Equal(t, q, again)
	_, err = wire.ParseStampRequest(b[:43])
	require.ErrorIs(t, err, wire.ErrPacket)
}

func TestStampReply(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 30, 0, 123_456_789, time.UTC)
	r := wire.StampReply{Seq: 9, Sent: at.Add(40 * time.Microsecond), Error: 1, Session: 3, Received: at, Request: wire.StampRequest{Seq: 8, Sent: at.Add(-time.Millisecond), Error: 2}, SenderTTL: 61}
	b := r.Marshal(0)
	require.Len(t, b, 44, "as long as a request: no more goes back than came")
	assert.Equal(t, byte(61), b[40])
	again, err := wire.ParseStampReply(b)
	require.NoError(t, err)
	assert.Equal(t, r, again, "times come back to the nanosecond")
	_, err = wire.ParseStampReply(b[:10])
	require.ErrorIs(t, err, wire.ErrPacket)
}

func TestTimesBeyondNTPsEra(t *testing.T) {
	// NTP's seconds begin anew on 2036-02-07 at 06:28:16 UTC.
	for _, at := range []time.Time{time.Date(2036, 2, 7, 6, 28, 15, 999_999_999, time.UTC), time.Date(2036, 2, 7, 6, 28, 16, 1, time.UTC), time.Date(2040, 1, 1, 0, 0, 0, 0, time.UTC)} {
		q, err := wire.ParseStampRequest(wire.StampRequest{Sent: at}.Marshal(0))
		require.NoError(t, err)
		assert.Equal(t, at, q.Sent)
	}
}

func FuzzParseStamp(f *testing.F) {
	f.Add(wire.StampRequest{Seq: 1, Sent: time.Unix(1e9, 0)}.Marshal(60))
	f.Add(wire.StampReply{Seq: 1, Sent: time.Unix(1e9, 0)}.Marshal(44))
	f.Fuzz(func(t *testing.T, b []byte) {
		if q, err := wire.ParseStampRequest(b); err == nil {
			require.Equal(t, b[:4], q.Marshal(len(b))[:4])
		} else {
			require.ErrorIs(t, err, wire.ErrPacket)
		}
		if r, err := wire.ParseStampReply(b); err == nil {
			require.Equal(t, b[24:28], r.Marshal(len(b))[24:28])
		}
	})
}
