package objective

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"woodlark.example/core/voice"
)

// Measure is what a limit is of. Those of least are rates, MOS and availability.
type Measure string

// The measures, with their units.
const (
	Loss         Measure = "loss_ratio"
	RTT          Measure = "rtt_ms"    // mean round trip
	Delay        Measure = "delay_ms"  // mean, one way; half of a round trip where that is not measured
	Jitter       Measure = "jitter_ms" // one way where that is measured
	Spread       Measure = "spread_ms" // mean less minimum of round trips
	Variation    Measure = "variation_ms"
	MOS          Measure = "mos"
	RateThere    Measure = "there_bps"
	RateBack     Measure = "back_bps"
	Availability Measure = "availability_ratio" // share of the time in which something answered
)

// Measures are all of them, in the order in which they are told.
func Measures() []Measure {
	return []Measure{Availability, Loss, RTT, Delay, Jitter, Spread, Variation, MOS, RateThere, RateBack}
}

// AtLeast reports whether a limit of the measure is the least that is good.
func (m Measure) AtLeast() bool {
	return m == MOS || m == RateThere || m == RateBack || m == Availability
}

// Limits are those of an objective by measure.
type Limits map[Measure]float64

// Check says what of limits cannot be.
func (l Limits) Check() error {
	if len(l) == 0 {
		return errors.New("an objective has at least one limit")
	}
	for m, v := range l {
		most := math.Inf(1)
		switch m {
		case Loss, Availability:
			most = 1
		case MOS:
			most = 4.5
		}
		switch {
		case !slices.Contains(Measures(), m):
			return fmt.Errorf("there is no measure %q; there are %q", m, Measures())
		case math.IsNaN(v), v < 0, v > most, v == 0 && m.AtLeast():
			return fmt.Errorf("%s %g cannot be a limit", m, v)
		}
	}
	return nil
}

// Limits are those of a ready-made objective over a span of time.
func (o Objective) Limits() Limits {
	l := Limits{}
	if o.Delay > 0 {
		l[Delay] = float64(o.Delay) / float64(time.Millisecond)
	}
	if o.Variation > 0 {
		l[Variation] = float64(o.Variation) / float64(time.Millisecond)
	}
	if o.Loss > 0 {
		l[Loss] = o.Loss
	}
	if o.Voice {
		l[MOS] = leastMOS
	}
	return l
}

// Sample is what was measured over a stretch of time; what is not known is not in it.
type Sample struct {
	At     time.Time
	Span   time.Duration
	Values map[Measure]float64
}

// CallQuality is the MOS of a call (G.711, a buffer of 40 ms) over a path of which the mean
// round trip and its loss are known, half of each standing for one way (ITU-T G.107).
func CallQuality(rtt time.Duration, loss float64) float64 {
	codec := voice.G711
	return voice.MOS(voice.Rating(voice.Call{Codec: codec, Delay: rtt/2 + buffer + codec.Packet + codec.Ahead, Loss: min(1, loss/2)}))
}

// Fitness is how much of a time was within an objective.
type Fitness struct {
	From, To time.Time
	// Measured is for how long something was measured, and Within for how long of that all that
	// was measured was within its limits.
	Measured, Within time.Duration
	Lines            []FitnessLine
	Worst            []Stretch // what cost most of it, the worst first
	Steps            []Step    // the time in steps, as many as were asked for
}

// Share is the share of the measured time that was within; false when nothing was measured.
func (f Fitness) Share() (float64, bool) {
	if f.Measured <= 0 {
		return 0, false
	}
	return float64(f.Within) / float64(f.Measured), true
}

// FitnessLine is one measure against its limit.
type FitnessLine struct {
	Measure          Measure
	Limit            float64
	Measured, Within time.Duration
	Median, Worst    float64 // of samples
	Mean             float64 // over the time
	Met              bool    // the median is within; of loss and availability the mean
}

// Stretch is a time outside of the limits without a pause.
type Stretch struct {
	From, To time.Time
	Measure  Measure // that was off by most
	Worst    float64
	Cost     time.Duration // the time that it cost, weighted by how far off it was
}

const (
	mostStretches = 3
	mostWeight    = 10
	together      = 2 // spans between samples that still belong together
)

// Over holds samples against limits. They need not be in order.
func (l Limits) Over(samples []Sample, from, to time.Time) (f Fitness) {
	f.From, f.To = from, to
	samples = slices.Clone(samples)
	slices.SortStableFunc(samples, func(a, b Sample) int { return a.At.Compare(b.At) })
	values, sums := map[Measure][]float64{}, map[Measure]float64{}
	lines := map[Measure]*FitnessLine{}
	for m, limit := range l {
		lines[m] = &FitnessLine{Measure: m, Limit: limit}
	}
	var stretches []Stretch
	for _, s := range samples {
		known, off := false, 0.0
		var by Measure
		for m, limit := range l {
			v, ok := s.Values[m]
			if !ok {
				continue
			}
			line := lines[m]
			line.Measured += s.Span
			values[m] = append(values[m], v)
			sums[m] += v * s.Span.Seconds()
			known = true
			if x := beyond(m, v, limit); x <= 0 {
				line.Within += s.Span
			} else if x > off {
				off, by = x, m
			}
		}
		if !known {
			continue
		}
		f.Measured += s.Span
		if off <= 0 {
			f.Within += s.Span
			continue
		}
		stretches = extend(stretches, s, by, off)
	}
	for _, m := range Measures() {
		if line := lines[m]; line != nil && len(values[m]) > 0 {
			line.Mean = sums[m] / max(line.Measured.Seconds(), 1e-9)
			line.sum(values[m])
			f.Lines = append(f.Lines, *line)
		}
	}
	slices.SortStableFunc(stretches, func(a, b Stretch) int { return cmp.Or(cmp.Compare(b.Cost, a.Cost), a.From.Compare(b.From)) })
	f.Worst = stretches[:min(mostStretches, len(stretches))]
	return f
}

// beyond is by how much a value is off its limit, as a share of it; 0 or less when it is within.
func beyond(m Measure, v, limit float64) float64 {
	if m == Availability { // of a sample: something answered or nothing did
		return 1 - v
	}
	if m.AtLeast() {
		return (limit - v) / limit
	}
	return (v - limit) / max(limit, 1e-3)
}

func extend(list []Stretch, s Sample, by Measure, off float64) []Stretch {
	cost := time.Duration(float64(s.Span) * min(1+off, mostWeight))
	v, end := s.Values[by], s.At.Add(s.Span)
	if n := len(list); n > 0 && s.At.Sub(list[n-1].To) <= together*s.Span {
		last := &list[n-1]
		last.To = end
		last.Cost += cost
		if last.Measure == by && worse(by, v, last.Worst) || last.Measure != by && off > 1 {
			last.Measure, last.Worst = by, v
		}
		return list
	}
	return append(list, Stretch{s.At, end, by, v, cost})
}

func worse(m Measure, a, b float64) bool {
	if m.AtLeast() {
		return a < b
	}
	return a > b
}

// sum makes the figures of a line of its values.
func (l *FitnessLine) sum(values []float64) {
	slices.Sort(values)
	l.Median, l.Worst = values[(len(values)-1)/2], values[len(values)-1]
	if l.Measure.AtLeast() {
		l.Median, l.Worst = values[len(values)/2], values[0]
	}
	switch l.Measure {
	case Availability:
		l.Met = l.Mean >= l.Limit
	case Loss:
		l.Met = l.Mean <= l.Limit
	default:
		l.Met = beyond(l.Measure, l.Median, l.Limit) <= 0
	}
}
