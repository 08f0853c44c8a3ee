package oneway

import (
	"cmp"
	"slices"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
)

// Clock is how the far end's clock stands to the near end's: far = near + Offset +
// Skew · (near − At).
type Clock struct {
	// InStep says that both are known to show the same time, to within Error. Else
	// the offset was estimated, and takes for granted that the least delay is the same
	// both ways: delays are relative, and may be off by Error at most. Their variation
	// is exact in either case.
	InStep bool
	Known  bool // false when there was nothing to estimate from: delays mean nothing then
	Offset time.Duration
	Skew   float64   // seconds a second
	At     time.Time // when the offset was that
	Error  time.Duration
}

// between is the delay of a packet.
func (c Clock) between(sent, received time.Time, far bool) time.Duration {
	d := received.Sub(sent)
	if far {
		return d - c.ahead(sent)
	}
	return d + c.ahead(received)
}

// ahead is how far the far clock is ahead when the near one shows t.
func (c Clock) ahead(t time.Time) time.Duration {
	if c.At.IsZero() {
		return c.Offset
	}
	return c.Offset + time.Duration(c.Skew*float64(t.Sub(c.At)))
}

// Stepped is the clock of two ends that are known to be in step to within an error.
func Stepped(within time.Duration) Clock { return Clock{InStep: true, Known: true, Error: within} }

// point is a delay as the clocks tell it (y), at a time of the near clock (x), both in
// seconds.
type point struct{ x, y float64 }

// Estimate finds how the far clock stands, from streams both ways that were sent in
// the same time: their delays as the clocks tell them lie above a line each, the
// least delay, that the offset shifts and the skew tilts against each other. At least
// one packet must have arrived each way; false when not. Skew is estimated only where
// the streams are long enough for their lines to tell it.
func Estimate(there, back Stream) (Clock, bool) {
	c := Clock{Known: true, At: start(there.Sent)}
	f, b := points(there, c.At, false), points(back, c.At, true)
	if len(f) == 0 || len(b) == 0 {
		return Clock{}, false
	}
	if slope, sure := tilt(f, b); sure {
		c.Skew = slope
	}
	forth, home := lowest(f, c.Skew), lowest(b, -c.Skew)
	c.Offset = seconds((forth - home) / 2)
	c.Error = seconds(max(0, (forth+home)/2))
	return c, true
}

// lowest is the least of the delays with a tilt taken out.
func lowest(list []point, tilt float64) float64 {
	least := list[0].y - tilt*list[0].x
	for _, p := range list {
		least = min(least, p.y-tilt*p.x)
	}
	return least
}

func seconds(s float64) time.Duration { return time.Duration(s * 1e9) }

// start is the first time that something was sent.
func start(sent []time.Time) time.Time {
	for _, t := range sent {
		if !t.IsZero() {
			return t
		}
	}
	return time.Time{}
}

// points are the delays of a stream as the clocks tell them, by the near clock's time
// since an origin: when it was sent, or for the way back when it was received.
func points(s Stream, origin time.Time, home bool) []point {
	first := s.first()
	var list []point
	for i, sent := range s.Sent {
		if k := first[i]; k >= 0 && !sent.IsZero() && !s.Arrivals[k].At.IsZero() {
			t := sent
			if home {
				t = s.Arrivals[k].At
			}
			list = append(list, point{t.Sub(origin).Seconds(), s.Arrivals[k].At.Sub(sent).Seconds()})
		}
	}
	return list
}

// tilt is the skew that both lower envelopes agree on.
func tilt(f, b []point) (float64, bool) {
	const leastSpan, leastPoints = 5, 50 // seconds
	if len(f) < leastPoints || len(b) < leastPoints || span(f) < leastSpan || span(b) < leastSpan {
		return 0, false
	}
	forth, home := envelope(f), envelope(b)
	skew := (forth - home) / 2
	// What the clocks cannot explain, the two lines tilting the same way, is the
	// measure of how well the lines are known.
	doubt := (forth + home) / 2
	if doubt < 0 {
		doubt = -doubt
	}
	size := max(skew, -skew)
	return skew, size > 3*doubt && size < 1e-2
}

func span(list []point) float64 { return list[len(list)-1].x - list[0].x }

// envelope is the slope of the line under all points that is nearest to them: the
// edge of their lower convex hull over their mean time (the sum of the distances to a
// line below all points is least there).
func envelope(list []point) float64 {
	sorted := slices.Clone(list)
	slices.SortFunc(sorted, func(a, b point) int { return cmp.Or(cmp.Compare(a.x, b.x), cmp.Compare(a.y, b.y)) })
	var hull []point
	mean := 0.0
	for _, p := range sorted {
		mean += p.x / float64(len(sorted))
		for len(hull) >= 2 && cross(hull[len(hull)-2], hull[len(hull)-1], p) <= 0 {
			hull = hull[:len(hull)-1]
		}
		hull = append(hull, p)
	}
	for i := 1; i < len(hull); i++ {
		if hull[i].x >= mean && hull[i].x > hull[i-1].x {
			return (hull[i].y - hull[i-1].y) / (hull[i].x - hull[i-1].x)
		}
	}
	return 0
}

func cross(o, a, b point) float64 { return (a.x-o.x)*(b.y-o.y) - (a.y-o.y)*(b.x-o.x) }

// pdv is a quantile of the delays − their minimum.
func pdv(samples []delay.Sample, q float64) figure.Duration {
	sorted := make([]time.Duration, len(samples))
	for i, s := range samples {
		sorted[i] = s.RTT
	}
	slices.Sort(sorted)
	return figure.Of(delay.Quantile(sorted, q) - sorted[0])
}
