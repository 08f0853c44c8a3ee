package finding

import (
	"fmt"

	"woodlark.example/core/figure"
)

// places are the codes that say where a path is worse.
var places = map[Code]bool{LossCarried: true, DelayCarried: true, BranchLossy: true, BranchDead: true, BranchSlow: true, Refusals: true, RouteLoop: true}

const (
	// addedLeast is by how many ms a trace has to be slower than the usual one to say from where.
	addedLeast = 1.0
	// addedShare of what was added in the end has to stand at a hop that it is carried from, and
	// no more than sparedShare at the hops before.
	addedShare  = 0.6
	sparedShare = 0.4
)

// Whence is what a trace that was made while a path was worse says of where. What was so on
// the usual route already is no cause: of delay only what came on top counts.
func (r TraceReport) Whence() (found []Finding) {
	for _, f := range r.Findings {
		if places[f.Code] && f.Code != DelayCarried {
			found = append(found, f)
		}
	}
	if f, ok := r.slowerFrom(); ok {
		found = append(found, f)
	}
	return found
}

// slowerFrom is the hop from which on the route is slower than the usual one; false when it is
// another route, or no slower, or no hop's answers show it.
func (r TraceReport) slowerFrom() (Finding, bool) {
	c := r.Compared
	if c == nil || c.Changed || c.StepMs == nil || *c.StepMs < addedLeast {
		return Finding{}, false
	}
	var hops []DiffLine
	for _, l := range c.Lines {
		if l.MsWas != nil && l.MsIs != nil && l.TTLWas == l.TTLIs {
			hops = append(hops, l)
		}
	}
	added := func(l DiffLine) float64 { return (*l.MsIs - *l.MsWas) / *c.StepMs }
	k := len(hops)
	for k > 0 && added(hops[k-1]) >= addedShare {
		k--
	}
	if k == len(hops) {
		return Finding{}, false
	}
	for _, l := range hops[:k] {
		if added(l) > sparedShare {
			return Finding{}, false // it grows over several hops
		}
	}
	name := hops[k].Name
	if name == "" {
		name = hops[k].Address
	}
	f := Finding{Code: DelayCarried, Sure: interval, Figures: map[string]float64{"added_ms": *c.StepMs, "hop": float64(hops[k].TTLIs)},
		Sentence: fmt.Sprintf("What came on top, %s, begins at %s (hop %d) and is carried on to the target.", figure.FormatMs(*c.StepMs), name, hops[k].TTLIs),
		Advice:   "Look at the link that leads to that hop, and at the way back from there."}
	if k > 0 {
		f.Sentence += " The hops before it are as ever."
	}
	return f, true
}
