package delay

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/figure"
)

// Sample is the delay of one answered probe. Number is the probe's place in
// sending order, counted from 0.
type Sample struct {
	Number int
	RTT    time.Duration
}

// Summary holds the figures of delay over answered probes. Every figure is
// absent when there are too few answers for it: one for the middle ones, two
// for the standard deviation, two neighbours for jitter.
type Summary struct {
	Count                       int
	Min, Mean, Median, P95, P99 figure.Duration
	Max                         figure.Duration
	SD                          figure.Duration // sample standard deviation (n−1)
	Jitter                      figure.Duration // mean |RTTᵢ − RTTᵢ₋₁| of neighbours both answered (IPDV, RFC 3393 §2, RFC 5481 §4.1)
	JitterRFC3550               figure.Duration // J += (|D| − J)/16 over answers in sending order (RFC 3550 §6.4.1)
	PDV                         figure.Duration // p99 − min (RFC 5481 §4.2)
	Spread                      figure.Duration // mean − min
}

// Summarise computes the figures of samples, which must be in sending order.
// The median and the other quantiles interpolate as Quantile does.
func Summarise(samples []Sample) Summary {
	s := Summary{Count: len(samples)}
	if len(samples) == 0 {
		return s
	}
	sorted := make([]time.Duration, len(samples))
	var sum float64
	for i, sample := range samples {
		sorted[i] = sample.RTT
		sum += float64(sample.RTT)
	}
	slices.Sort(sorted)
	mean := sum / float64(len(sorted))
	s.Min = figure.Of(sorted[0])
	s.Max = figure.Of(sorted[len(sorted)-1])
	s.Mean = figure.Of(round(mean))
	s.Median = figure.Of(Quantile(sorted, 0.50))
	s.P95 = figure.Of(Quantile(sorted, 0.95))
	p99 := Quantile(sorted, 0.99)
	s.P99 = figure.Of(p99)
	s.PDV = figure.Of(p99 - sorted[0])
	s.Spread = figure.Of(round(mean) - sorted[0])
	if len(sorted) > 1 {
		var squares float64
		for _, v := range sorted {
			squares += (float64(v) - mean) * (float64(v) - mean)
		}
		s.SD = figure.Of(round(math.Sqrt(squares / float64(len(sorted)-1))))
	}
	s.Jitter, s.JitterRFC3550 = variation(samples)
	return s
}

func variation(samples []Sample) (ipdv, rfc3550 figure.Duration) {
	var sum, j float64
	var pairs int
	for i := 1; i < len(samples); i++ {
		d := math.Abs(float64(samples[i].RTT - samples[i-1].RTT))
		j += (d - j) / 16
		if samples[i].Number == samples[i-1].Number+1 {
			sum += d
			pairs++
		}
	}
	if len(samples) > 1 {
		rfc3550 = figure.Of(round(j))
	}
	if pairs > 0 {
		ipdv = figure.Of(round(sum / float64(pairs)))
	}
	return ipdv, rfc3550
}

func round(ns float64) time.Duration { return time.Duration(math.Round(ns)) }
