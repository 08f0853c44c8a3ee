package oneway

import (
	"math"
	"time"

	"woodlark.example/core/figure"
)

// MediaJitter is the interarrival jitter that a receiver of RTP reckons (RFC 3550
// §6.4.1, A.8): J += (|D| − J)/16 over the packets in the order of arriving, where D
// compares the distance of two arrivals with that of their media times, not of their
// departures. What a sender does not send on time counts here; in the one-way figures
// it does not. frame is how many packets share a media time. It gives the mean of J over
// the packets that arrived, the first with J = 0, and the greatest J; both are absent
// when nothing arrived, or the stream has no interval.
func MediaJitter(s Stream, frame int) (mean, most figure.Duration) {
	if len(s.Arrivals) == 0 || s.Interval <= 0 {
		return mean, most
	}
	at := func(n int) time.Duration { return time.Duration(n/max(1, frame)*max(1, frame)) * s.Interval }
	j, sum, top := 0.0, 0.0, 0.0
	for i := 1; i < len(s.Arrivals); i++ {
		a, b := s.Arrivals[i-1], s.Arrivals[i]
		apart := b.At.Sub(a.At) - (at(b.Number) - at(a.Number))
		j += (math.Abs(float64(apart)) - j) / 16
		sum += j
		top = max(top, j)
	}
	return figure.Of(round(sum / float64(len(s.Arrivals)))), figure.Of(round(top))
}
