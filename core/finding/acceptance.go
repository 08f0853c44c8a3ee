package finding

import (
	"fmt"
	"strings"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
)

// The codes of acceptance tests.
const (
	// Accepted: all that the circuit is held to is met.
	Accepted Code = "accepted"
	// NotAccepted: a limit is missed.
	NotAccepted Code = "not_accepted"
	// AcceptanceOpen: it could not be told of all limits whether they are met.
	AcceptanceOpen Code = "acceptance_open"
)

// OfAcceptance are what an acceptance test concludes.
func OfAcceptance(r acceptance.Result, complete bool) (list []Finding) {
	n := map[acceptance.Verdict]int{}
	for _, c := range r.Criteria {
		n[c.Verdict]++
	}
	figures := map[string]float64{"passed": float64(n[acceptance.Pass]), "missed": float64(n[acceptance.Fail]), "not_told": float64(n[acceptance.Unknown])}
	switch {
	case n[acceptance.Fail] > 0:
		list = append(list, Finding{Code: NotAccepted, Sentence: missed(r.Criteria, n[acceptance.Fail]), Figures: figures, Sure: interval, Advice: "Have the circuit mended, and run the same plan again: both runs can be laid beside each other."})
	case r.Stopped != "":
		list = append(list, Finding{Code: AcceptanceOpen, Sentence: "It was ended early: " + r.Stopped + ".", Figures: figures, Sure: observed, Advice: "See to that first, and run the plan again."})
	case !complete:
		list = append(list, Finding{Code: AcceptanceOpen, Sentence: "It did not come to its end: what was measured until then is kept, and it can go on from there.", Figures: figures, Sure: observed})
	case n[acceptance.Unknown] > 0:
		list = append(list, Finding{Code: AcceptanceOpen, Sentence: fmt.Sprintf("Of %d of %d limits it could not be told whether they are met; none is surely missed.", n[acceptance.Unknown], len(r.Criteria)), Figures: figures, Sure: observed, Advice: "Each says why beside it."})
	case n[acceptance.Pass] > 0:
		list = append(list, Finding{Code: Accepted, Sentence: fmt.Sprintf("All %d limits are met.", n[acceptance.Pass]), Figures: figures, Sure: interval})
	}
	return append(list, sizesDiffer(r)...)
}

// missed names what is missed: the worst of each kind.
func missed(list []acceptance.Criterion, n int) string {
	var said []string
	of := map[string]bool{}
	for _, c := range list {
		key := fmt.Sprint(c.Part, c.Figure, c.Service, c.There)
		if c.Verdict != acceptance.Fail || of[key] {
			continue
		}
		of[key] = true
		said = append(said, CriterionSays(c))
	}
	text := fmt.Sprintf("%d limits are missed: ", n)
	if n == 1 {
		text = "One limit is missed: "
	}
	const most = 3
	if len(said) > most {
		return text + strings.Join(said[:most], "; ") + " and others."
	}
	return text + strings.Join(said, "; ") + "."
}

// CriterionSays is a criterion in words: what was measured, and what it is held to.
func CriterionSays(c acceptance.Criterion) string {
	where := c.Service
	if c.Size > 0 {
		where = fmt.Sprintf("%d bytes", c.Size)
	}
	way := "there"
	if !c.There {
		way = "back"
	}
	name := map[acceptance.Figure]string{acceptance.FThroughput: "highest rate", acceptance.FLatency: "delay", acceptance.FVariation: "delay variation", acceptance.FLoss: "frame loss", acceptance.FBurst: "burst",
		acceptance.FRate: "information rate", acceptance.FAvailability: "availability", acceptance.FPoliced: "what policing lets through"}[c.Figure]
	text := fmt.Sprintf("%s %s, %s", name, way, where)
	if c.At != "" {
		text += ", " + c.At
	}
	if c.Measured != nil {
		text += " " + AmountSays(*c.Measured, c.Unit)
	}
	bound := "at most"
	if c.AtLeast {
		bound = "at least"
	}
	return text + fmt.Sprintf(" (%s %s)", bound, AmountSays(c.Limit, c.Unit))
}

// AmountSays writes a figure of a criterion in its unit.
func AmountSays(v float64, unit string) string {
	switch unit {
	case "bps":
		return capacity.Rate(v).String()
	case "ms":
		return figure.FormatMs(v)
	case "ratio":
		return figure.FormatRatio(v)
	}
	return fmt.Sprintf("%.0f %s", v, unit)
}

// sizesDiffer tells where one direction surely carries less than the other, though as much was
// asked of it, and where hosts were the limit.
func sizesDiffer(r acceptance.Result) (list []Finding) {
	differs, limited := false, false
	for _, s := range r.Sizes {
		var there, back *acceptance.ThroughputResult
		for _, w := range s.Ways {
			if w.There {
				there = w.Throughput
			} else {
				back = w.Throughput
			}
			if w.Throughput != nil && w.Throughput.Limited != "" && !limited {
				limited = true
				list = append(list, Finding{Code: HeldByHost, Sentence: fmt.Sprintf("With frames of %d bytes the limit is a host and not the circuit: %s.", s.Size, w.Throughput.Limited), Sure: observed,
					Advice: "Test with hosts that send more frames a second, or up to a lower rate."})
			}
		}
		if differs || there == nil || back == nil || there.Limited != "" || back.Limited != "" {
			continue
		}
		less, more, way := there, back, "there"
		if back.Rates.FPS < there.Rates.FPS {
			less, more, way = back, there, "back"
		}
		// The one was not carried at a rate that the other was carried at.
		if less.Above == 0 || less.Above > more.Rates.FPS*0.99 {
			continue
		}
		differs = true
		list = append(list, Finding{Code: DirectionDiffers, Sentence: fmt.Sprintf("The way %s carries %s of frames of %d bytes, the other way %s.", way, capacity.Rate(less.Rates.FrameBps), s.Size, capacity.Rate(more.Rates.FrameBps)),
			Figures: map[string]float64{way + "_frame_bps": less.Rates.FrameBps, "frame_bytes": float64(s.Size)}, Sure: interval})
	}
	return list
}
