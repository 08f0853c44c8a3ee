package baseline

import (
	"fmt"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
)

// Measure is a figure of a path that has a baseline.
type Measure int

// The measures that are judged.
const (
	RTT    Measure = iota // median round-trip time of a reading, ms
	Jitter                // jitter of a reading, ms
	Loss                  // lost / sent of a reading, 0 to 1
	measures
)

var measureNames = [...]string{"rtt", "jitter", "loss"}

// Measures are all measures, in the order in which they are reported.
func Measures() []Measure { return []Measure{RTT, Jitter, Loss} }

func (m Measure) String() string {
	if m >= 0 && m < measures {
		return measureNames[m]
	}
	return fmt.Sprintf("measure(%d)", int(m))
}

// MarshalText writes the measure's name.
func (m Measure) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText reads a measure's name.
func (m *Measure) UnmarshalText(text []byte) error {
	for i, name := range measureNames {
		if name == string(text) {
			*m = Measure(i)
			return nil
		}
	}
	return fmt.Errorf("measure %q is unknown; known are %v", text, measureNames)
}

// tolerance is how far beyond the band a value must lie to be worth caring
// about, given what is normal.
func (m Measure) tolerance(n Normal) float64 {
	switch m {
	case RTT:
		return max(1, n.Median/10)
	case Jitter:
		return max(2, n.Median)
	default:
		return 0.005
	}
}

// Point is what is judged of one reading.
type Point struct {
	At       time.Time
	Span     time.Duration
	Sent     int
	Answered int
	Lost     int
	RTT      figure.Duration // median
	Jitter   figure.Duration
}

// PointOf takes the judged figures out of a reading.
func PointOf(r reading.Reading) Point {
	return Point{At: r.At, Span: r.Span, Sent: r.Sent, Answered: r.Answered, Lost: r.Lost, RTT: r.RTT.Median, Jitter: r.RTT.Jitter}
}

// Value is the point's figure for a measure; false when it has none.
func (p Point) Value(m Measure) (float64, bool) {
	switch m {
	case RTT:
		v, ok := p.RTT.Get()
		return figure.Millis(v), ok
	case Jitter:
		v, ok := p.Jitter.Get()
		return figure.Millis(v), ok
	default:
		if p.Sent == 0 {
			return 0, false
		}
		return float64(p.Lost) / float64(p.Sent), true
	}
}

// Silent reports whether probes were sent and none was answered.
func (p Point) Silent() bool { return p.Sent > 0 && p.Answered == 0 }

// Interval is a stretch of time, from inclusive, to exclusive. A zero To is
// still going on.
type Interval struct{ From, To time.Time }

// Covers reports whether t lies in the interval.
func (i Interval) Covers(t time.Time) bool {
	return !t.Before(i.From) && (i.To.IsZero() || t.Before(i.To))
}
