package finding

import (
	"fmt"
	"strings"

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
		found = append(found, ofLoss(r, probes))
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

func ofLoss(r reading.Reading, probes []reading.Probe) Finding {
	ratio := r.Loss().Value().Or(0)
	low, high, _ := r.Loss().Interval()
	gone := make([]bool, 0, len(probes))
	for _, p := range probes {
		if p.Outcome != reading.Unsent && p.Outcome != reading.Refused {
			gone = append(gone, p.Outcome != reading.Answered)
		}
	}
	pattern := loss.PatternOf(gone)
	f := Finding{
		Code:     LossSteady,
		Sentence: fmt.Sprintf("%s of the probes lost (between %s and %s at 95 %%).", figure.FormatRatio(ratio), figure.FormatRatio(low), figure.FormatRatio(high)),
		Figures:  map[string]float64{"loss_ratio": ratio, "loss_low_ratio": low, "loss_high_ratio": high, "longest_run": float64(pattern.Longest)},
		Sure:     interval,
		Advice:   "Trace the route to see from which hop on the loss is carried.",
	}
	if n, chance, ok := loss.Every(gone); ok {
		f.Code, f.Sure = LossAlternating, sure(chance)
		f.Figures["every"] = float64(n)
		f.Sentence += fmt.Sprintf(" They come regularly: one of each %d.", n)
		f.Advice = "Look for lines that share the load in turn, one of which is dead, and for a policer that counts packets."
		return f
	}
	if burst, ok := pattern.BurstRatio.Get(); ok && burst >= 2 && pattern.Runs >= 2 {
		f.Code = LossBursts
		f.Figures["burst_ratio"] = burst
		f.Sentence += fmt.Sprintf(" They come in runs, up to %d in a row.", pattern.Longest)
	}
	return f
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
		Sentence: fmt.Sprintf("%s do not tell whether the loss is under 1 %%: it lies between %s and %s.",
			count(r.Sent, "probe"), figure.FormatRatio(low), figure.FormatRatio(high)),
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

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
