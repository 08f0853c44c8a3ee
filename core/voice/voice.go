// Package voice estimates how a call sounds from what the network does to it: the
// E-model of ITU-T G.107.
//
//	r := voice.Rating(voice.Call{Delay: 120 * time.Millisecond, Loss: 0.01, Codec: voice.G711})
//	mos := voice.MOS(r)
package voice

import (
	"math"
	"time"
)

// Call is one direction of a call.
type Call struct {
	Codec Codec
	Delay time.Duration // one way, from mouth to ear
	Loss  float64       // ratio of packets lost or discarded, 0 to 1
	Burst float64       // burst ratio of the loss; 1, random, when 0
}

// base is Ro − Is with the default values of G.107 §7.7.
const base = 93.2

// Rating is R (G.107 §7.1): 93.2 for a call without delay or loss, from 80 on
// users are satisfied, below 50 nearly all are not. It can be below 0.
func Rating(c Call) float64 { return base - delayImpairment(c.Delay) - lossImpairment(c) }

// delayImpairment is Idd (G.107 §7.4) with the default sensitivity: a delay of up
// to 100 ms does no harm.
func delayImpairment(d time.Duration) float64 {
	ms := float64(d) / float64(time.Millisecond)
	if ms <= 100 {
		return 0
	}
	x := math.Log2(ms / 100)
	root := func(v float64) float64 { return math.Pow(1+math.Pow(v, 6), 1.0/6) }
	return 25 * (root(x) - 3*root(x/3) + 2)
}

// lossImpairment is Ie,eff (G.107 §7.5).
func lossImpairment(c Call) float64 {
	percent, burst := 100*c.Loss, c.Burst
	if burst == 0 {
		burst = 1
	}
	return c.Codec.Ie + (95-c.Codec.Ie)*percent/(percent/burst+c.Codec.Bpl)
}

// MOS is the mean opinion score of a rating, 1 to 4.5 (G.107 Annex B).
func MOS(r float64) float64 {
	switch {
	case r <= 0:
		return 1
	case r >= 100:
		return 4.5
	}
	return max(1, 1+0.035*r+r*(r-60)*(100-r)*7e-6)
}
