package guardbench

import (
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/incident"
)

// network is a random tree with some cross links; routes are the shortest ways.
type network struct {
	nodes int
	near  [][]int
}

func newNetwork(r *rand.Rand, nodes int) *network {
	w := &network{nodes: nodes, near: make([][]int, nodes)}
	join := func(a, b int) {
		w.near[a], w.near[b] = append(w.near[a], b), append(w.near[b], a)
	}
	for i := 1; i < nodes; i++ {
		join(i, int(float64(i)*math.Pow(r.Float64(), 1.6))) // towards the older ones: a core and leaves
	}
	for range nodes / 6 {
		if a, b := r.IntN(nodes), r.IntN(nodes); a != b {
			join(a, b)
		}
	}
	return w
}

// way is the shortest way between two nodes, both among it.
func (w *network) way(from, to int) []int {
	before := make([]int, w.nodes)
	for i := range before {
		before[i] = -1
	}
	before[from] = from
	for queue := []int{from}; len(queue) > 0 && before[to] < 0; queue = queue[1:] {
		for _, y := range w.near[queue[0]] {
			if before[y] < 0 {
				before[y] = queue[0]
				queue = append(queue, y)
			}
		}
	}
	way := []int{to}
	for x := to; x != from; x = before[x] {
		way = append([]int{before[x]}, way...)
	}
	return way
}

func node(n int) string { return fmt.Sprintf("192.0.2.%d", n+1) }

// Incidents are how well faults of shared segments are found on random networks.
type Incidents struct {
	Networks, Faults, Named, Segments, Accused int
	Delays                                     []float64 // minutes until an incident was told
}

// calm is what is normal of a path that answers in 10 ms and loses nothing.
func calm() *baseline.Baseline {
	r := rand.New(rand.NewPCG(1, 1))
	var h baseline.History
	for m := range 10 * 24 * 60 {
		h.Add(quietPoint(r, begin.Add(time.Duration(m)*time.Minute), 60, 10, 0))
	}
	b, err := baseline.Build(&h, baseline.Training{})
	if err != nil {
		panic(err)
	}
	return b
}

func quietPoint(r *rand.Rand, at time.Time, sent int, delay, loss float64) baseline.Point {
	p := baseline.Point{At: at, Span: time.Minute, Sent: sent}
	p.Lost = min(sent, poisson(r, float64(sent)*loss))
	p.Answered = p.Sent - p.Lost
	if p.Answered > 0 {
		p.Set(baseline.RTT, delay+0.1*r.NormFloat64())
		p.Set(baseline.Jitter, 0.2*(1+0.1*r.NormFloat64()))
	}
	return p
}

// RunIncidents lets one to three segments of random networks get slow or lossy, and sees
// which are named. Some hops never answer. Each path is probed sent times a minute; of few probes
// the same loss is known less well, and told later by some paths than by others.
func RunIncidents(seed uint64, networks, sent int) *Incidents {
	out := &Incidents{Networks: networks}
	b := calm()
	for n := range networks {
		out.one(rand.New(rand.NewPCG(seed, uint64(n))), b, sent)
	}
	return out
}

// watched is a path of a network.
type watched struct {
	key   guard.Key
	way   []int
	links []incident.Link
}

func (x *Incidents) one(r *rand.Rand, b *baseline.Baseline, sent int) {
	w := newNetwork(r, 15+r.IntN(60))
	var paths []watched
	on := map[incident.Link]int{}
	seen := map[guard.Key]bool{}
	for range 20 + r.IntN(181) {
		from, to := r.IntN(w.nodes), r.IntN(w.nodes)
		p := watched{key: guard.Key{From: node(from), To: node(to)}, way: w.way(from, to)}
		if from == to || seen[p.key] {
			continue
		}
		seen[p.key] = true
		for i := 1; i < len(p.way); i++ {
			l := incident.Link{From: node(p.way[i-1]), To: node(p.way[i])}
			p.links = append(p.links, l)
			on[l]++
		}
		paths = append(paths, p)
	}
	bad := x.choose(r, paths, on)
	silent := map[int]bool{}
	for i := range w.nodes {
		silent[i] = r.Float64() < 0.1
	}
	g := guard.New(guard.Options{})
	started := begin.AddDate(0, 0, 14)
	const first, minutes = 20, 45
	for m := range minutes {
		at := started.Add(time.Duration(m) * time.Minute)
		for _, p := range paths {
			if m == 0 {
				g.Path(p.key).Judge().SetBaseline(b)
				g.Route(p.key, at, hopsOf(p.way, silent))
			}
			delay, pass := 10.0, 1.0
			for _, l := range p.links {
				if f, is := bad[l]; is && m >= first {
					delay += f.delay
					pass *= 1 - f.loss
				}
			}
			g.Add(p.key, quietPoint(r, at, sent, delay*(1+0.01*r.NormFloat64()), 1-pass))
		}
	}
	g.Flush()
	x.count(g, bad, silent, started.Add(first*time.Minute))
}

type segmentFault struct{ delay, loss float64 }

// choose breaks one to three links that at least two paths cross.
func (x *Incidents) choose(r *rand.Rand, paths []watched, on map[incident.Link]int) map[incident.Link]segmentFault {
	var shared []incident.Link
	for _, p := range paths {
		for _, l := range p.links {
			if on[l] >= 2 {
				shared = append(shared, l)
			}
		}
	}
	lossy := r.IntN(3) == 0
	bad := map[incident.Link]segmentFault{}
	for range 1 + r.IntN(3) {
		f := segmentFault{delay: 3 + 40*r.Float64()}
		if lossy {
			f = segmentFault{loss: between(r, 0.03, 0.9)}
		}
		bad[shared[r.IntN(len(shared))]] = f
	}
	return bad
}

func hopsOf(way []int, silent map[int]bool) (hops []string) {
	for _, n := range way[1:] {
		name := node(n)
		if silent[n] && n != way[len(way)-1] {
			name = ""
		}
		hops = append(hops, name)
	}
	return hops
}

func (x *Incidents) count(g *guard.Guard, bad map[incident.Link]segmentFault, silent map[int]bool, at time.Time) {
	hidden := map[string]bool{}
	for n, is := range silent {
		hidden[node(n)] = is
	}
	found := map[incident.Link]bool{}
	for _, i := range g.Incidents() {
		x.Segments++
		right := false
		for l := range bad {
			if within(i.Segment, l, hidden) {
				found[l], right = true, true
			}
		}
		if !right {
			x.Accused++
		} else {
			x.Delays = append(x.Delays, i.ToldAt.Sub(at).Minutes())
		}
	}
	x.Faults += len(bad)
	x.Named += len(found)
}

// within reports whether a link lies in a segment: it is one of its links, or one that leads
// to or from a hop between that does not answer.
func within(s incident.Segment, l incident.Link, silent map[string]bool) bool {
	for _, k := range s.Links {
		if k == l || k.From == l.From && silent[l.To] || k.To == l.To && silent[l.From] || silent[l.From] && silent[l.To] {
			return true
		}
	}
	return false
}

// Print writes the table.
func (x *Incidents) Print(w io.Writer) {
	fmt.Fprintf(w, "%d random networks, %d faults: right segment named %.1f %%, a healthy one accused %.1f %% of %d named; told after %.1f min (median), %.1f (p95)\n",
		x.Networks, x.Faults, 100*float64(x.Named)/float64(max(1, x.Faults)), 100*float64(x.Accused)/float64(max(1, x.Segments)), x.Segments, q(x.Delays, .5), q(x.Delays, .95))
}
