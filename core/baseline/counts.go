package baseline

import (
	"math"
	"slices"
)

// The lattice of counts: each number up to a few, then steps of a seventh.
const (
	latticeExact = 12
	latticeMost  = 240 // probes that a reading is scaled to at the most
)

// lattice are the lowest counts of its steps.
var lattice = func() []int {
	list := []int{}
	for k := 0; k <= latticeExact; k++ {
		list = append(list, k)
	}
	for k := float64(latticeExact) * 1.15; k <= latticeMost; k *= 1.15 {
		list = append(list, int(k+0.5))
	}
	return list
}()

var latticeIndexOf = func() []uint8 {
	list := make([]uint8, latticeMost+1)
	step := 0
	for k := range list {
		for step+1 < len(lattice) && lattice[step+1] <= k {
			step++
		}
		list[k] = uint8(step)
	}
	return list
}()

// allowances are the ratios by which what is lost may lie above what the path loses in its
// quiet hours, in classes.
var allowances = [...]float64{0.0005, 0.0009, 0.0014, 0.002, 0.003, 0.0045, 0.007, 0.01, 0.015, 0.022, 0.035, 0.055, 0.09, 0.16, 0.4}

func classOf(allowance float64) int {
	for i, a := range allowances {
		if allowance <= a {
			return i
		}
	}
	return len(allowances) - 1
}

// counts is how many probes of a reading are lost, distributed.
type counts struct {
	of    int                       // probes of a reading that they are scaled to
	base  []float64                 // the share of readings by step of the lattice
	class [len(allowances)]*tallies // by allowance; made when they are first needed
	toler float64
}

type tallies struct {
	normal []float32            // logarithms
	worse  [Detectors][]float32 //
}

// step is the step of the lattice for so many lost.
func (c *counts) step(lost, sent int) int {
	k := lost
	if sent != c.of && sent > 0 {
		k = int(math.Round(float64(lost) * float64(c.of) / float64(sent)))
		if lost > 0 {
			k = max(1, k)
		}
	}
	return int(latticeIndexOf[min(latticeMost, k)])
}

// countsOf makes a distribution of how often each step of the lattice was seen.
func countsOf(seen []float64, of int, tolerance float64) *counts {
	c := &counts{of: of, toler: tolerance}
	var n, prior float64
	thought := make([]float64, len(lattice))
	for i, v := range seen {
		n += v
		thought[i] = 1 / (1 + float64(i)*float64(i))
		prior += thought[i]
	}
	const pseudo = 10
	for i, v := range seen {
		c.base = append(c.base, (v+pseudo*thought[i]/prior)/(n+pseudo))
	}
	return c
}

// more is the distribution when probes are lost at random beside, at a ratio.
func (c *counts) more(ratio float64) []float64 {
	mean := ratio * float64(c.of)
	below := make([]float64, latticeMost+2) // below[k]: fewer than k are lost beside
	p := math.Exp(-mean)
	for k := 0; k <= latticeMost; k++ {
		below[k+1] = below[k] + p
		p *= mean / float64(k+1)
	}
	at := func(k int) float64 { return below[min(latticeMost+1, max(0, k))] }
	out := make([]float64, len(lattice))
	top := c.step(c.of, c.of)
	for j, share := range c.base {
		if share < 1e-9 {
			continue
		}
		for i := j; i <= top; i++ {
			to := latticeMost + 1
			if i < top {
				to = lattice[i+1]
			}
			out[i] += share * max(0, at(to-lattice[j])-at(lattice[i]-lattice[j]))
		}
		if j > top { // more than there are: never seen, only thought of
			out[j] += share
		}
	}
	return out
}

func (c *counts) tallies(class int) *tallies {
	if c.class[class] != nil {
		return c.class[class]
	}
	allowed := max(allowances[class], 0.2*c.toler)
	t := &tallies{normal: make([]float32, len(lattice))}
	normal := slices.Clone(c.base)
	for _, part := range []float64{0.3, 1} {
		for i, v := range c.more(part * allowed) {
			normal[i] = max(normal[i], v)
		}
	}
	small2 := c.mean(allowed, geometric(c.toler, 4*c.toler, 4))
	large2 := c.mean(allowed, geometric(6*c.toler, 0.9, 6))
	for k := range t.worse {
		t.worse[k] = make([]float32, len(lattice))
	}
	for i := range lattice {
		t.normal[i] = float32(math.Log(normal[i]))
		t.worse[small][i] = float32(math.Log(small2[i]))
		t.worse[large][i] = float32(math.Log(large2[i]))
		t.worse[ragged][i] = float32(math.Log((1-raggedShare)*normal[i] + raggedShare*large2[i]))
	}
	c.class[class] = t
	return t
}

// mean is the mean distribution over ratios beyond an allowance.
func (c *counts) mean(allowed float64, ratios []float64) []float64 {
	out := make([]float64, len(lattice))
	for _, r := range ratios {
		for i, v := range c.more(allowed + r) {
			out[i] += v / float64(len(ratios))
		}
	}
	for i := range out {
		out[i] = max(out[i], 1e-6)
	}
	return out
}

func (c *counts) weigh(lost, sent int, allowance float64) (w [Detectors]float32, likely float32) {
	t := c.tallies(classOf(allowance))
	i := c.step(lost, sent)
	for k := range w {
		w[k] = clip(float64(t.worse[k][i] - t.normal[i]))
	}
	return w, t.normal[i]
}
