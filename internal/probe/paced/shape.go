package paced

import (
	"errors"
	"fmt"
	"time"

	"woodlark.example/wire"
)

// Format is how the packets of a stream look.
type Format string

// The formats.
const (
	Stamp Format = "stamp" // session-sender packets of STAMP (RFC 8762)
	RTP   Format = "rtp"   // with RTCP reports on the same port (RFC 5761)
	Test  Format = "test"  // frames of an acceptance test (wire.TestFrame)
)

// Shape is what is sent in one direction: calls side by side, each of packets at a
// distance.
type Shape struct {
	Format   Format        `json:"format"`
	Calls    int           `json:"calls"`
	Interval time.Duration `json:"interval"` // between two packets of a call
	Sizes    []int         `json:"sizes"`    // bytes of UDP payload of each packet, again and again
	Burst    int           `json:"burst"`    // packets that leave together
	For      time.Duration `json:"for"`
	First    uint32        `json:"first"` // the identifier of the first call: STAMP's session, or RTP's source
	Type     uint8         `json:"type"`  // of RTP
	Clock    int           `json:"clock"` // of RTP, Hz
	Frame    int           `json:"frame"` // RTP packets that share a time
	DSCP     uint8         `json:"dscp"`
	Bulk     bool          `json:"bulk"` // packets are counted, not noted one by one
	// Of frames of a test: how many leave a second, which Interval is too coarse for; how many
	// bytes each has beside its payload, by which those of mixed sizes are spread; how many
	// leave at once, and no more; how long the windows are that they are counted in.
	FPS    float64       `json:"fps,omitempty"`
	Around int           `json:"around,omitempty"`
	AtOnce int           `json:"at_once,omitempty"`
	Window time.Duration `json:"window,omitempty"`
}

// The limits of a shape.
const (
	LeastInterval = 100 * time.Nanosecond
	MostSize      = 65000
	MostCalls     = 10_000
	// MostNoted is how many packets are noted one by one in a direction.
	MostNoted = 20_000_000
)

// Reflected is the identifier of STAMP packets that the far end sends back at once.
const Reflected = 0xffff

// Check says what is wrong with a shape.
func (s Shape) Check() error {
	switch {
	case s.Format == Test:
		return s.checkTest()
	case s.Format != Stamp && s.Format != RTP:
		return fmt.Errorf("no packet format %q", s.Format)
	case s.Calls < 1 || s.Calls > MostCalls:
		return fmt.Errorf("%d streams at once: 1 to %d are possible", s.Calls, MostCalls)
	case s.Interval/time.Duration(s.Calls) < LeastInterval:
		return fmt.Errorf("a packet each %v is more often than can be sent", s.Interval/time.Duration(s.Calls))
	case s.For <= 0 || s.For > 24*time.Hour:
		return fmt.Errorf("a stream of %v: more than nothing and at most 24h are possible", s.For)
	case len(s.Sizes) == 0 || s.Burst < 0:
		return errors.New("a stream needs sizes and no negative bursts")
	case !s.Bulk && s.Packets() > MostNoted:
		return fmt.Errorf("%d packets are more than can be noted one by one (%d): send them for a shorter time or less often", s.Packets(), MostNoted)
	}
	least := wire.StampSize
	if s.Format == RTP {
		least = wire.RTPHeader
	}
	for _, n := range s.Sizes {
		if n < least || n > MostSize {
			return fmt.Errorf("packets of %d bytes: %d to %d bytes of payload are possible in this format", n, least, MostSize)
		}
	}
	return nil
}

// PerCall is how many packets a call has.
func (s Shape) PerCall() int {
	switch {
	case s.AtOnce > 0:
		return s.AtOnce
	case s.FPS > 0:
		return max(1, int(s.FPS*s.For.Seconds()+1e-6))
	}
	return int((s.For + s.Interval - 1) / s.Interval)
}

// Packets is how many there are in all.
func (s Shape) Packets() int { return s.PerCall() * s.Calls }

// Bytes is how many bytes of payload they have.
func (s Shape) Bytes() int64 {
	each := int64(0)
	for _, n := range s.Sizes {
		each += int64(n)
	}
	return int64(s.Packets()) * each / int64(len(s.Sizes))
}

// Rate is bits of payload a second; of a burst it is as fast as it goes, and that is not counted.
func (s Shape) Rate() float64 {
	if s.AtOnce > 0 {
		s.AtOnce = 0
	}
	return float64(s.Bytes()) * 8 / s.For.Seconds()
}

// due is when the k-th of all packets leaves after the start: calls take turns, so that
// all packets together are evenly spread, unless bursts were asked for.
func (s Shape) due(k int) time.Duration {
	if s.Format == Test {
		return s.testDue(k)
	}
	if s.Burst > 1 {
		k -= k % s.Burst
	}
	return time.Duration(float64(k) * float64(s.Interval) / float64(s.Calls))
}

// apart is the distance of packets that follow each other.
func (s Shape) apart() time.Duration {
	if s.Format == Test {
		return time.Duration(1e9 / s.FPS)
	}
	return s.Interval / time.Duration(s.Calls)
}

// place is which packet of which call the k-th of all packets is.
func (s Shape) place(k int) (call, number int) { return k % s.Calls, k / s.Calls }

// write makes the k-th packet, at a time of the sender's own clock.
func (s Shape) write(b []byte, k int, now time.Time) []byte {
	call, number := s.place(k)
	size := s.Sizes[number%len(s.Sizes)]
	if s.Format == Stamp {
		q := wire.StampRequest{Seq: uint32(number), Sent: now, Error: wire.StampFree, Session: uint16(s.First) + uint16(call)}
		return q.Write(b[:size])
	}
	if s.Format == Test {
		return wire.TestFrame{Stream: uint8(s.First), Number: uint32(k), Sent: now}.Write(b[:size])
	}
	frame := max(1, s.Frame)
	last := number%frame == frame-1
	h := wire.RTP{Type: s.Type, Seq: uint16(number), Source: s.First + uint32(call), Marker: frame == 1 && number == 0 || frame > 1 && last,
		Timestamp: uint32(int64(number/frame) * int64(s.Interval) * int64(frame) * int64(s.Clock) / int64(time.Second))}
	h.Append(b[:0])
	return b[:size]
}

// read tells which packet of which call one is; far is how many packets of the call
// are known already, for the numbers of RTP, which begin anew after 65,535.
func (s Shape) read(b []byte, known func(call int) int) (call, number int, sent time.Time, ok bool) {
	if s.Format == Stamp {
		q, err := wire.ParseStampRequest(b)
		call = int(q.Session - uint16(s.First))
		return call, int(q.Seq), q.Sent, err == nil && call >= 0 && call < s.Calls && int64(q.Seq) < int64(s.PerCall())
	}
	if wire.IsRTCP(b) {
		return 0, 0, sent, false
	}
	h, _, err := wire.ParseRTP(b)
	call = int(int64(h.Source) - int64(s.First))
	if err != nil || h.Type != s.Type || call < 0 || call >= s.Calls {
		return 0, 0, sent, false
	}
	near := known(call)
	number = near + int(int16(h.Seq-uint16(near)))
	return call, number, sent, number >= 0 && number < s.PerCall()
}
