package wire

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"time"
)

// TestFrame is the payload of a frame of an acceptance test. It is as small as it can be, so that
// a frame of 64 bytes with IPv4 and UDP in it still has room: 18 bytes. What is behind it up to
// the frame's size is noise that nothing on the way can compress, the same in each frame.
//
//	 0  version and a mark of what it is
//	 1  stream
//	 2  number, of 32 bits, which begins anew
//	 6  when it left, in nanoseconds since 1970 by the sender's clock
//	14  CRC-32C over all of it, noise included, with these bytes as zero
type TestFrame struct {
	Stream uint8
	Number uint32
	Sent   time.Time
}

// TestFrameSize is the least size of one.
const TestFrameSize = 18

const (
	testFrameMark = 0xa1
	testFrameSum  = 14
)

// ErrDamaged is returned for a test frame that was changed on its way.
var ErrDamaged = errors.New("damaged on the way")

var (
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
	// noise is what test frames are filled with.
	noise = func() []byte {
		b := make([]byte, 1<<16)
		x := uint64(0x9e3779b97f4a7c15)
		for i := 0; i < len(b); i += 8 {
			x ^= x << 13
			x ^= x >> 7
			x ^= x << 17
			binary.LittleEndian.PutUint64(b[i:], x)
		}
		return b
	}()
	zeroSum = make([]byte, TestFrameSize-testFrameSum)
)

// Write fills b, whose length is that of the payload and at least TestFrameSize.
func (f TestFrame) Write(b []byte) []byte {
	b[0], b[1] = testFrameMark, f.Stream
	binary.BigEndian.PutUint32(b[2:], f.Number)
	binary.BigEndian.PutUint64(b[6:], uint64(f.Sent.UnixNano()))
	copy(b[TestFrameSize:], noise)
	binary.BigEndian.PutUint32(b[testFrameSum:], sumOfTestFrame(b))
	return b
}

func sumOfTestFrame(b []byte) uint32 {
	sum := crc32.Update(0, castagnoli, b[:testFrameSum])
	sum = crc32.Update(sum, castagnoli, zeroSum)
	return crc32.Update(sum, castagnoli, b[TestFrameSize:])
}

// IsTestFrame reports whether a payload looks like one.
func IsTestFrame(b []byte) bool { return len(b) >= TestFrameSize && b[0] == testFrameMark }

// ParseTestFrame reads one. Of one that was damaged it returns what it seems to say, with
// ErrDamaged.
func ParseTestFrame(b []byte) (f TestFrame, err error) {
	if !IsTestFrame(b) {
		return f, ErrPacket
	}
	f = TestFrame{Stream: b[1], Number: binary.BigEndian.Uint32(b[2:]), Sent: time.Unix(0, int64(binary.BigEndian.Uint64(b[6:])))}
	if binary.BigEndian.Uint32(b[testFrameSum:]) != sumOfTestFrame(b) {
		err = ErrDamaged
	}
	return f, err
}
