// Package finding says in words what readings allow to be concluded, and
// nothing more. A finding is a code, one plain sentence, the figures that it
// rests on, how sure it is, and the next step.
//
//	for _, f := range finding.OfReading(r, probes) {
//		fmt.Println(f.Sentence)
//	}
package finding

import "fmt"

// Code names what a finding says. Codes keep their meaning for ever.
type Code string

// The codes.
const (
	// Steady: nothing is worse than normal.
	Steady Code = "steady"
	// NoBaseline: there is too little to know what is normal.
	NoBaseline Code = "no_baseline"
	// Unmeasured: there is no recent reading.
	Unmeasured Code = "unmeasured"
	// TooFewProbes: the interval around a figure is too wide.
	TooFewProbes Code = "too_few_probes"
	// NoAnswer: a path that answered before answers no probe now.
	NoAnswer Code = "no_answer"
	// NeverAnswered: no probe was answered since the path is measured. Whether
	// the target filters ICMP cannot be told from ICMP alone.
	NeverAnswered Code = "never_answered"
	// Refusals: error answers came instead of answers.
	Refusals Code = "route_ends"
	// LossSteady: losses lie at random.
	LossSteady Code = "loss_steady"
	// LossBursts: losses come in runs.
	LossBursts Code = "loss_bursts"
	// OutageOnce: one run of losses and none else.
	OutageOnce Code = "outage"
	// LossAlternating: losses come regularly.
	LossAlternating Code = "loss_alternating"
	// DelayRaised: the delay is above its normal band.
	DelayRaised Code = "delay_raised"
	// DelayStep: the level of delay changed for good at a time.
	DelayStep Code = "delay_step"
	// DelayDaily: it comes back at the same hours.
	DelayDaily Code = "delay_daily"
	// Saturation: more is being sent than fits.
	Saturation Code = "saturation"
	// LateSent: this host could not keep its own deadlines.
	LateSent Code = "late_sent"
)

// Finding is one conclusion.
type Finding struct {
	Code     Code               `json:"code"`
	Sentence string             `json:"sentence"`
	Figures  map[string]float64 `json:"figures,omitempty" doc:"The figures it rests on, the unit in the key"`
	Sure     float64            `json:"confidence"` // 0 to 1; 1 when it only says what was seen
	Advice   string             `json:"advice"`     // the next step; empty when none is needed
}

// How sure a finding is that concludes nothing beyond what was seen, and one
// that rests on a 95 % interval.
const (
	observed = 1
	interval = 0.95
)

func clock(minute int) string { return fmt.Sprintf("%02d:%02d", minute/60, minute%60) }

// sure turns the chance that something arose by itself into a confidence; it
// is never quite certain.
func sure(chance float64) float64 { return min(0.999, max(0, 1-chance)) }
