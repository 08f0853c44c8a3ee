package route

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"

	"woodlark.example/core/loss"
)

// Fault is where loss begins that carries on to the target.
type Fault struct {
	TTL     int        // of the first hop that shows it
	To      netip.Addr // who that is
	FromTTL int        // of the last hop before it that would have shown it and does not; 0 for this host
	From    netip.Addr // who that is; not valid for this host
	// Ratio is the part of the probes which pass the link that it loses by itself, 0 to 1,
	// whatever other links lose; Low and High are its 95 % interval, by likelihood.
	Ratio, Low, High float64
	End              loss.Ratio // of the probes of the flows that pass it, at the target: whatever lost them
	Share            Share      // of the flows that pass it
	Evidence         float64    // twice the gain in log likelihood over no fault there
	// Between are the routers that packets are spread over one by one, between From and
	// To or at one of them: any of these ways may be the one that loses.
	Between []netip.Addr
	// Even says that the loss is what one dead way of two, three or four would cost when
	// packets are spread over them one by one: what lies beside To may be dead instead.
	Even bool
}

const (
	// leastEvidence for a fault somewhere: likelihood ratio for one more rate, far
	// in its tail since many links are tried.
	leastEvidence = 14
	// leastEndEvidence is the same for the target alone, without the hops on the
	// way: they may spare answers, the target's losses are what matters.
	leastEndEvidence = 10
	// leastPart is that of a link of which some flows show the loss: many sets of flows
	// are tried.
	leastPart = 22
	// linkFirst is how much more a router's sparing must explain than a link's loss,
	// where either would do, unless the router spares by turns.
	linkFirst = 6
	// leastSparing is that for a router that spares its own answers.
	leastSparing = 9
	mostCauses   = 12
	// doubt is by how much less evident another hop may be for the loss to begin
	// there all the same: one in a hundred.
	doubt = 6.6
)

// tellsSilence is how many probes of a flow must stay unanswered to say that who
// it meets is silent, not that it was lost.
const tellsSilence = 2

// worth is twice what the likelihood gains by a cause beside others, all at their best.
func (m *model) worth(c *cause, others []*cause, used []bool) float64 {
	_, without := m.fitted(others, used)
	_, with := m.fitted(append(slices.Clone(others), c), used)
	return 2 * (with - without) / m.spread
}

func (m *model) others(c *cause) []*cause {
	return slices.DeleteFunc(slices.Clone(m.causes), func(x *cause) bool { return x == c })
}

// atEnd is what a link's loss is worth by the target alone, without the hops on the way
// behind the link, which may spare their answers: by the cells of the target and those
// that do not pass the link, with the other causes as all cells together have them.
func (m *model) atEnd(c *cause, others []*cause) float64 {
	x, _ := m.fitted(append(slices.Clone(others), c), nil)
	used := make([]bool, len(m.cells))
	m.fixed = make([]float64, len(m.cells))
	for i, cell := range m.cells {
		used[i] = !c.bears[i] || cell.end
		for k, o := range others {
			if o.bears[i] {
				m.fixed[i] += x[k+1]
			}
		}
	}
	defer func() { m.fixed = nil }()
	return m.worth(c, nil, used)
}

// leastEnd is what the target alone must show of a link. Of one before another that
// loses it need not: how the loss is shared between them it does not tell.
func (m *model) leastEnd(c *cause) float64 {
	for _, o := range m.causes {
		if !c.part && o != c && !o.spares.IsValid() && o.ttl > c.ttl {
			return math.Inf(-1)
		}
	}
	return leastEndEvidence
}

// explain adds causes, the one that explains most first, as long as one explains
// enough, and drops those that others made needless.
func (m *model) explain(candidates []*cause) {
	type tried struct {
		c     *cause
		worth float64
	}
	for len(m.causes) < mostCauses {
		_, now := m.fitted(m.causes, nil)
		var list []tried
		for _, c := range candidates {
			if slices.Contains(m.causes, c) {
				continue
			}
			_, with := m.fitted(append(slices.Clone(m.causes), c), nil)
			worth := 2 * (with - now) / m.spread
			if worth < c.least() {
				continue
			}
			if c.spares.IsValid() && !c.regular {
				worth -= linkFirst
			}
			list = append(list, tried{c, worth})
		}
		// Of two that explain the same, the nearer one is named.
		slices.SortStableFunc(list, func(a, b tried) int {
			if d := a.worth - b.worth; math.Abs(d) > 1e-6 {
				return cmp.Compare(b.worth, a.worth)
			}
			return a.c.ttl - b.c.ttl
		})
		i := slices.IndexFunc(list, func(x tried) bool {
			return x.c.spares.IsValid() || m.atEnd(x.c, m.causes) >= m.leastEnd(x.c) && m.byWay(x.c, m.causes)
		})
		if i < 0 {
			break
		}
		best := list[i].c
		m.causes = append(m.causes, best)
		m.prune()
		if !slices.Contains(m.causes, best) {
			break
		}
	}
	m.settle()
}

// countParts counts the sets of some flows among the causes that may be tried.
func (m *model) countParts(candidates []*cause) {
	sets := map[string]bool{}
	for _, c := range candidates {
		if c.part {
			sets[fmt.Sprint(sortedFlows(c.flows))] = true
		}
	}
	m.parts = len(sets)
}

// byWay reports whether a link that some flows pass is why they lose more: by how much each flow
// loses from there on, at the target and at the hops before it, beyond what other causes explain.
// Where ways back part, too, the target loses of some flows more than of others whichever way
// there they take; hops on the way do not, for what they answer comes back one way.
func (m *model) byWay(c *cause, others []*cause) bool {
	if !c.part {
		return true
	}
	x, _ := m.fitted(others, nil)
	lost, sent := map[int]float64{}, map[int]float64{}
	for _, cell := range m.single {
		if cell.ttl < c.ttl || cell.ttl == 0 {
			continue
		}
		log := x[0]
		for k, o := range others {
			if o.covers(cell) {
				log += x[k+1]
			}
		}
		n := cell.lost + cell.answered
		lost[cell.flow] += cell.lost + n*math.Expm1(-log)
		sent[cell.flow] += n
	}
	var mine, rest []float64
	for _, flow := range slices.Sorted(maps.Keys(sent)) {
		if beyond := lost[flow] / sent[flow]; c.flows[flow] {
			mine = append(mine, beyond)
		} else {
			rest = append(rest, beyond)
		}
	}
	return Chance(mine, rest)*float64(m.parts) <= Unlikely
}

// settle sets all causes to their best.
func (m *model) settle() {
	x, _ := m.fitted(m.causes, nil)
	m.base.log = x[0]
	for i, c := range m.causes {
		c.log = x[i+1]
	}
}

// prune drops causes that the others do without.
func (m *model) prune() {
	for {
		var worst *cause
		least := 1.0
		for _, c := range m.causes {
			others := m.others(c)
			part := m.worth(c, others, nil) / c.least()
			if needs := m.leastEnd(c); !c.spares.IsValid() && needs > 0 {
				part = min(part, m.atEnd(c, others)/needs)
			}
			if part < least {
				worst, least = c, part
			}
		}
		if worst == nil {
			return
		}
		m.causes = m.others(worst)
	}
}

// interval is the 95 % interval of what a cause loses, by the likelihood with the others at
// their best beside each value.
func (m *model) interval(c *cause) (low, high float64) {
	const half = 1.92 // a half of the chi-square's 95 % with one degree of freedom
	others := m.others(c)
	_, top := m.fitted(append(slices.Clone(others), c), nil)
	defer func() { m.fixed = nil }()
	within := func(log float64) bool {
		m.fixed = make([]float64, len(m.cells))
		for i, is := range c.bears {
			if is {
				m.fixed[i] = log
			}
		}
		_, value := m.fitted(others, nil)
		return (top-value)/m.spread <= half
	}
	edge := func(outer float64) float64 {
		if within(outer) {
			return outer
		}
		inner := c.log
		for range 24 {
			if mid := (inner + outer) / 2; within(mid) {
				inner = mid
			} else {
				outer = mid
			}
		}
		return inner
	}
	return -math.Expm1(-edge(0)), -math.Expm1(-edge(min(mostLog, c.log+3)))
}
