package finding

import (
	"fmt"
	"math"
	"slices"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/oneway"
)

const (
	// ClockUnsure: the clocks are not in step, so one-way delay is relative.
	ClockUnsure Code = "clock_unsure"
	// DirectionDiffers: A → B and B → A differ.
	DirectionDiffers Code = "direction_differs"
	// DSCPRemarked: packets arrive with another DSCP than they left with.
	DSCPRemarked Code = "dscp_remarked"
)

// conclude says what a stream allows.
func (x Streamed) conclude(r StreamReport) []Finding {
	found := []Finding{}
	if f, ok := x.differs(r); ok {
		found = append(found, f)
	}
	for i, list := range [][]oneway.Stream{x.There, x.Back} {
		d := directionOf(r, i == 0)
		if d == nil {
			continue
		}
		found = append(found, lossOf(list, *d)...)
		if f, ok := stepOf(list[0], *d); ok {
			found = append(found, f)
		}
		found = append(found, x.quietness(*d)...)
		if f, ok := remarked(*d); ok {
			found = append(found, f)
		}
		if d.LateSent*20 > d.Sent {
			found = append(found, Finding{Code: LateSent, Sentence: fmt.Sprintf("%s: %d of %d packets left late: the sender is too busy to keep its times.", d.Direction, d.LateSent, d.Sent),
				Figures: map[string]float64{"late_sent": float64(d.LateSent), "sent": float64(d.Sent)}, Sure: observed, Advice: "Measure again from a host with less to do."})
		}
	}
	if f, ok := x.unsure(); ok {
		found = append(found, f)
	}
	return found
}

func directionOf(r StreamReport, there bool) *StreamDirection {
	for i := range r.Directions {
		if r.Directions[i].There == there {
			return &r.Directions[i]
		}
	}
	return nil
}

// lossOf says how losses lie in a direction.
func lossOf(list []oneway.Stream, d StreamDirection) []Finding {
	found := []Finding{}
	if d.Lost == nil {
		return found
	}
	r := loss.Ratio{Lost: *d.Lost, Sent: d.Sent}
	if *d.Lost > 0 {
		gone, sent := goneOf(list[0])
		found = append(found, lossPattern(r, gone, func(i int) time.Time { return sent[i] }, "packet", d.Direction+": ", "Trace the route in this direction to see from which hop on the loss is carried.")...)
	}
	const asked = 0.01
	if low, high, ok := r.Interval(); ok && low <= asked && high >= asked && d.Received > 0 {
		f := Finding{Code: TooFewProbes, Sure: interval, Advice: "Measure for longer.",
			Sentence: fmt.Sprintf("%s: %s not tell whether the loss is under 1 %%: it lies between %s and %s.", d.Direction, does(d.Sent, "packet"), figure.FormatRatio(low), figure.FormatRatio(high)),
			Figures:  map[string]float64{"sent": float64(d.Sent), "loss_low_ratio": low, "loss_high_ratio": high}}
		if need, ok := r.TellsFrom(asked).Get(); ok && need > d.Sent {
			f.Figures["settles_at"] = float64(need)
			f.Advice = fmt.Sprintf("About %d packets would tell.", need)
		}
		found = append(found, f)
	}
	return found
}

// goneOf says of each packet that left whether it is lost, and when it left.
func goneOf(s oneway.Stream) (gone []bool, sent []time.Time) {
	came := make([]bool, len(s.Sent))
	for _, a := range s.Arrivals {
		if a.Number >= 0 && a.Number < len(came) {
			came[a.Number] = true
		}
	}
	for i, t := range s.Sent {
		if !t.IsZero() {
			gone, sent = append(gone, !came[i]), append(sent, t)
		}
	}
	return gone, sent
}

// stepOf looks for a level of delay that changed for good in a direction. An offset of the
// clocks moves both levels alike.
func stepOf(s oneway.Stream, d StreamDirection) (Finding, bool) {
	arrived := make([]time.Time, len(s.Sent))
	for _, a := range s.Arrivals {
		if a.Number >= 0 && a.Number < len(arrived) && arrived[a.Number].IsZero() {
			arrived[a.Number] = a.At
		}
	}
	var delays []time.Duration
	var sent []time.Time
	for i, t := range s.Sent {
		if !t.IsZero() && !arrived[i].IsZero() {
			delays, sent = append(delays, arrived[i].Sub(t)), append(sent, t)
		}
	}
	if len(delays) == 0 {
		return Finding{}, false
	}
	least := slices.Min(delays)
	for i := range delays {
		delays[i] -= least
	}
	f, ok := stepped(delays, func(i int) time.Time { return sent[i] }, "The delay beyond the least", d.Direction+": ")
	return f, ok
}

// The limits of a call (ITU-T G.107 Annex B, G.114).
const (
	leastR     = 80
	mostMouth  = 150
	likelyLoss = 0.99 // how sure two ratios must differ
)

// quietness holds a call against its limits.
func (x Streamed) quietness(d StreamDirection) []Finding {
	q := d.Quality
	if q == nil {
		return nil
	}
	f := Finding{Code: QualityBelow, Figures: map[string]float64{}, Sure: interval, Advice: "See whether it is delay, loss or variation that costs the most, and trace the route in this direction."}
	says := ""
	if q.R != nil && *q.R < leastR {
		says += fmt.Sprintf(" R is %.1f (MOS %.2f), the limit is %d (4.0)", *q.R, *q.MOS, leastR)
		f.Figures["r_factor"], f.Figures["mos"] = *q.R, *q.MOS
	}
	// Half of the round trip may be off by the clocks' error, and only what is surely
	// beyond the limit is said to be.
	if q.MouthMs != nil && *q.MouthMs-float64(x.Clock.Error)/1e6 > mostMouth {
		if says != "" {
			says += ";"
		}
		says += fmt.Sprintf(" it takes %s from mouth to ear, the limit is %d ms (ITU-T G.114)", figure.FormatMs(*q.MouthMs), mostMouth)
		f.Figures["mouth_to_ear_ms"] = *q.MouthMs
	}
	if says == "" {
		return nil
	}
	f.Sentence = fmt.Sprintf("%s: a %s call would be poor:%s.", d.Direction, x.Codec.Name, says)
	return []Finding{f}
}

// remarked reports that the DSCP was changed on the way.
func remarked(d StreamDirection) (Finding, bool) {
	if len(d.DSCPs) == 0 || d.DSCPSent == nil || d.DSCPs[0].DSCP == *d.DSCPSent {
		return Finding{}, false
	}
	got := d.DSCPs[0]
	return Finding{Code: DSCPRemarked, Sure: observed,
		Sentence: fmt.Sprintf("%s: packets leave with DSCP %d and arrive with %d: somebody on the way does not honour the class.", d.Direction, *d.DSCPSent, got.DSCP),
		Figures:  map[string]float64{"dscp_sent": float64(*d.DSCPSent), "dscp_received": float64(got.DSCP), "packets": float64(got.Packets)},
		Advice:   "Trace the route with the same -dscp: it shows the hop from which another DSCP is quoted."}, true
}

// differs reports that one direction is surely worse: in loss, or in the variation of
// its delay, which clocks do not touch.
func (x Streamed) differs(r StreamReport) (Finding, bool) {
	a, b := directionOf(r, true), directionOf(r, false)
	if a == nil || b == nil || a.Sent == 0 || b.Sent == 0 {
		return Finding{}, false
	}
	f := Finding{Code: DirectionDiffers, Figures: map[string]float64{}, Advice: "Look at the worse direction alone: trace the route from its sender."}
	if worse, better, chance, ok := lossDiffers(*a, *b); ok {
		f.Sure = sure(chance)
		f.Figures["loss_ratio"], f.Figures["loss_other_ratio"] = *worse.LossRatio, *better.LossRatio
		f.Sentence = fmt.Sprintf("The directions differ: %s loses %s, %s %s.", worse.Direction, figure.FormatRatio(*worse.LossRatio), better.Direction, figure.FormatRatio(*better.LossRatio))
		return f, true
	}
	if a.PDVMs == nil || b.PDVMs == nil || a.Received < 100 || b.Received < 100 {
		return Finding{}, false
	}
	worse, better := a, b
	if *b.PDVMs > *a.PDVMs {
		worse, better = b, a
	}
	if *worse.PDVMs < 5 || *worse.PDVMs < 3**better.PDVMs {
		return Finding{}, false
	}
	f.Sure = interval
	f.Figures["pdv_ms"], f.Figures["pdv_other_ms"] = *worse.PDVMs, *better.PDVMs
	f.Sentence = fmt.Sprintf("The directions differ: the delay of %s varies by %s (p99 − min), that of %s by %s.", worse.Direction, figure.FormatMs(*worse.PDVMs), better.Direction, figure.FormatMs(*better.PDVMs))
	return f, true
}

// lossDiffers tells which direction surely loses more, by the test of two ratios.
func lossDiffers(a, b StreamDirection) (worse, better StreamDirection, chance float64, ok bool) {
	if a.Lost == nil || b.Lost == nil {
		return a, b, 1, false
	}
	worse, better = a, b
	if *b.LossRatio > *a.LossRatio {
		worse, better = b, a
	}
	p := float64(*a.Lost+*b.Lost) / float64(a.Sent+b.Sent)
	z := 0.0
	if p > 0 && p < 1 {
		z = (*worse.LossRatio - *better.LossRatio) / math.Sqrt(p*(1-p)*(1/float64(a.Sent)+1/float64(b.Sent)))
	}
	chance = math.Erfc(z / math.Sqrt2)
	return worse, better, chance, 1-chance >= likelyLoss && *worse.LossRatio-*better.LossRatio >= 0.001
}

// unsure says what one-way delays are worth without clocks in step.
func (x Streamed) unsure() (Finding, bool) {
	if x.Clock.InStep {
		return Finding{}, false
	}
	f := Finding{Code: ClockUnsure, Sure: observed, Figures: map[string]float64{}, Advice: "Keep both hosts' clocks in step (NTP or PTP); the variation of each direction is exact all the same."}
	if !x.Clock.Known {
		f.Sentence = "The clocks of the two ends are not known to be in step, and only one direction was measured: there is no one-way delay, only its variation."
		return f, true
	}
	error := float64(x.Clock.Error) / 1e6
	f.Figures["error_ms"], f.Figures["offset_ms"], f.Figures["skew_ppm"] = error, float64(x.Clock.Offset)/1e6, x.Clock.Skew*1e6
	f.Sentence = fmt.Sprintf("The clocks of the two ends are not known to be in step. Their offset (about %s) was taken out as if the least delay were the same both ways: one-way delays may be off by %s.",
		figure.FormatMs(float64(x.Clock.Offset)/1e6), figure.FormatMs(error))
	return f, true
}
