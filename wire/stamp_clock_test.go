package wire_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

// TestErrorEstimate: RFC 4656 §4.1.2, worked by hand: multiplier · 2^(scale − 32) s.
func TestErrorEstimate(t *testing.T) {
	for _, c := range []struct {
		inStep bool
		within time.Duration
		want   uint16
		least  time.Duration // that reads back
	}{
		{true, 0, 0x8001, 0},
		{false, 0, 0x0001, 0},
		// 1 s is 2^32 units of 2^-32 s: 128 · 2^(25 − 32).
		{true, time.Second, 0x8000 | 25<<8 | 128, time.Second},
		// 1 ms is 4,294,968 units, rounded up: 132 · 2^15 = 4,325,376.
		{true, time.Millisecond, 0x8000 | 15<<8 | 132, 1_007_080 * time.Nanosecond},
		// 255.9/256 s does not fit 255 of its scale: 128 of the next.
		{false, 999_700 * time.Microsecond, 25<<8 | 128, time.Second},
	} {
		e := wire.ErrorEstimate(c.inStep, c.within)
		assert.Equal(t, c.want, e, "%v", c.within)
		inStep, within, ptp := wire.ReadErrorEstimate(e)
		assert.Equal(t, c.inStep, inStep)
		assert.GreaterOrEqual(t, within, c.within, "never better than it is")
		assert.InDelta(t, float64(c.least), float64(within), 2)
		assert.False(t, ptp)
	}
	inStep, _, ptp := wire.ReadErrorEstimate(0xc000)
	assert.False(t, inStep, "a multiplier of 0 says nothing")
	assert.True(t, ptp)
}

// TestTimesOfPTP: a reflector that stamps in PTP's format says so in its error estimate.
func TestTimesOfPTP(t *testing.T) {
	b := wire.StampReply{Seq: 1, Error: 0xc001}.Marshal(0)
	copy(b[4:], []byte{0x38, 0x6d, 0x43, 0x80, 0, 0, 0, 7}) // 946,684,800 s: 2000-01-01, and 7 ns
	r, err := wire.ParseStampReply(b)
	require.NoError(t, err)
	assert.Equal(t, time.Date(2000, 1, 1, 0, 0, 0, 7, time.UTC), r.Sent)
}

func TestTLVsAreSealed(t *testing.T) {
	key := []byte("gull")
	tlvs := wire.AppendTLVs(nil, wire.DirectMeasurement{SenderSent: 9}.TLV(), wire.Class{Asked: 46}.TLV())
	sealed := wire.AppendTLVs(tlvs[:len(tlvs):len(tlvs)], wire.SealTLVs(5, tlvs, key))
	require.Len(t, sealed, len(tlvs)+20)
	padded := wire.AppendTLVs(sealed[:len(sealed):len(sealed)], wire.TLV{Type: wire.TLVPadding, Value: make([]byte, 30)})
	assert.True(t, wire.TLVsSealed(5, sealed, key))
	assert.True(t, wire.TLVsSealed(5, padded, key), "padding comes behind it")
	assert.False(t, wire.TLVsSealed(6, sealed, key), "that of another packet")
	assert.False(t, wire.TLVsSealed(5, sealed, []byte("tern")))
	assert.False(t, wire.TLVsSealed(5, tlvs, key), "none at all")
	sealed[7] ^= 1
	assert.False(t, wire.TLVsSealed(5, sealed, key), "changed on the way")
}
