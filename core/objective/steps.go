package objective

import (
	"time"
)

// Step is a stretch of a time, held against limits: its measures over the time, in the mean and
// at their worst. What was not measured in it is not there.
type Step struct {
	At               time.Time
	Span             time.Duration
	Measured, Within time.Duration
	Mean, Worst      map[Measure]float64
}

// Steps are n stretches of a time, all as long. A sample counts where it begins.
func (l Limits) Steps(samples []Sample, from, to time.Time, n int) []Step {
	if n < 1 || !to.After(from) {
		return nil
	}
	span := to.Sub(from) / time.Duration(n)
	steps := make([]Step, n)
	weights := make([]map[Measure]float64, n)
	for i := range steps {
		steps[i] = Step{At: from.Add(time.Duration(i) * span), Span: span, Mean: map[Measure]float64{}, Worst: map[Measure]float64{}}
		weights[i] = map[Measure]float64{}
	}
	for _, s := range samples {
		if s.At.Before(from) || !s.At.Before(to) {
			continue
		}
		i := min(n-1, int(s.At.Sub(from)/span))
		step, known, off := &steps[i], false, false
		for m, limit := range l {
			v, is := s.Values[m]
			if !is {
				continue
			}
			known, off = true, off || beyond(m, v, limit) > 0
			weight := max(s.Span.Seconds(), 1e-9)
			step.Mean[m] += v * weight
			weights[i][m] += weight
			if was, is := step.Worst[m]; !is || worse(m, v, was) {
				step.Worst[m] = v
			}
		}
		if known {
			step.Measured += s.Span
			if !off {
				step.Within += s.Span
			}
		}
	}
	for i := range steps {
		for m := range steps[i].Mean {
			steps[i].Mean[m] /= weights[i][m]
		}
	}
	return steps
}
