package route

import (
	"cmp"
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

// cell is what was lost of the probes of alike flows at one TTL.
type cell struct {
	ttl, flow      int
	lost, answered float64
	node           netip.Addr // that the flow meets there; not valid when not known
	end            bool       // it is the target
}

// cause is a link that loses, behind which flows show it, or a router that spares its
// answers.
type cause struct {
	ttl    int
	flows  map[int]bool // of a link
	part   bool         // those are not all
	spares netip.Addr   // of a router; not valid for a link
	// regular says of a router that it leaves probes unanswered by turns.
	regular bool
	log     float64 // minus the logarithm of what it lets through
	bears   []bool  // on which cells
}

func (c *cause) covers(x cell) bool {
	if c.spares.IsValid() {
		return x.ttl == c.ttl && x.node == c.spares && !x.end
	}
	return x.ttl >= c.ttl && c.flows[x.flow]
}

// bind finds the cells that a cause bears on; false when there are none.
func (c *cause) bind(cells []cell) bool {
	c.bears = make([]bool, len(cells))
	any := false
	for i, x := range cells {
		c.bears[i] = c.covers(x)
		any = any || c.bears[i]
	}
	return any
}

func (c *cause) least() float64 {
	if c.spares.IsValid() {
		return leastSparing
	}
	if c.part {
		return leastPart
	}
	return leastEvidence
}

const (
	// leastLog keeps a loss possible everywhere: once in a hundred thousand.
	leastLog = 1e-5
	mostLog  = 12
)

// model is how likely what was lost is, by causes that each let some through. What is
// answered of a cell is the product of what its causes let through, so that the
// likelihood is concave in the logarithms, and a climb finds the best.
type model struct {
	cells  []cell
	base   *cause // of every probe: this host itself
	causes []*cause
	fixed  []float64 // by cell, of causes that are not to move; nil for none
	spread float64   // how much more than single losses the losses vary
}

func newModel(cells []cell, spread float64) *model {
	m := &model{cells: cells, base: &cause{log: leastLog, bears: make([]bool, len(cells))}, spread: spread}
	for i := range cells {
		m.base.bears[i] = true
	}
	return m
}

// fitted is the logs of causes at their best, the base first, and the log likelihood there. Of the cells
// only those count that are used; nil for all.
func (m *model) fitted(causes []*cause, used []bool) ([]float64, float64) {
	all := append([]*cause{m.base}, causes...)
	x := make([]float64, len(all))
	for i, c := range all {
		x[i] = max(c.log, leastLog)
	}
	value := m.at(all, x, used)
	for range 60 {
		before := value
		if step, ok := m.newton(all, x, used); ok {
			for t := 1.0; t > 1e-3; t /= 4 {
				next := make([]float64, len(x))
				for i := range x {
					next[i] = min(mostLog, max(lowest(i), x[i]+t*step[i]))
				}
				if v := m.at(all, next, used); v > value {
					x, value = next, v
					break
				}
			}
		}
		if value-before > 1e-6 {
			continue
		}
		// At a bound the parabola may lead astray: one after the other goes up for sure.
		for k := range all {
			x[k] = m.top(all, x, k, used)
		}
		if value = m.at(all, x, used); value-before < 1e-6 {
			break
		}
	}
	return x, value
}

// top is where the slope of the likelihood along one log is 0, by bisection.
func (m *model) top(all []*cause, x []float64, k int, used []bool) float64 {
	rest := make([]float64, 0, len(m.cells))
	var on []int
	for i := range m.cells {
		if !all[k].bears[i] || used != nil && !used[i] {
			continue
		}
		s := m.held(i)
		for j, a := range all {
			if j != k && a.bears[i] {
				s += x[j]
			}
		}
		rest, on = append(rest, s), append(on, i)
	}
	slope := func(v float64) float64 {
		total := 0.0
		for n, i := range on {
			total -= m.cells[i].answered
			if lost := m.cells[i].lost; lost > 0 {
				total += lost / math.Expm1(rest[n]+v)
			}
		}
		return total
	}
	low, high := lowest(k), float64(mostLog)
	if slope(low) <= 0 {
		return low
	}
	for range 50 {
		if mid := (low + high) / 2; slope(mid) > 0 {
			low = mid
		} else {
			high = mid
		}
	}
	return low
}

// held is what causes that are not to move take from a cell.
func (m *model) held(i int) float64 {
	if m.fixed == nil {
		return 0
	}
	return m.fixed[i]
}

// lowest is the least log of the i-th: the base is never without loss.
func lowest(i int) float64 {
	if i == 0 {
		return leastLog
	}
	return 0
}

// at is the log likelihood.
func (m *model) at(all []*cause, x []float64, used []bool) float64 {
	total := 0.0
	for i, c := range m.cells {
		if used != nil && !used[i] {
			continue
		}
		s := m.held(i)
		for k, a := range all {
			if a.bears[i] {
				s += x[k]
			}
		}
		total -= c.answered * s
		if c.lost > 0 {
			total += c.lost * math.Log(-math.Expm1(-s))
		}
	}
	return total
}

// newton is the step to the top of the parabola that touches the likelihood, of those
// that are free to move; false when none gains.
func (m *model) newton(all []*cause, x []float64, used []bool) ([]float64, bool) {
	n := len(all)
	slope, bend := make([]float64, n), make([][]float64, n)
	for k := range bend {
		bend[k] = make([]float64, n)
	}
	on := make([]int, 0, n)
	for i, c := range m.cells {
		if used != nil && !used[i] {
			continue
		}
		s := m.held(i)
		on = on[:0]
		for k, a := range all {
			if a.bears[i] {
				s += x[k]
				on = append(on, k)
			}
		}
		d, dd := -c.answered, 0.0
		if c.lost > 0 {
			e := math.Expm1(s)
			d += c.lost / e
			dd = c.lost * (e + 1) / (e * e)
		}
		for _, k := range on {
			slope[k] += d
			for _, j := range on {
				bend[k][j] += dd
			}
		}
	}
	var free []int
	for k := range all {
		if x[k] > lowest(k)+1e-12 || slope[k] > 0 {
			free = append(free, k)
		}
	}
	if len(free) == 0 {
		return nil, false
	}
	step := make([]float64, n)
	for i, v := range solve(free, bend, slope) {
		step[free[i]] = v
	}
	return step, true
}

// solve finds the step by elimination; a ridge keeps it finite where causes are alike.
func solve(free []int, bend [][]float64, slope []float64) []float64 {
	n := len(free)
	a := make([][]float64, n)
	for i, k := range free {
		a[i] = make([]float64, n+1)
		for j, l := range free {
			a[i][j] = bend[k][l]
		}
		a[i][i] += 1e-6 * (1 + bend[k][k])
		a[i][n] = slope[k]
	}
	for i := range n {
		p := i
		for r := i + 1; r < n; r++ {
			if math.Abs(a[r][i]) > math.Abs(a[p][i]) {
				p = r
			}
		}
		a[i], a[p] = a[p], a[i]
		for r := i + 1; r < n; r++ {
			f := a[r][i] / a[i][i]
			for c := i; c <= n; c++ {
				a[r][c] -= f * a[i][c]
			}
		}
	}
	out := make([]float64, n)
	for i := n - 1; i >= 0; i-- {
		v := a[i][n]
		for c := i + 1; c < n; c++ {
			v -= a[i][c] * out[c]
		}
		out[i] = v / a[i][i]
	}
	return out
}

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
			return x.c.spares.IsValid() || m.atEnd(x.c, m.causes) >= m.leastEnd(x.c)
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
