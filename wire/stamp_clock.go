package wire

import (
	"math"
	"math/bits"
	"time"
)

// The bits of an error estimate: the clock is synchronised to a source of UTC (RFC 4656
// §4.1.2), and times are in the truncated format of PTP (RFC 8186 §2.1).
const (
	errorInStep uint16 = 0x8000
	errorPTP    uint16 = 0x4000
)

// ErrorEstimate writes how well a clock is kept (RFC 4656 §4.1.2): in step, and to
// within an error, which is rounded up to one that the format can say.
func ErrorEstimate(inStep bool, within time.Duration) uint16 {
	// The error is multiplier · 2^(scale − 32) s, the multiplier 1 to 255.
	units := uint64(math.Ceil(min(max(0, within.Seconds()), 1<<31) * (1 << 32)))
	scale := max(0, bits.Len64(units)-8)
	multiplier := (units + 1<<scale - 1) >> scale
	if multiplier > 255 {
		scale, multiplier = scale+1, (multiplier+1)>>1
	}
	e := uint16(min(scale, 63))<<8 | uint16(max(1, multiplier))
	if inStep {
		e |= errorInStep
	}
	return e
}

// ReadErrorEstimate reads one: whether the clock is in step, to within what, and
// whether its times are PTP's. A multiplier of 0 says nothing: the clock counts as free.
func ReadErrorEstimate(e uint16) (inStep bool, within time.Duration, ptp bool) {
	multiplier := float64(e & 0xff)
	seconds := math.Ldexp(multiplier, int(e>>8&0x3f)-32)
	within = time.Duration(min(seconds*1e9, math.MaxInt64/2))
	return e&errorInStep != 0 && multiplier > 0, within, e&errorPTP != 0
}

// timeOf reads a time in the format that an error estimate names. PTP's is seconds and
// nanoseconds since 1970, of 32 bits each; its scale is usually TAI.
func timeOf(v uint64, estimate uint16) time.Time {
	if estimate&errorPTP != 0 {
		return time.Unix(int64(v>>32), int64(v&0xffffffff)).UTC()
	}
	return fromNTP(v)
}
