package acceptance

import (
	"fmt"
	"math"
	"slices"
	"time"
)

// judgeSize holds what was found at a size against the limits.
func (w *walk) judgeSize(at *SizeResult) {
	l := w.p.BySize.Limits
	for _, x := range at.Ways {
		c := Criterion{Size: at.Size, There: x.There}
		var list []Criterion
		if a := l.Throughput.Of(x.There); !a.IsZero() && x.Throughput != nil {
			list = append(list, w.judgeThroughput(c, x.Throughput, at.Size, a))
		}
		if x.Throughput != nil && x.Throughput.TooLarge && l.Throughput.Of(x.There).IsZero() && !l.any() {
			w.note(fmt.Sprintf("frames of %d bytes do not fit %s", at.Size, wayOf(x.There)))
		}
		c.Part = Latency
		if x.Latency != nil {
			if l.Latency > 0 {
				c := c
				c.Limit = ms(l.Latency.D())
				list = append(list, c.ofDelay(FLatency, &x.Latency.Delay))
			}
			if l.Variation > 0 {
				c := c
				c.Limit = ms(l.Variation.D())
				list = append(list, c.ofDelay(FVariation, &x.Latency.Delay))
			}
		}
		if l.Loss.Given && len(x.Loss) > 0 {
			list = append(list, w.judgeLoss(c, x.Loss))
		}
		if l.Burst > 0 && x.Burst != nil {
			c := c
			c.Part, c.Figure, c.Unit, c.AtLeast, c.Limit = BackToBack, FBurst, "frames", true, float64(l.Burst)
			list = append(list, c.judge(x.Burst.Frames, float64(x.Burst.Least), float64(x.Burst.Most)))
		}
		w.r.Criteria = append(w.r.Criteria, list...)
	}
}

// judgeLoss holds the loss at the rate for which there is a limit against it. Where two higher
// steps lost nothing it was not tried, and nothing is lost there either.
func (w *walk) judgeLoss(c Criterion, steps []Step) Criterion {
	at := w.lossAt(c.Size, c.There)
	c.Part, c.Limit, c.At = FrameLoss, w.p.BySize.Limits.Loss.Value, "at the rate of the limit"
	if at == 1 {
		c.At = "at the highest rate"
	}
	best := steps[len(steps)-1]
	for _, s := range steps {
		if math.Abs(s.Share-at) < 1e-6 {
			best = s
		}
	}
	if best.Share > at+1e-6 && best.Lost > 0 {
		c.Figure, c.Unit = FLoss, "ratio"
		return c.unknown("it was not tried at the rate of the limit")
	}
	return c.ofLoss(best.Lost, best.Sent).ours(best.Ours)
}

// any reports whether there is a limit at all.
func (l SizeLimits) any() bool {
	return !l.Throughput.IsZero() || l.Latency > 0 || l.Variation > 0 || l.Loss.Given || l.Burst > 0
}

func (w *walk) judgeThroughput(c Criterion, x *ThroughputResult, size int, limit Amount) Criterion {
	c.Part, c.Figure, c.Unit, c.AtLeast = Throughput, FThroughput, "bps", true
	bps := func(fps float64) float64 { return w.rates(fps, []int{size}).FrameBps }
	c.Limit = bps(w.p.fps(limit, []int{size}, c.There))
	if x.TooLarge {
		none := 0.0
		c = c.judge(none, none, none)
		c.Why = "frames of this size do not fit"
		return c
	}
	if len(x.Trials) == 0 {
		return c.unknown("the search did not come to its end")
	}
	low, high := slices.Min(x.Trials), max(x.Above, slices.Max(x.Trials))
	measured := bps(x.Rates.FPS)
	c = c.judge(measured, bps(low), bps(high))
	if c.Verdict != Pass && x.Limited != "" {
		c = c.unknown("limited by this host: " + x.Limited)
		c.Measured = &measured
	}
	if c.Verdict != Pass && x.Most*(1+1e-9) < w.p.fps(limit, []int{size}, c.There) {
		c = c.unknown("the limit is above the highest rate that was asked for")
		c.Measured = &measured
	}
	return c
}

// ours takes a verdict back that rests on what this host did.
func (c Criterion) ours(why string) Criterion {
	if why == "" || c.Verdict == Pass {
		return c
	}
	m := c.Measured
	c = c.unknown("this host, or the far one, was late: " + why)
	c.Measured = m
	return c
}

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
