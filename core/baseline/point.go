package baseline

import (
	"math"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
)

// Point is what is judged of one reading.
type Point struct {
	At       time.Time
	Span     time.Duration
	Sent     int
	Answered int
	Lost     int
	// values by measure, but for loss, which Sent and Lost say; set says which are there.
	values [measures]float32
	set    uint32
	// of are the packets that the ratio of each direction rests on; 0 where it is the probes sent.
	of [2]int32
}

// PointOf takes the judged figures out of a reading.
func PointOf(r reading.Reading) Point {
	p := Point{At: r.At, Span: r.Span, Sent: r.Sent, Answered: r.Answered, Lost: r.Lost}
	if v, ok := r.RTT.Median.Get(); ok {
		p.Set(RTT, figure.Millis(v))
	}
	if v, ok := r.RTT.Jitter.Get(); ok {
		p.Set(Jitter, figure.Millis(v))
	}
	return p
}

// Set gives the point its figure for a measure. What is no number is not taken.
func (p *Point) Set(m Measure, v float64) {
	if math.IsNaN(v) || math.IsInf(v, 0) || m == Loss {
		return
	}
	p.values[m] = float32(v)
	p.set |= 1 << m
}

// SetLost gives the point how many of the packets of a direction were lost; m is LossThere or
// LossBack. Without a packet it says nothing.
func (p *Point) SetLost(m Measure, lost, of int) {
	if of <= 0 || m != LossThere && m != LossBack {
		return
	}
	p.Set(m, float64(lost)/float64(of))
	p.of[m-LossThere] = int32(of)
}

// Counts are how many probes or packets a ratio rests on, and how many of them were lost.
func (p *Point) Counts(m Measure) (lost, of int) {
	of = p.Sent
	if m == LossThere || m == LossBack {
		if n := p.of[m-LossThere]; n > 0 {
			of = int(n)
		}
		return int(math.Round(float64(p.values[m]) * float64(of))), of
	}
	return p.Lost, of
}

// Value is the point's figure for a measure; false when it has none.
func (p *Point) Value(m Measure) (float64, bool) {
	if m == Loss {
		if p.Sent == 0 {
			return 0, false
		}
		return float64(p.Lost) / float64(p.Sent), true
	}
	return float64(p.values[m]), p.set&(1<<m) != 0
}

// Silent reports whether probes were sent and none was answered.
func (p *Point) Silent() bool { return p.Sent > 0 && p.Answered == 0 }

// Interval is a stretch of time, from inclusive, to exclusive. A zero To is
// still going on.
type Interval struct{ From, To time.Time }

// Covers reports whether t lies in the interval.
func (i Interval) Covers(t time.Time) bool {
	return !t.Before(i.From) && (i.To.IsZero() || t.Before(i.To))
}
