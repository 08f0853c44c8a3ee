package link

import (
	"math"
	"time"
)

// VariationKind is how the delay of a link varies from packet to packet.
type VariationKind uint8

// The kinds. Uniform and Gaussian lie around the delay, the others add to it.
const (
	Constant  VariationKind = iota
	Uniform                 // between −Scale and +Scale
	Gaussian                // standard deviation Scale, cut at four of it
	Gamma                   // mean Scale, whole-number Shape
	Pareto                  // from 0 on (Lomax), mean Scale, Shape above 1
	Histogram               // by Bins
)

// Variation of a link's delay.
type Variation struct {
	Kind  VariationKind
	Scale time.Duration
	Shape float64
	Bins  []Bin // their weights add up to 1
}

// Bin of a histogram: a delay between From and To, evenly.
type Bin struct {
	From, To time.Duration
	Weight   float64
}

func (v *Variation) draw(random source) time.Duration {
	scale := float64(v.Scale)
	switch v.Kind {
	case Uniform:
		return time.Duration(scale * (2*random.unit() - 1))
	case Gaussian:
		return time.Duration(scale * max(-4, min(4, random.normal())))
	case Gamma:
		product := 1.0 // −ln of a product is the sum of exponential draws
		for range int(v.Shape) {
			product *= 1 - random.unit()
		}
		return time.Duration(-scale / v.Shape * math.Log(product))
	case Pareto:
		return time.Duration(scale * (v.Shape - 1) * (math.Pow(1-random.unit(), -1/v.Shape) - 1))
	case Histogram:
		return v.fromBins(random)
	}
	return 0
}

func (v *Variation) fromBins(random source) time.Duration {
	at := random.unit()
	for _, b := range v.Bins {
		if at < b.Weight {
			return b.From + time.Duration(at/b.Weight*float64(b.To-b.From))
		}
		at -= b.Weight
	}
	return v.Bins[len(v.Bins)-1].To
}

// Least is the smallest value that a draw can have.
func (v Variation) Least() time.Duration {
	switch v.Kind {
	case Uniform:
		return -v.Scale
	case Gaussian:
		return -4 * v.Scale
	case Histogram:
		least := v.Bins[0].From
		for _, b := range v.Bins {
			least = min(least, b.From)
		}
		return least
	}
	return 0
}

// Of is the draw that belongs to a number, for what varies beside links.
func (v *Variation) Of(number uint64) time.Duration { return v.draw(&draws{Mix(number)}) }
