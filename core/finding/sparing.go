package finding

import (
	"fmt"
	"slices"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

// spared are the hops that answer less than they forward.
func (x Traced) spared() (found []Finding) {
	if !x.Reached {
		return nil
	}
	ratios := make([]loss.Ratio, len(x.Hops))
	for i, h := range x.Hops {
		ratios[i] = h.Loss
	}
	for i, c := range x.carried(ratios) {
		h := x.Hops[i]
		if len(h.Nodes) > 1 && !h.PerPacket { // which of them it is
			found = append(found, x.sparedAmong(h)...)
			continue
		}
		if !c.Spares || len(h.Nodes) == 0 {
			continue
		}
		seen := h.Loss.Value().Or(0)
		found = append(found, Finding{
			Code: LossSparing,
			Sentence: fmt.Sprintf("%s answers %s of the probes only, but hops behind it lose no more than %s: it spares its answers and forwards.",
				capitalise(x.who(h.TTL, h.Addr())), figure.FormatRatio(1-seen), figure.FormatRatio(c.Ratio.Or(0))),
			Figures: map[string]float64{"hop": float64(h.TTL), "loss_ratio": seen, "carried_loss_ratio": c.Ratio.Or(0)},
			Sure:    interval,
			Advice:  "That is no fault; look at what carries on to the target.",
		})
	}
	return found
}

// evenBack is how many times more the target must lose of one kind of probe than of another,
// so that it is no matter of the ways back that flows are put on, of which one may lose.
const evenBack = 2

// miserly says that the target spares its answers: of another kind of probe it surely
// loses less.
func (x Traced) miserly() (Finding, bool) {
	if x.Other == nil || x.Other.Loss.Sent == 0 || !x.Reached {
		return Finding{}, false
	}
	i := slices.IndexFunc(x.Faults, func(f route.Fault) bool { return f.To == x.Target && f.TTL == len(x.Hops) })
	_, most, _ := x.Other.Loss.Interval()
	if i < 0 || x.Faults[i].Low <= evenBack*most {
		return Finding{}, false
	}
	ratio, low, high := x.Faults[i].Ratio, x.Faults[i].Low, x.Faults[i].High
	return Finding{
		Code: LossSparing,
		Sentence: fmt.Sprintf("%s leaves %s of these probes unanswered, but %d of %s by %s are answered: it spares its answers, and the way to it loses no more than that.",
			capitalise(x.who(len(x.Hops), x.Target)), figure.FormatRatio(ratio), x.Other.Loss.Sent-x.Other.Loss.Lost, count(x.Other.Loss.Sent, "probe"), x.Other.Via),
		Figures: map[string]float64{"hop": float64(len(x.Hops)), "loss_ratio": ratio, "low_ratio": low, "high_ratio": high, "other_loss_ratio": x.Other.Loss.Value().Or(0), "other_sent": float64(x.Other.Loss.Sent)},
		Sure:    interval,
		Advice:  fmt.Sprintf("That is no fault; trace and measure it by what it answers: -via %s.", x.Other.Via),
	}, true
}

// trusting leaves out what the target alone shows.
func (x Traced) trusting() Traced {
	x.TargetSpares = true
	return x
}

// sparedAmong are those of a hop's several routers that spare their answers.
func (x Traced) sparedAmong(h route.Hop) (found []Finding) {
	for _, s := range x.Spared {
		if s.TTL != h.TTL {
			continue
		}
		found = append(found, Finding{
			Code: LossSparing,
			Sentence: fmt.Sprintf("%s leaves %s of the probes unanswered by itself, but the flows that pass it lose no more than %s: it spares its answers and forwards.",
				capitalise(x.who(s.TTL, s.Addr)), figure.FormatRatio(s.Ratio), figure.FormatRatio(s.Lost.Value().Or(0))),
			Figures: map[string]float64{"hop": float64(s.TTL), "loss_ratio": s.Ratio, "carried_loss_ratio": s.Lost.Value().Or(0)},
			Sure:    interval,
			Advice:  "That is no fault; look at what carries on to the target.",
		})
	}
	return found
}
