package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

// OfReading concludes what one reading allows by itself. probes are those of
// the reading, in sending order.
func OfReading(r reading.Reading, probes []reading.Probe) []Finding {
	found := []Finding{}
	if r.Sent == 0 {
		return found
	}
	switch {
	case r.Refused > 0 && r.Answered == 0 && strings.HasPrefix(r.Cause, reading.PortRefused):
		found = append(found, Finding{
			Code:     PortClosed,
			Sentence: fmt.Sprintf("The port is closed: %s. The host is there, and nothing listens at that port (or its own firewall says so).", r.Cause),
			Figures:  map[string]float64{"refused": float64(r.Refused), "sent": float64(r.Sent)},
			Sure:     observed,
			Advice:   "See at the host whether the service runs and on which port ('woodlark here -port' there).",
		})
	case r.Refused > 0 && r.Answered == 0:
		found = append(found, Finding{
			Code:     Refusals,
			Sentence: fmt.Sprintf("Refused on the way: %s.", r.Cause),
			Figures:  map[string]float64{"refused": float64(r.Refused), "sent": float64(r.Sent)},
			Sure:     observed,
			Advice:   "Trace the route to see which hop refuses.",
		})
	case r.Answered == 0:
		found = append(found, silence(r))
	case r.Lost > 0:
		found = append(found, ofLoss(r, probes)...)
	}
	if f, ok := ofStep(probes); ok {
		found = append(found, f)
	}
	if few, ok := tooFew(r); ok {
		found = append(found, few)
	}
	if r.LateSent*20 > r.Sent {
		found = append(found, Finding{
			Code:     LateSent,
			Sentence: fmt.Sprintf("%d of %d probes left late: this host is too busy to keep its times.", r.LateSent, r.Sent),
			Figures:  map[string]float64{"late_sent": float64(r.LateSent), "sent": float64(r.Sent)},
			Sure:     observed,
			Advice:   "Measure again from a host with less to do.",
		})
	}
	return found
}

// OfLoss reports whether a code says how losses are spread.
func (c Code) OfLoss() bool {
	return c == LossSteady || c == LossBursts || c == LossAlternating || c == OutageOnce
}

func silence(r reading.Reading) Finding {
	low, _, _ := r.Loss().Interval()
	return Finding{
		Code:     NoAnswer,
		Sentence: fmt.Sprintf("No answer to any of %s.", count(r.Sent, "probe")),
		Figures:  map[string]float64{"sent": float64(r.Sent), "loss_low_ratio": low},
		Sure:     low,
		Advice:   "Many hosts drop ICMP: check whether a TCP port of the target answers before calling it down.",
	}
}

// ofLoss says how many probes were lost and how the losses lie. An outage and what is lost
// beside it are told apart.
func ofLoss(r reading.Reading, probes []reading.Probe) []Finding {
	var gone []bool
	var counted []reading.Probe
	for _, p := range probes {
		if p.Outcome != reading.Unsent && p.Outcome != reading.Refused {
			gone, counted = append(gone, p.Outcome != reading.Answered), append(counted, p)
		}
	}
	at := func(i int) time.Time { return counted[i].DueAt }
	return lossPattern(r.Loss(), gone, at, "probe", "", "Trace the route to see from which hop on the loss is carried.")
}

// lossPattern says how losses lie among packets, given in the order of sending; noun is
// what they are called, and of whom the direction, if one is to be named.
func lossPattern(r loss.Ratio, gone []bool, at func(int) time.Time, noun, of, advice string) []Finding {
	if o, ok := loss.OneOutage(gone); ok {
		return []Finding{outage(o, at, noun, of)}
	}
	if o, ok := loss.LongestRun(gone); ok && o.Lost >= leastOutageBeside && o.Chance < 1e-6 {
		rest := slices.Concat(gone[:o.From], gone[o.To+1:])
		if _, runs := loss.LongestRun(rest); !runs {
			left := loss.Ratio{Sent: len(rest), Lost: r.Lost - o.Lost}
			f := spreadOf(left, rest, noun, of, advice)
			f.Sentence += " Beside the outage, that is."
			return []Finding{outage(o, at, noun, of), f}
		}
	}
	return []Finding{spreadOf(r, gone, noun, of, advice)}
}

// leastOutageBeside is the least run of losses that is told apart from others.
const leastOutageBeside = 5

func outage(o loss.Outage, at func(int) time.Time, noun, of string) Finding {
	f := Finding{Code: OutageOnce, Sure: sure(o.Chance), Figures: map[string]float64{"lost": float64(o.Lost)},
		Advice: "Something was down or moved for so long: compare it with what was done or logged at that time, and with the routes before and after."}
	from, to := at(o.From), at(o.To)
	f.Sentence = fmt.Sprintf("%sOne outage: %s in a row lost", of, count(o.Lost, noun))
	if o.To-o.From+1 > o.Lost {
		f.Sentence = fmt.Sprintf("%sOne outage: %s lost nearly in a row", of, count(o.Lost, noun))
	}
	if !from.IsZero() {
		f.Figures["outage_s"] = to.Sub(from).Seconds()
		f.Sentence += fmt.Sprintf(", from %s to %s", from.UTC().Format("15:04:05.0"), to.UTC().Format("15:04:05.0 UTC"))
	}
	f.Sentence += "."
	return f
}

// spreadOf says how many were lost, and whether by turns, in runs, or at random.
func spreadOf(r loss.Ratio, gone []bool, noun, of, advice string) Finding {
	ratio := r.Value().Or(0)
	low, high, _ := r.Interval()
	pattern := loss.PatternOf(gone)
	f := Finding{
		Code:     LossSteady,
		Sentence: fmt.Sprintf("%s%s of the %ss lost (between %s and %s at 95 %%).", of, figure.FormatRatio(ratio), noun, figure.FormatRatio(low), figure.FormatRatio(high)),
		Figures:  map[string]float64{"loss_ratio": ratio, "loss_low_ratio": low, "loss_high_ratio": high, "longest_run": float64(pattern.Longest)},
		Sure:     interval,
		Advice:   advice,
	}
	if n, chance, ok := loss.Every(gone); ok {
		f.Code, f.Sure = LossAlternating, sure(chance)
		f.Figures["every"] = float64(n)
		f.Sentence += fmt.Sprintf(" They come regularly: one of each %d.", n)
		f.Advice = "Look for lines that share the load in turn, one of which is dead, and for a policer that counts packets."
		return f
	}
	_, long := loss.LongestRun(gone)
	if burst, ok := pattern.BurstRatio.Get(); ok && (burst >= 2 || long && burst > 1) && pattern.Runs >= 2 {
		f.Code = LossBursts
		f.Figures["burst_ratio"] = burst
		f.Sentence += fmt.Sprintf(" They come in runs, up to %d in a row.", pattern.Longest)
	}
	return f
}

// stepped says that the level of delay changed for good within one run.
func stepped(rtts []time.Duration, at func(int) time.Time, what, of string) (Finding, bool) {
	s, ok := delay.StepOf(rtts)
	if !ok {
		return Finding{}, false
	}
	before, after := figure.Millis(s.Before), figure.Millis(s.After)
	f := Finding{Code: DelayStep, Sure: sure(s.Chance), Figures: map[string]float64{"before_ms": before, "after_ms": after, "step_ms": after - before},
		Advice: "Trace the route and compare it with one from before: another way, or another line on the same way, has another length."}
	f.Sentence = fmt.Sprintf("%s%s changed for good: %s, before it %s", of, what, figure.FormatMs(after), figure.FormatMs(before))
	if t := at(s.At); !t.IsZero() {
		f.Sentence += fmt.Sprintf(", since %s", t.UTC().Format("15:04:05.0 UTC"))
	}
	f.Sentence += "."
	return f, true
}

// ofStep looks for it in the round trips of a reading.
func ofStep(probes []reading.Probe) (Finding, bool) {
	var rtts []time.Duration
	var answered []reading.Probe
	for _, p := range probes {
		if p.Outcome == reading.Answered {
			rtts, answered = append(rtts, p.RTT), append(answered, p)
		}
	}
	return stepped(rtts, func(i int) time.Time { return answered[i].DueAt }, "The round trip", "")
}

// tooFew asks whether the loss of the reading is known well enough to say
// whether it is under or over one percent, what most objectives turn on.
func tooFew(r reading.Reading) (Finding, bool) {
	const asked = 0.01
	low, high, ok := r.Loss().Interval()
	if !ok || high < asked || low > asked || r.Answered == 0 {
		return Finding{}, false
	}
	f := Finding{
		Code: TooFewProbes,
		Sentence: fmt.Sprintf("%s not tell whether the loss is under 1 %%: it lies between %s and %s.",
			does(r.Sent, "probe"), figure.FormatRatio(low), figure.FormatRatio(high)),
		Figures: map[string]float64{"sent": float64(r.Sent), "loss_low_ratio": low, "loss_high_ratio": high},
		Sure:    interval,
	}
	if need, ok := r.Loss().TellsFrom(asked).Get(); ok && need > r.Sent {
		f.Figures["settles_at"] = float64(need)
		f.Advice = fmt.Sprintf("About %d probes would tell.", need)
	} else {
		f.Advice = "Measure for longer."
	}
	return f, true
}

// does is a number of things with the verb behind it.
func does(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " does"
	}
	return count(n, noun) + " do"
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
