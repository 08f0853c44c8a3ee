package incident_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/incident"
)

// network is a random tree with some cross links, its routes being the shortest ways.
type network struct {
	n      int
	near   [][]int
	routes [][]int
}

func newNetwork(r *rand.Rand, nodes int) *network {
	w := &network{n: nodes, near: make([][]int, nodes)}
	join := func(a, b int) {
		w.near[a], w.near[b] = append(w.near[a], b), append(w.near[b], a)
	}
	for i := 1; i < nodes; i++ {
		// Towards the older ones: a core and leaves.
		join(i, int(float64(i)*math.Pow(r.Float64(), 1.6)))
	}
	for range nodes / 6 {
		if a, b := r.IntN(nodes), r.IntN(nodes); a != b {
			join(a, b)
		}
	}
	return w
}

func (w *network) way(from, to int) []int {
	before := make([]int, w.n)
	for i := range before {
		before[i] = -1
	}
	before[from] = from
	queue := []int{from}
	for len(queue) > 0 && before[to] < 0 {
		x := queue[0]
		queue = queue[1:]
		for _, y := range w.near[x] {
			if before[y] < 0 {
				before[y] = x
				queue = append(queue, y)
			}
		}
	}
	way := []int{to}
	for x := to; x != from; x = before[x] {
		way = append(way, before[x])
	}
	for i, j := 0, len(way)-1; i < j; i, j = i+1, j-1 {
		way[i], way[j] = way[j], way[i]
	}
	return way
}

func linksOf(way []int) (list []incident.Link) {
	for i := 1; i < len(way); i++ {
		list = append(list, incident.Link{From: fmt.Sprint(way[i-1]), To: fmt.Sprint(way[i])})
	}
	return list
}

func TestRandomNetworks(t *testing.T) {
	named, faults, accused, segments := 0, 0, 0, 0
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 77))
		w := newNetwork(r, 15+r.IntN(60))
		var paths []incident.Observed
		for range 20 + r.IntN(181) {
			from, to := r.IntN(w.n), r.IntN(w.n)
			if from == to {
				continue
			}
			paths = append(paths, incident.Observed{Path: fmt.Sprint(from, "-", to), Links: linksOf(w.way(from, to))})
		}
		on := map[incident.Link]int{}
		for _, p := range paths {
			for _, l := range p.Links {
				on[l]++
			}
		}
		var candidates []incident.Link
		for _, p := range paths {
			for _, l := range p.Links {
				if on[l] >= 2 {
					candidates = append(candidates, l)
				}
			}
		}
		bad := map[incident.Link]float64{}
		loss := r.IntN(3) == 0
		for range 1 + r.IntN(3) {
			v := 3 + 40*r.Float64()
			if loss {
				v = 0.01 + 0.2*r.Float64()
			}
			bad[candidates[r.IntN(len(candidates))]] = v
		}
		for i := range paths {
			p := &paths[i]
			for _, l := range p.Links {
				p.Excess += bad[l]
			}
			p.Spread = 0.5
			if loss {
				p.Spread = 0.002
			}
			p.Worse = p.Excess > 0
			p.Excess = max(0, p.Excess*(1+0.05*r.NormFloat64())+p.Spread*0.7*r.NormFloat64())
		}
		e := incident.Explain(paths)
		found := map[incident.Link]bool{}
		for _, s := range e.Segments {
			right := false
			for _, l := range s.Links {
				if bad[l] > 0 {
					found[l], right = true, true
				}
			}
			segments++
			if !right {
				accused++
			}
		}
		for l := range bad {
			faults++
			if found[l] {
				named++
			}
		}
	}
	t.Logf("named %d of %d faults (%.1f %%), %d of %d segments named are sound", named, faults, 100*float64(named)/float64(faults), accused, segments)
	assert.GreaterOrEqual(t, float64(named), 0.95*float64(faults))
	assert.LessOrEqual(t, float64(accused), 0.02*float64(segments))
}
