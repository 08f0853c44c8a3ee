package finding

import (
	"fmt"
	"slices"
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
	Verdict guard.Verdict
	Now     time.Time
	// Baseline is what is normal; nil when that is not known yet.
	Baseline *baseline.Baseline
	// Properties are what the path keeps to, in the order in which they were told.
	Properties []guard.Property
	Zone       *time.Location // of times in sentences; UTC when nil
	Over       *guard.Episode // the newest that is over; nil when there is none
	// Cause is what the newest reading was turned away with, when it was not answered
	// at all; empty when it was.
	Cause string
	// Why says what an open episode, by its number, is put down to; nil when nothing is known.
	Why func(number int) Why
}

// OfPath concludes how a path stands. The first finding is the headline: there
// is always one.
func OfPath(s Standing) []Finding {
	found := headline(s)
	for _, p := range s.Properties {
		if !p.EndedAt.IsZero() || !p.AcceptedAt.IsZero() && s.Now.Sub(p.AcceptedAt) >= 7*24*time.Hour || p.Kind == guard.NewLevel && s.goesOn(p.Episode) {
			continue
		}
		found = append(found, OfProperty(p, s.Zone))
	}
	return found
}

// goesOn reports whether an episode is open: what it has become is told with it.
func (s Standing) goesOn(number int) bool {
	return slices.ContainsFunc(s.Verdict.Open, func(o guard.Open) bool { return o.Number == number })
}

func headline(s Standing) []Finding {
	v := s.Verdict
	switch v.State {
	case guard.StateUnmeasured:
		return []Finding{unmeasured(s)}
	case guard.StateLost:
		if s.Cause != "" {
			return []Finding{turnedAway(s)}
		}
		if v.Never {
			return []Finding{{
				Code:     NeverAnswered,
				Sentence: fmt.Sprintf("Has never answered: %s in a row without an answer. It may drop ICMP.", count(v.Silence, "probe")),
				Figures:  map[string]float64{"silent_probes": float64(v.Silence)},
				Sure:     observed,
				Advice:   "Check whether a TCP port of the target answers; if so, measure that port instead.",
			}}
		}
		found := s.told(v.Open[0])
		if found[0].Code == NoAnswer {
			found[0].Figures["silent_probes"] = float64(v.Silence)
			found[0].Sure = sure(loss.Ratio{Lost: v.Silence, Sent: v.Silence}.AtLeast(0.5)) // by a path that loses half
		}
		return found
	case guard.StateDegraded:
		found := s.told(v.Open[0])
		for _, o := range v.Open[1:] {
			found = append(found, s.told(o)...)
		}
		return found
	}
	return []Finding{steady(s)}
}

// told concludes what an open episode is.
func (s Standing) told(o guard.Open) []Finding {
	t := Told{Episode: o.Episode, Zone: s.Zone, Now: s.Now}
	if s.Why != nil {
		t.Why = s.Why(o.Number)
	}
	return OfEpisode(t)
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
	if now, measured := v.Newest.Value(baseline.RTT); measured {
		f.Figures["rtt_ms"] = now
	}
	n, ok := s.Baseline.At(baseline.RTT, v.Newest.At)
	switch {
	case !ok:
		f.Code = NoBaseline
		f.Sentence = fmt.Sprintf("Answers; too few readings yet to know what is normal (a baseline needs %d).", baseline.MinReadings)
		f.Advice = "Leave the watch running."
	default:
		f.Figures["normal_low_ms"], f.Figures["normal_high_ms"] = n.Low, n.High
		f.Sentence = fmt.Sprintf("As normal for this hour (%s).", bandMs(n.Low, n.High))
	}
	if ok && !v.Learning.IsZero() {
		f.Sentence = fmt.Sprintf("Answers (%s so far). What is normal is still being learnt, until %s: nothing but the loss of all answers is told before.",
			bandMs(n.Low, n.High), Told{Zone: s.Zone, Now: s.Now}.when(v.Learning))
	}
	if e := s.Over; e != nil && s.Now.Sub(e.To) <= 24*time.Hour {
		what := "Degraded"
		if e.Kind == guard.Lost {
			what = "Lost"
		}
		f.Sentence += fmt.Sprintf(" %s for %s, ended %s ago.", what, figure.FormatSpan(e.To.Sub(e.From)), figure.FormatSpan(s.Now.Sub(e.To)))
	}
	return f
}

func bandMs(low, high float64) string {
	a, b := figure.FormatMs(low), figure.FormatMs(high)
	if a == b {
		return a
	}
	return strings.TrimSuffix(a, " ms") + " to " + b
}

func capitalise(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
