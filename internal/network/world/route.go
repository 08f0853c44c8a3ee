package world

import (
	"container/heap"
	"math"

	"woodlark.example/internal/network/world/link"
)

// table says, for every node and every other, which directions lead there by the
// least metric: more than one where ways are equal.
type table struct {
	nodes int
	index []int32 // [from × nodes + target] into sets; −1 where there is no way
	sets  [][]int32
}

func (t *table) towards(from, target int32) []int32 {
	if i := t.index[int(from)*t.nodes+int(target)]; i >= 0 {
		return t.sets[i]
	}
	return nil
}

// newTable computes the ways over links that are up and routers that are up.
// Hosts do not forward.
func newTable(nodes []Node, states []nodeState, links []direction, props []link.Properties) *table {
	t := &table{nodes: len(nodes), index: make([]int32, len(nodes)*len(nodes))}
	into := make([][]int32, len(nodes))
	for i, l := range links {
		into[l.to] = append(into[l.to], int32(i))
	}
	known := map[string]int32{}
	for target := range nodes {
		g := &graph{nodes, states, links, props, into}
		distance := g.distances(target)
		ways := make([][]int32, len(nodes))
		for i, l := range links {
			if g.leads(i, target) && distance[l.to] != math.MaxInt && distance[l.from] == distance[l.to]+props[i].Metric {
				ways[l.from] = append(ways[l.from], int32(i))
			}
		}
		for from := range nodes {
			t.index[from*t.nodes+target] = t.set(known, ways[from])
		}
	}
	return t
}

// set is the index of a set of directions, each kept once.
func (t *table) set(known map[string]int32, ways []int32) int32 {
	if len(ways) == 0 {
		return -1
	}
	key := make([]byte, 0, 4*len(ways))
	for _, w := range ways {
		key = append(key, byte(w), byte(w>>8), byte(w>>16), byte(w>>24))
	}
	i, ok := known[string(key)]
	if !ok {
		i = int32(len(t.sets))
		t.sets = append(t.sets, ways)
		known[string(key)] = i
	}
	return i
}

type graph struct {
	nodes  []Node
	states []nodeState
	links  []direction
	props  []link.Properties
	into   [][]int32
}

// leads reports whether a direction may be the next step towards a target.
func (g *graph) leads(i, target int) bool {
	to := g.links[i].to
	return g.props[i].Up && (to == target || g.nodes[to].Router && g.states[to].up) && g.links[i].from != target
}

// distances of all nodes to a target, by Dijkstra's algorithm from the target
// backwards.
func (g *graph) distances(target int) []int {
	distance := make([]int, len(g.nodes))
	for i := range distance {
		distance[i] = math.MaxInt
	}
	distance[target] = 0
	queue := &frontier{{target, 0}}
	for queue.Len() > 0 {
		at := heap.Pop(queue).(reached)
		if at.distance > distance[at.node] {
			continue
		}
		for _, i := range g.into[at.node] {
			from := g.links[i].from
			d := at.distance + g.props[i].Metric
			if g.leads(int(i), target) && d < distance[from] {
				distance[from] = d
				heap.Push(queue, reached{from, d})
			}
		}
	}
	return distance
}

type reached struct{ node, distance int }

type frontier []reached

func (f frontier) Len() int           { return len(f) }
func (f frontier) Less(i, j int) bool { return f[i].distance < f[j].distance }
func (f frontier) Swap(i, j int)      { f[i], f[j] = f[j], f[i] }
func (f *frontier) Push(x any)        { *f = append(*f, x.(reached)) }
func (f *frontier) Pop() any {
	old := *f
	x := old[len(old)-1]
	*f = old[:len(old)-1]
	return x
}
