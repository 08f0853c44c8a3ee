package incident

import (
	"cmp"
	"math"
	"slices"
)

// Link is a pair of neighbours on a route: names or addresses. One that leads to a hop that
// does not answer has no To, one that leads on from it no From.
type Link struct{ From, To string }

// known reports whether both ends are.
func (l Link) known() bool { return l.From != "" && l.To != "" }

// Observed is one path at the time of an incident.
type Observed struct {
	Path  string
	Links []Link // of its route, in order
	// Excess is by how much it is worse than normal, in a measure that adds up along a route
	// (see FromLoss); 0 of a path that is as ever.
	Excess float64
	// Spread is the standard error of that.
	Spread float64
	// Worse: it counts as degraded or lost.
	Worse bool
}

// mostLoss is what counts as all being lost.
const mostLoss = 0.995

// FromLoss makes an excess that adds up along a route of a ratio of loss.
func FromLoss(ratio float64) float64 { return -math.Log(1 - min(mostLoss, max(0, ratio))) }

// ToLoss is the inverse of FromLoss.
func ToLoss(excess float64) float64 { return 1 - math.Exp(-excess) }

// Segment is a stretch of links that explains something.
type Segment struct {
	From, To string  // empty where a hop does not answer
	Links    []Link  // in order where they lie on the same paths; else each leads over the same silent hop
	Excess   float64 // that it adds
	Low      float64 // 95 % interval of that
	High     float64
	Paths    []int   // that it makes worse, by index
	Sure     float64 // 0 to 1
	// Others would explain the same paths as well, each alone.
	Others []Segment
}

// Explanation is what explains a set of paths.
type Explanation struct {
	Segments    []Segment // that which explains most first
	Unexplained []int     // paths that got worse, each by something of its own
	Sure        float64   // of all of it
}

const (
	// costOf is what one more segment has to explain, in squares of spreads, beside the
	// logarithm of how many it was chosen from.
	costOf = 8
	// farOff is how many squares of spreads one path counts at the most.
	farOff = 60
	// mostSegments that are looked for at once.
	mostSegments = 8
)

// class are links that lie on the same paths.
type class struct {
	links []Link
	on    []int // paths
}

// problem is the search for the segments.
type problem struct {
	paths   []Observed
	classes []class
	by      []map[int]bool // the classes of each path
}

// Explain finds the smallest set of segments that explains what paths are worse by.
func Explain(paths []Observed) Explanation {
	p := &problem{paths: paths}
	p.classify()
	chosen := p.search()
	return p.describe(chosen)
}

// classify gathers the links of paths that are worse by the paths that they lie on.
func (p *problem) classify() {
	on := map[Link][]int{}
	var order []Link
	worse := map[Link]bool{}
	for i, o := range p.paths {
		seen := map[Link]bool{}
		for _, l := range o.Links {
			if seen[l] {
				continue
			}
			seen[l] = true
			if on[l] == nil {
				order = append(order, l)
			}
			on[l] = append(on[l], i)
			worse[l] = worse[l] || o.Worse
		}
	}
	index := map[string]int{}
	for _, l := range order {
		if !worse[l] {
			continue
		}
		key := keyOf(on[l])
		i, ok := index[key]
		if !ok {
			i = len(p.classes)
			index[key] = i
			p.classes = append(p.classes, class{on: on[l]})
		}
		p.classes[i].links = append(p.classes[i].links, l)
	}
	p.by = make([]map[int]bool, len(p.paths))
	for i := range p.by {
		p.by[i] = map[int]bool{}
	}
	for k, c := range p.classes {
		for _, i := range c.on {
			p.by[i][k] = true
		}
	}
}

func keyOf(list []int) string {
	b := make([]byte, 0, 4*len(list))
	for _, v := range list {
		b = append(b, byte(v), byte(v>>8), byte(v>>16), '.')
	}
	return string(b)
}

// fit finds what the chosen classes add, none less than nothing, by least squares, and what
// stays unexplained, in squares of spreads.
func (p *problem) fit(chosen []int) (x []float64, cost float64) {
	x = make([]float64, len(chosen))
	active := make([]bool, len(chosen))
	for i := range active {
		active[i] = true
	}
	for {
		x = p.leastSquares(chosen, active)
		worst, at := -1e-12, -1
		for i := range x {
			if active[i] && x[i] < worst {
				worst, at = x[i], i
			}
		}
		if at < 0 {
			break
		}
		active[at] = false
	}
	for i := range p.paths {
		cost += p.costOf(i, p.sum(i, chosen, x))
	}
	return x, cost
}

func (p *problem) sum(path int, chosen []int, x []float64) (v float64) {
	for i, k := range chosen {
		if p.by[path][k] {
			v += x[i]
		}
	}
	return v
}

// costOf is how far a path is from what is thought of it.
func (p *problem) costOf(path int, explained float64) float64 {
	d := (p.paths[path].Excess - explained) / p.spread(path)
	return min(farOff, d*d)
}

// spread of a path: what is added by several segments is never quite the sum.
func (p *problem) spread(path int) float64 {
	o := p.paths[path]
	return math.Hypot(o.Spread, 0.1*o.Excess)
}

// leastSquares solves the normal equations of the active classes by elimination.
func (p *problem) leastSquares(chosen []int, active []bool) []float64 {
	n := len(chosen)
	a := make([][]float64, n)
	for i := range a {
		a[i] = make([]float64, n+1)
		if !active[i] {
			a[i][i] = 1
			continue
		}
		for _, path := range p.classes[chosen[i]].on {
			s := p.spread(path)
			w := 1 / (s * s)
			a[i][n] += w * p.paths[path].Excess
			for j := range chosen {
				if active[j] && p.by[path][chosen[j]] {
					a[i][j] += w
				}
			}
		}
		a[i][i] *= 1 + 1e-9
	}
	for i := range n {
		pivot := i
		for r := i + 1; r < n; r++ {
			if math.Abs(a[r][i]) > math.Abs(a[pivot][i]) {
				pivot = r
			}
		}
		a[i], a[pivot] = a[pivot], a[i]
		if math.Abs(a[i][i]) < 1e-12 {
			continue
		}
		for r := range n {
			if r == i {
				continue
			}
			f := a[r][i] / a[i][i]
			for c := i; c <= n; c++ {
				a[r][c] -= f * a[i][c]
			}
		}
	}
	x := make([]float64, n)
	for i := range x {
		if math.Abs(a[i][i]) >= 1e-12 {
			x[i] = a[i][n] / a[i][i]
		}
	}
	return x
}

// search adds the class that explains most until none is worth it, and then takes out or
// exchanges what is no longer needed.
func (p *problem) search() []int {
	price := costOf + 2*math.Log(float64(max(2, len(p.classes))))
	var chosen []int
	_, cost := p.fit(nil)
	for len(chosen) < mostSegments {
		best, at := cost-price, -1
		for k := range p.classes {
			if slices.Contains(chosen, k) {
				continue
			}
			if _, c := p.fit(append(slices.Clone(chosen), k)); c < best {
				best, at = c, k
			}
		}
		if at < 0 {
			break
		}
		chosen, cost = append(chosen, at), best
		chosen, cost = p.improve(chosen, cost, price)
	}
	return chosen
}

// improve exchanges single classes for better ones, and drops those that are not needed.
func (p *problem) improve(chosen []int, cost, price float64) ([]int, float64) {
	for range 2 * mostSegments {
		better := false
		for i := range chosen {
			without := slices.Delete(slices.Clone(chosen), i, i+1)
			if _, c := p.fit(without); c < cost+price && len(chosen) > 1 {
				chosen, cost, better = without, c, true
				break
			}
			for k := range p.classes {
				if slices.Contains(chosen, k) {
					continue
				}
				other := slices.Clone(chosen)
				other[i] = k
				if _, c := p.fit(other); c < cost-1e-6 {
					chosen, cost, better = other, c, true
				}
			}
		}
		if !better {
			break
		}
	}
	return chosen, cost
}

// describe says what was found.
func (p *problem) describe(chosen []int) Explanation {
	x, cost := p.fit(chosen)
	e := Explanation{Sure: 1}
	for i, k := range chosen {
		if x[i] <= 0 {
			continue
		}
		s := p.segment(k)
		s.Excess = x[i]
		s.Low, s.High = p.interval(chosen, x, i)
		weight := 1.0
		for other := range p.classes {
			if slices.Contains(chosen, other) {
				continue
			}
			swapped := slices.Clone(chosen)
			swapped[i] = other
			if _, c := p.fit(swapped); c < cost+9 {
				weight += math.Exp((cost - c) / 2)
				o := p.segment(other)
				s.Others = append(s.Others, o)
			}
		}
		s.Sure = 1 / weight
		for _, path := range p.classes[k].on {
			if p.paths[path].Worse {
				s.Paths = append(s.Paths, path)
			}
		}
		e.Segments = append(e.Segments, s)
		e.Sure = min(e.Sure, s.Sure)
	}
	for i, o := range p.paths {
		if o.Worse && p.sum(i, chosen, x) < o.Excess/2 {
			e.Unexplained = append(e.Unexplained, i)
		}
	}
	slices.SortStableFunc(e.Segments, func(a, b Segment) int { return cmp.Compare(len(b.Paths), len(a.Paths)) })
	return e
}

// segment is a class as a stretch from its first to its last node.
func (p *problem) segment(k int) Segment {
	c := p.classes[k]
	var sure []Link
	for _, l := range c.links {
		if l.known() {
			sure = append(sure, l)
		}
	}
	if len(sure) > 0 {
		return Segment{From: sure[0].From, To: sure[len(sure)-1].To, Links: sure}
	}
	// A hop that does not answer: it lies in what its paths have around it.
	s := Segment{From: c.links[0].From, To: c.links[0].To}
	for _, i := range c.on {
		for _, l := range p.paths[i].Links {
			if l.known() && (s.From != "" && l.From == s.From || s.To != "" && l.To == s.To) && p.paths[i].Worse && !slices.Contains(s.Links, l) && p.over(i, l) {
				s.Links = append(s.Links, l)
			}
		}
	}
	return s
}

// over reports whether a link of a path leads over a hop that does not answer.
func (p *problem) over(path int, l Link) bool {
	return slices.Contains(p.paths[path].Links, Link{From: l.From}) && slices.Contains(p.paths[path].Links, Link{To: l.To})
}

// interval is the 95 % interval of what a class adds, the others being as they are.
func (p *problem) interval(chosen []int, x []float64, i int) (low, high float64) {
	var weight float64
	for _, path := range p.classes[chosen[i]].on {
		s := p.spread(path)
		weight += 1 / (s * s)
	}
	reach := 1.96 / math.Sqrt(max(weight, 1e-12))
	return max(0, x[i]-reach), x[i] + reach
}
