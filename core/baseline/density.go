package baseline

import "math"

// Detectors of one measure: what each holds against what is normal.
const (
	small     = iota // all readings are a little worse
	large            // all readings are much worse
	ragged           // some readings are much worse
	Detectors        // how many there are
)

const (
	// one reading weighs no more than so many natural logarithms.
	mostFor     = 7.6
	mostAgainst = -4
	// raggedShare of readings are much worse when a path gets ragged.
	raggedShare = 0.2
)

func clip(v float64) float32 { return float32(min(mostFor, max(mostAgainst, v))) }

// The grid of a density: even steps of the area hyperbolic sine, so that it is fine near
// zero and reaches far.
const (
	gridStep  = 0.06
	gridBelow = 70  // steps below zero
	gridSize  = 200 // to asinh 7.8, or 1,200 spreads
)

// gridIndex is the step a deviation falls on, in spreads.
func gridIndex(z float64) int {
	// The logarithm to a thousandth, from the bits of the number: this is asked a lot.
	bits := math.Float64bits(math.Abs(z) + math.Sqrt(z*z+1))
	a := float64(int(bits>>52)-1023)*math.Ln2 + mantissas[bits>>44&0xff]
	if z < 0 {
		a = -a
	}
	return min(gridSize-1, max(0, int(a/gridStep+0.5+gridBelow)))
}

// mantissas are the logarithms of the mantissas of floating-point numbers by their first bits.
var mantissas = func() (list [256]float64) {
	for i := range list {
		list[i] = math.Log(1 + (float64(i)+0.5)/256)
	}
	return list
}()

func gridValue(i int) float64 { return math.Sinh(float64(i-gridBelow) * gridStep) }

func gridWidth(i int) float64 { return gridStep * math.Cosh(float64(i-gridBelow)*gridStep) }

// density is how the deviations of a path's readings are distributed.
type density struct {
	log   [gridSize]float32            // of the density
	worse [Detectors][gridSize]float32 // of that which each detector holds against it
	// speaks is a deviation beyond the slack below which no detector has any evidence.
	speaks float32
}

// histogram counts deviations by the steps of the grid.
type histogram [gridSize]float64

// densityOf smooths a histogram, mixes in what may come and was not seen yet, and works out
// what each detector holds against it.
func densityOf(h *histogram) *density {
	smoothed := h.smooth()
	d := &density{}
	for i, v := range smoothed {
		d.log[i] = float32(math.Log(v))
	}
	at := func(z float64) float64 { return smoothed[gridIndex(z)] }
	shifts := [2][]float64{geometric(0.7, 2.5, 6), geometric(2.5, 400, 14)}
	for i := range d.log {
		z := gridValue(i)
		for k, list := range shifts {
			var sum float64
			for _, shift := range list {
				sum += at(z - shift)
			}
			sum /= float64(len(list))
			d.worse[k][i] = float32(math.Log(sum))
			if k == large {
				d.worse[ragged][i] = float32(math.Log((1-raggedShare)*smoothed[i] + raggedShare*sum))
			}
		}
	}
	d.speaks = d.silence()
	return d
}

// silence is the step before the lowest at which a detector has evidence: held against the least
// that is normal between there and the middle, for within the slack it is the middle that counts.
func (d *density) silence() float32 {
	lowest := d.log[gridBelow]
	speaks := float32(gridValue(gridSize - 1))
	for i := gridSize - 1; i >= 0; i-- {
		normal := d.log[i]
		if i <= gridBelow {
			lowest = min(lowest, normal)
			normal = lowest
		}
		for k := range d.worse {
			if d.worse[k][i] > normal {
				speaks = float32(gridValue(i - 1))
			}
		}
	}
	return speaks
}

// smooth makes a density of a histogram.
func (h *histogram) smooth() (out [gridSize]float64) {
	var kernel [2*kernelReach + 1]float64
	var all, n float64
	for k := range kernel {
		x := float64(k-kernelReach) / 3
		kernel[k] = math.Exp(-x * x / 2)
		all += kernel[k]
	}
	for i, v := range h {
		n += v
		for k, w := range kernel {
			out[min(gridSize-1, max(0, i+k-kernelReach))] += v * w / all
		}
	}
	unseen := 10 / (10 + n/10)
	for i := range out {
		z := gridValue(i) / 2
		prior := 0.35 / 2 * math.Pow(1+z*z/2, -1.5) // Student's t with two degrees of freedom, twice as wide
		out[i] = (1-unseen)*out[i]/max(n, 1)/gridWidth(i) + unseen*prior
	}
	return out
}

const kernelReach = 9

// geometric are n numbers from low to high, each the same times the one before.
func geometric(low, high float64, n int) []float64 {
	list := make([]float64, n)
	for i := range list {
		list[i] = low * math.Pow(high/low, float64(i)/float64(n-1))
	}
	return list
}

// weigh says how much a deviation speaks for each detector, where a day may lie slack above
// the curve or below it, and a second level gap above (0: there is none), and how likely it is
// when nothing is wrong.
func (d *density) weigh(z, slack, gap float64) (w [Detectors]float32, likely float32) {
	likely = d.normal(z, slack)
	i := gridIndex(z - slack)
	worse := [Detectors]float32{d.worse[small][i], d.worse[large][i], d.worse[ragged][i]}
	if gap > 0 {
		likely = max(likely, d.normal(z-gap, slack))
		i = gridIndex(z - gap - slack)
		for k := range worse {
			worse[k] = max(worse[k], d.worse[k][i])
		}
	}
	for k := range w {
		w[k] = clip(float64(worse[k] - likely))
	}
	return w, likely
}

func (d *density) normal(z, slack float64) float32 {
	v := d.log[gridIndex(z-min(slack, max(-slack, z)))]
	if slack > 0 {
		v = max(v, d.log[gridIndex(z)])
	}
	return v
}
