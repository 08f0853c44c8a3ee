// Package loss turns counts of lost probes into a ratio that is honest about
// how little a few probes prove, and describes how losses are spread.
//
//	r := loss.Ratio{Lost: 1, Sent: 4}
//	low, high, _ := r.Interval() // 0.046 to 0.699: four probes prove little
package loss

import (
	"math"

	"woodlark.example/core/figure"
)

// z95 is the 0.975 quantile of the normal distribution: two-sided 95 %.
const z95 = 1.959963984540054

// Ratio is lost probes out of sent ones.
type Ratio struct{ Lost, Sent int }

// Value is lost / sent, 0 to 1; absent when nothing was sent (RFC 7680 §4.1).
func (r Ratio) Value() figure.Number {
	if r.Sent <= 0 {
		return figure.Number{}
	}
	return figure.Of(float64(r.Lost) / float64(r.Sent))
}

// Interval is the 95 % Wilson score interval of the ratio; ok is false when
// nothing was sent.
func (r Ratio) Interval() (low, high float64, ok bool) {
	if r.Sent <= 0 {
		return 0, 0, false
	}
	low, high = wilson(float64(r.Lost)/float64(r.Sent), float64(r.Sent))
	if r.Lost == 0 {
		low = 0
	}
	if r.Lost == r.Sent {
		high = 1
	}
	return low, high, true
}

func wilson(p, n float64) (low, high float64) {
	zz := z95 * z95
	centre := (p + zz/(2*n)) / (1 + zz/n)
	half := z95 / (1 + zz/n) * math.Sqrt(p*(1-p)/n+zz/(4*n*n))
	return math.Max(0, centre-half), math.Min(1, centre+half)
}

// SettlesAt is how many probes in all would narrow the interval to ±half,
// should the ratio stay as it is; absent when nothing was sent or half is not
// between 0 and 1.
func (r Ratio) SettlesAt(half float64) figure.Opt[int] {
	if r.Sent <= 0 || half <= 0 || half >= 1 {
		return figure.Opt[int]{}
	}
	p := float64(r.Lost) / float64(r.Sent)
	lo, hi := 1, 1
	for width(p, hi) > half {
		hi *= 2
	}
	for lo < hi {
		if mid := (lo + hi) / 2; width(p, mid) > half {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return figure.Of(lo)
}

func width(p float64, n int) float64 {
	low, high := wilson(p, float64(n))
	return (high - low) / 2
}

// SettlesAtPoint is SettlesAt for ±1 percentage point.
func (r Ratio) SettlesAtPoint() figure.Opt[int] { return r.SettlesAt(0.01) }

// SettlesAtFifth is SettlesAt for ± a fifth of the ratio itself; absent when
// nothing was lost, as a fifth of nothing is never reached.
func (r Ratio) SettlesAtFifth() figure.Opt[int] {
	if r.Lost == 0 {
		return figure.Opt[int]{}
	}
	return r.SettlesAt(float64(r.Lost) / float64(r.Sent) / 5)
}

// TellsFrom is how many probes in all would tell the ratio, should it stay as
// it is, from a limit: the interval no longer covers it. Absent when nothing
// was sent, or when the ratio is too near to the limit for a million probes.
func (r Ratio) TellsFrom(limit float64) figure.Opt[int] {
	if r.Sent <= 0 {
		return figure.Opt[int]{}
	}
	p := float64(r.Lost) / float64(r.Sent)
	covers := func(n int) bool {
		low, high := wilson(p, float64(n))
		return low <= limit && limit <= high
	}
	lo, hi := 1, 1
	for covers(hi) {
		if hi *= 2; hi > 1_000_000 {
			return figure.Opt[int]{}
		}
	}
	for lo < hi {
		if mid := (lo + hi) / 2; covers(mid) {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return figure.Of(lo)
}

// AtLeast is the probability that a path which loses each probe with
// probability p, independently, loses r.Lost or more of r.Sent: the upper
// binomial tail, summed in logarithms. 1 when nothing was lost.
func (r Ratio) AtLeast(p float64) float64 {
	switch {
	case r.Lost <= 0:
		return 1
	case p <= 0:
		return 0
	case p >= 1:
		return 1
	}
	n, tail := float64(r.Sent), 0.0
	lgN, _ := math.Lgamma(n + 1)
	for k := r.Lost; k <= r.Sent; k++ {
		a, _ := math.Lgamma(float64(k) + 1)
		b, _ := math.Lgamma(n - float64(k) + 1)
		term := math.Exp(lgN - a - b + float64(k)*math.Log(p) + (n-float64(k))*math.Log1p(-p))
		tail += term
		if float64(k) > n*p && term < tail*1e-12 {
			break
		}
	}
	return math.Min(1, tail)
}
