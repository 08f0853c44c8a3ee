package acceptance

import (
	"fmt"
	"math"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Verdict is how something stands to its limit.
type Verdict string

// The verdicts. None is of what has no limit.
const (
	None    Verdict = ""
	Pass    Verdict = "pass"
	Fail    Verdict = "fail"
	Unknown Verdict = "not_told"
)

// Figure is what a criterion is about.
type Figure string

// The figures.
const (
	FThroughput   Figure = "highest_rate"
	FLatency      Figure = "latency"
	FVariation    Figure = "variation"
	FLoss         Figure = "loss"
	FBurst        Figure = "burst"
	FRate         Figure = "rate"
	FAvailability Figure = "availability"
	FPoliced      Figure = "policing"
)

// Criterion is one figure against its limit. Rates are in bits a second of the frame layer,
// times in milliseconds, bursts in frames or, of services, bytes.
type Criterion struct {
	Part     Part     `json:"part"`
	Figure   Figure   `json:"figure"`
	Size     int      `json:"frame_bytes,omitempty"`
	Service  string   `json:"service,omitempty"`
	There    bool     `json:"there"`
	At       string   `json:"at,omitempty"` // which step
	AtLeast  bool     `json:"at_least"`     // the limit is the least that is good
	Limit    float64  `json:"limit"`
	Measured *float64 `json:"measured"`
	Low      *float64 `json:"low"` // of the interval within which it is
	High     *float64 `json:"high"`
	Margin   *float64 `json:"margin"` // above 0 on the good side
	Unit     string   `json:"unit"`   // bps, ms, ratio, frames, bytes
	Verdict  Verdict  `json:"verdict"`
	Why      string   `json:"why,omitempty"`
}

// judge settles the verdict of a criterion whose measured figure lies within an interval: it is
// on one side of the limit, or it cannot be told.
func (c Criterion) judge(measured, low, high float64) Criterion {
	c.Measured, c.Low, c.High = &measured, &low, &high
	margin := c.Limit - measured
	// To a millionth: rates are products of what was counted.
	edge := 1e-6 * math.Abs(c.Limit)
	good, bad := high <= c.Limit+edge, low > c.Limit+edge
	if c.AtLeast {
		margin = -margin
		good, bad = low >= c.Limit-edge, high < c.Limit-edge
	}
	c.Margin = &margin
	switch {
	case good:
		c.Verdict = Pass
	case bad:
		c.Verdict = Fail
	default:
		c.Verdict = Unknown
		c.Why = "the limit lies within the interval that it is known to"
	}
	return c
}

// point judges a figure whose interval is not known by the figure itself.
func (c Criterion) point(measured float64) Criterion {
	c = c.judge(measured, measured, measured)
	c.Low, c.High = nil, nil
	return c
}

// unknown is a criterion of which nothing was measured.
func (c Criterion) unknown(why string) Criterion {
	c.Verdict, c.Why = Unknown, why
	return c
}

// ofLoss judges a loss ratio. Where nothing was lost the criterion holds as the standards put
// it, which ask for the ratio itself; that so few frames do not prove it is said.
func (c Criterion) ofLoss(lost, sent int64) Criterion {
	c.Figure, c.Unit = FLoss, "ratio"
	r := loss.Ratio{Lost: int(lost), Sent: int(sent)}
	low, high, ok := r.Interval()
	if !ok {
		return c.unknown("nothing was sent")
	}
	point := float64(lost) / float64(sent)
	c = c.judge(point, low, high)
	if c.Verdict != Unknown {
		return c
	}
	switch {
	case lost == 0:
		c.Verdict = Pass
		c.Why = fmt.Sprintf("nothing of %d frames was lost; so few say no more than that it is below %s", sent, figure.FormatRatio(high))
	default:
		c.Why = fmt.Sprintf("%d of %d frames: the ratio is from %s to %s, and the limit between", lost, sent, figure.FormatRatio(low), figure.FormatRatio(high))
		if n, ok := r.TellsFrom(c.Limit).Get(); ok {
			c.Why += fmt.Sprintf("; %d frames would tell", n)
		}
	}
	return c
}

// ofDelay judges times.
func (c Criterion) ofDelay(f Figure, d *Delay) Criterion {
	c.Figure, c.Unit = f, "ms"
	if d == nil {
		return c.unknown("no frame arrived whose time is known")
	}
	v, within := d.MeanMs, d.ErrorMs
	if f == FVariation {
		v, within = d.VariationMs(), 0
	}
	if d.Of == Round && f == FVariation { // all of it may be of one way
		c = c.judge(v, 0, v)
		c.Why = "of the round trip: one way it is that at most"
		return c
	}
	if d.Of == Round {
		v, within = v/2, within/2
		c.Why = "half of the round trip stands for one way"
	}
	why := c.Why
	c = c.judge(v, max(0, v-within), v+within)
	switch {
	case c.Verdict == Unknown:
		c.Why = fmt.Sprintf("the two clocks agree to %s only, and the limit is closer than that", figure.FormatMs(within))
	case why != "":
		c.Why = why
	case d.Of == HalfRound && f == FLatency:
		c.Why = "the two clocks are not in step: half of the round trip stands for one way"
	}
	return c
}

// worst is the verdict of all.
func worst(list []Criterion) Verdict {
	v := None
	for _, c := range list {
		switch {
		case c.Verdict == Fail:
			return Fail
		case c.Verdict == Unknown:
			v = Unknown
		case c.Verdict == Pass && v == None:
			v = Pass
		}
	}
	return v
}

func meanOf(list []float64) (mean, sd float64) {
	for _, v := range list {
		mean += v / float64(len(list))
	}
	if len(list) > 1 {
		for _, v := range list {
			sd += (v - mean) * (v - mean) / float64(len(list)-1)
		}
	}
	return mean, math.Sqrt(sd)
}
