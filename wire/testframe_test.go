package wire_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/wire"
)

func TestTestFrames(t *testing.T) {
	for _, size := range []int{wire.TestFrameSize, 19, 100, 1472, 9000} {
		f := wire.TestFrame{Stream: 3, Number: 4_000_000_000, Sent: time.Unix(1_790_000_000, 123_456_789)}
		b := f.Write(make([]byte, size))
		got, err := wire.ParseTestFrame(b)
		require.NoError(t, err)
		assert.Equal(t, f.Number, got.Number)
		assert.Equal(t, f.Stream, got.Stream)
		assert.True(t, f.Sent.Equal(got.Sent), "to the nanosecond")
		for _, at := range []int{1, 5, 10, 15, size - 1} {
			b[at] ^= 0x40
			_, err := wire.ParseTestFrame(b)
			assert.ErrorIs(t, err, wire.ErrDamaged, "byte %d of %d", at, size)
			b[at] ^= 0x40
		}
	}
	for _, b := range [][]byte{nil, make([]byte, 17), make([]byte, 100)} {
		_, err := wire.ParseTestFrame(b)
		assert.ErrorIs(t, err, wire.ErrPacket)
	}
}

func FuzzTestFrame(f *testing.F) {
	f.Add(wire.TestFrame{Number: 7}.Write(make([]byte, 64)))
	f.Fuzz(func(_ *testing.T, b []byte) { _, _ = wire.ParseTestFrame(b) })
}
