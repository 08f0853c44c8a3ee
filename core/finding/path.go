package finding

import (
	"fmt"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/guard"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

// Standing is what is known of a path when findings about it are made.
type Standing struct {
	Verdict baseline.Verdict
	Now     time.Time
	// Properties are what the path keeps to, in the order in which they were told.
	Properties []guard.Property
	Zone       *time.Location     // of times in sentences; UTC when nil
	Past       []baseline.Episode // its episodes, oldest first
	// Cause is what the newest reading was turned away with, when it was not answered
	// at all; empty when it was.
	Cause string
}

// OfPath concludes how a path stands. The first finding is the headline: there
// is always one.
func OfPath(s Standing) []Finding {
	found := []Finding{headline(s)}
	for _, p := range s.Properties {
		if p.EndedAt.IsZero() && (p.AcceptedAt.IsZero() || s.Now.Sub(p.AcceptedAt) < 7*24*time.Hour) {
			found = append(found, OfProperty(p, s.Zone))
		}
	}
	return found
}

func headline(s Standing) Finding {
	v := s.Verdict
	switch v.State {
	case baseline.StateUnmeasured:
		return unmeasured(s)
	case baseline.StateLost:
		if s.Cause != "" {
			return turnedAway(s)
		}
		if v.Never {
			return Finding{
				Code:     NeverAnswered,
				Sentence: fmt.Sprintf("Has never answered: %s in a row without an answer. It may drop ICMP.", count(v.Silence, "probe")),
				Figures:  map[string]float64{"silent_probes": float64(v.Silence)},
				Sure:     observed,
				Advice:   "Check whether a TCP port of the target answers; if so, measure that port instead.",
			}
		}
		return Finding{
			Code:     NoAnswer,
			Sentence: fmt.Sprintf("No answer to the last %s; it answered before.", count(v.Silence, "probe")),
			Figures:  map[string]float64{"silent_probes": float64(v.Silence)},
			Sure:     sure(loss.Ratio{Lost: v.Silence, Sent: v.Silence}.AtLeast(0.5)), // by a path that loses half
			Advice:   "Check the target and its access link; trace the route to see how far it reaches.",
		}
	case baseline.StateDegraded:
		return degraded(s)
	}
	return steady(s)
}

// turnedAway is the headline of a path whose probes come back refused: the target or
// somebody on the way is there and says no.
func turnedAway(s Standing) Finding {
	f := Finding{Code: Refusals, Figures: map[string]float64{"refused_in_a_row": float64(s.Verdict.Silence)}, Sure: observed,
		Sentence: fmt.Sprintf("Turned away: %s, %s in a row.", s.Cause, count(s.Verdict.Silence, "probe")), Advice: "Trace the route to see which hop refuses."}
	if strings.HasPrefix(s.Cause, reading.PortRefused) {
		f.Code = PortClosed
		f.Sentence = fmt.Sprintf("The port is closed: %s, %s in a row. The host is there, the service is not.", s.Cause, count(s.Verdict.Silence, "probe"))
		f.Advice = "See at the host whether the service runs and on which port ('woodlark here -port' there)."
	}
	if !s.Verdict.Never {
		f.Sentence += " It was answered before."
	}
	return f
}

func unmeasured(s Standing) Finding {
	f := Finding{Code: Unmeasured, Sentence: "No reading yet.", Figures: map[string]float64{}, Sure: observed,
		Advice: "The first reading comes within a minute; if it does not, see the runs of its watch."}
	if !s.Verdict.Newest.At.IsZero() {
		f.Sentence = fmt.Sprintf("No reading for %s.", figure.FormatSpan(s.Now.Sub(s.Verdict.Since)))
		f.Advice = "See whether the watch is paused and its agent alive."
	}
	return f
}

func steady(s Standing) Finding {
	v := s.Verdict
	f := Finding{Code: Steady, Figures: map[string]float64{}, Sure: observed}
	now, measured := v.Newest.Value(baseline.RTT)
	if measured {
		f.Figures["rtt_ms"] = now
	}
	n, _, ok := v.Baseline.At(baseline.RTT, v.Newest.At)
	switch {
	case !ok:
		f.Code = NoBaseline
		f.Sentence = fmt.Sprintf("Answers; too few readings yet to know what is normal (a baseline needs %d).", baseline.MinReadings)
		f.Advice = "Leave the watch running."
	default:
		f.Figures["normal_low_ms"], f.Figures["normal_high_ms"] = n.Low, n.High
		f.Sentence = fmt.Sprintf("As normal for this hour (%s).", bandMs(n.Low, n.High))
	}
	if last, ok := lastEpisode(s); ok {
		what := "Degraded"
		if last.Kind == baseline.Lost {
			what = "Lost"
		}
		f.Sentence += fmt.Sprintf(" %s for %s, ended %s ago.", what, figure.FormatSpan(last.To.Sub(last.From)), figure.FormatSpan(s.Now.Sub(last.To)))
	}
	return f
}

// lastEpisode is the newest episode if it ended within a day and is not one of
// those that come back daily, which have a finding of their own.
func lastEpisode(s Standing) (baseline.Episode, bool) {
	if len(s.Past) == 0 {
		return baseline.Episode{}, false
	}
	e := s.Past[len(s.Past)-1]
	if e.Open() || s.Now.Sub(e.To) > 24*time.Hour {
		return baseline.Episode{}, false
	}
	return e, true
}

func bandMs(low, high float64) string {
	a, b := figure.FormatMs(low), figure.FormatMs(high)
	if a == b {
		return a
	}
	return strings.TrimSuffix(a, " ms") + " to " + b
}

func degraded(s Standing) Finding {
	e := s.Verdict.Episode
	f := Finding{Code: DelayRaised, Figures: map[string]float64{}}
	chance := 0.0
	var parts []string
	for _, x := range e.Excesses {
		chance = max(chance, x.Chance)
		parts = append(parts, describe(x))
		unit := "_ms"
		if x.Measure == baseline.Loss {
			unit = "_ratio"
		}
		f.Figures[x.Measure.String()+unit] = x.Now
		f.Figures["normal_"+x.Measure.String()+unit] = x.Normal
	}
	f.Sure = sure(chance)
	f.Sentence = capitalise(strings.Join(parts, "; ")) + "."
	f.Advice = "Trace the route and compare it with the one from before."
	_, delayed := e.Excess(baseline.RTT)
	_, ragged := e.Excess(baseline.Jitter)
	_, lossy := e.Excess(baseline.Loss)
	switch {
	case delayed && ragged && lossy:
		f.Code = Saturation
		f.Advice = "More is being sent than fits: find what fills the link at this time."
	case lossy && !delayed:
		f.Code = LossSteady
		f.Advice = "Trace the route to see from which hop on the loss is carried."
	case delayed && !ragged && s.Now.Sub(e.From) >= time.Hour:
		f.Code = DelayStep
	}
	return f
}

func describe(x baseline.Excess) string {
	switch x.Measure {
	case baseline.Loss:
		between := ""
		if low, high, ok := (loss.Ratio{Lost: x.Lost, Sent: x.Sent}).Interval(); ok {
			between = fmt.Sprintf(" (%s to %s at 95 %%)", figure.FormatRatio(low), figure.FormatRatio(high))
		}
		return fmt.Sprintf("loses %s of the probes%s, normally %s", figure.FormatRatio(x.Now), between, figure.FormatRatio(x.Normal))
	case baseline.Jitter:
		return fmt.Sprintf("jitter %s, normally %s", figure.FormatMs(x.Now), figure.FormatMs(x.Normal))
	}
	return fmt.Sprintf("RTT %s, normally %s", figure.FormatMs(x.Now), figure.FormatMs(x.Normal))
}

func capitalise(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
