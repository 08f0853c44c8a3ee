package route

import (
	"math"
	"net/netip"
)

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
	single []cell    // likewise, of each flow by itself
	parts  int       // how many sets of some flows are tried as causes
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
