package world

import (
	"container/heap"
	"math"
)

// nextHops computes, for every node, the direction to take towards every other
// by least metric, over links that are up and routers that are up. Hosts do not
// forward. −1 where there is no way.
func nextHops(nodes []Node, up []bool, links []direction, states []linkState) [][]int32 {
	into := make([][]int, len(nodes))
	for i, l := range links {
		into[l.to] = append(into[l.to], i)
	}
	next := make([][]int32, len(nodes))
	for i := range next {
		next[i] = make([]int32, len(nodes))
	}
	for target := range nodes {
		column := towards(target, nodes, up, links, states, into)
		for from := range nodes {
			next[from][target] = column[from]
		}
	}
	return next
}

// towards is Dijkstra's algorithm from the target backwards.
func towards(target int, nodes []Node, up []bool, links []direction, states []linkState, into [][]int) []int32 {
	distance := make([]int, len(nodes))
	via := make([]int32, len(nodes))
	for i := range distance {
		distance[i], via[i] = math.MaxInt, -1
	}
	distance[target] = 0
	queue := &frontier{{target, 0}}
	for queue.Len() > 0 {
		at := heap.Pop(queue).(reached)
		if at.distance > distance[at.node] {
			continue
		}
		if at.node != target && (!nodes[at.node].Router || !up[at.node]) {
			continue // it does not forward
		}
		for _, i := range into[at.node] {
			from := links[i].from
			d := at.distance + states[i].metric
			if !states[i].up || d > distance[from] || d == distance[from] && int32(i) >= via[from] {
				continue
			}
			distance[from], via[from] = d, int32(i)
			heap.Push(queue, reached{from, d})
		}
	}
	return via
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
