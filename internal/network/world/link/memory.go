package link

import (
	"math"
	"time"
)

// Memory is for how long a link's delay stays near what it was: after For the correlation of its
// draws has fallen to 1/e, and no draw depends on what was over twice as long ago. Share is the part
// of the variation (of its variance, as a normal score) that lasts; the rest is each packet's own.
// The zero value has none: each packet draws by itself.
type Memory struct {
	For   time.Duration
	Share float64
}

// lasting is how much longer than Memory.For the steps are between whose scores a delay moves: the
// mean correlation over all phases of a step falls to 1/e after 0.900 of one.
const lasting = 1 / 0.9001688514576003

// source is where draws come from: in [0, 1), and of the normal distribution.
type source interface {
	unit() float64
	normal() float64
}

func (d *draws) normal() float64 {
	return math.Sqrt(-2*math.Log(1-d.unit())) * math.Cos(2*math.Pi*d.unit())
}

// slow are draws that move with time instead of being each packet's own: normal scores that run from
// one step's to the next one's, each with a standard deviation of 1 at any time.
type slow struct {
	own   *draws
	seed  uint64
	at    int64
	step  int64
	share float64
	k     uint64 // which draw of the packet it is
}

func (m Memory) source(random *draws, k *Packet) source {
	if m.For <= 0 || m.Share <= 0 {
		return random
	}
	return &slow{own: random, seed: k.Seed, at: k.At, step: max(1, int64(float64(m.For)*lasting)), share: min(1, m.Share)}
}

func (s *slow) unit() float64 {
	return min(0.5*math.Erfc(-s.normal()/math.Sqrt2), math.Nextafter(1, 0))
}

func (s *slow) normal() float64 {
	s.k++
	seed := Mix(s.seed ^ Mix(s.k))
	i := s.at / s.step
	f := float64(s.at-i*s.step) / float64(s.step)
	z := ((1-f)*score(seed, i) + f*score(seed, i+1)) / math.Hypot(1-f, f)
	if s.share < 1 {
		z = math.Sqrt(s.share)*z + math.Sqrt(1-s.share)*s.own.normal()
	}
	return z
}

// strata is in how many equal parts the distribution is cut: of so many steps in a row each has one,
// in an order of chance. So a span of some steps has met all of the distribution, and two spans
// differ less than by chance alone.
const strata = 16

// score is the normal score of a step.
func score(seed uint64, i int64) float64 {
	block := Mix(seed ^ Mix(uint64(i/strata)))
	var order [strata]uint8
	for n := range order {
		order[n] = uint8(n)
	}
	for n := strata - 1; n > 0; n-- {
		block = Mix(block)
		j := block % uint64(n+1)
		order[n], order[j] = order[j], order[n]
	}
	within := Unit(Mix(seed ^ Mix(uint64(i)) ^ 0x5851f42d4c957f2d))
	return quantile((float64(order[i%strata]) + within) / strata)
}

// quantile is that of the normal distribution.
func quantile(u float64) float64 {
	const least = 1e-12
	return math.Sqrt2 * math.Erfinv(2*max(least, min(1-least, u))-1)
}
