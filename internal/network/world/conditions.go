package world

import (
	"math"
	"time"

	"woodlark.example/internal/network/world/link"
)

// conditions are the network between two changes, and what its links and nodes
// remember of the packets that passed.
type conditions struct {
	m        *Model
	from, to int64 // they hold from (inclusive) to (exclusive)
	known    bool
	nodes    []nodeState
	links    []link.Properties
	routes   *table

	gateways []int32 // by node: where a host sends what it knows no way to; −1

	passed []link.State // by direction
	told   []bucket     // by node
}

func newConditions(m *Model) *conditions {
	return &conditions{m: m, nodes: make([]nodeState, len(m.nodes)), links: make([]link.Properties, len(m.links)),
		gateways: make([]int32, len(m.nodes)), passed: make([]link.State, len(m.links)), told: make([]bucket, len(m.nodes))}
}

// settle brings the conditions to a time.
func (c *conditions) settle(at int64) {
	if c.known && at >= c.from && at < c.to {
		return
	}
	t := time.Unix(0, at)
	c.known, c.from, c.to = true, at, math.MaxInt64
	active := make([]bool, len(c.m.changes))
	for i := range c.m.changes {
		w := &c.m.changes[i].window
		active[i] = w.Open(t)
		c.until(w.Next(t))
	}
	c.apply(active)
	c.routes = c.m.table(c.believed(t, active))
	for i := range c.gateways {
		c.gateways[i] = c.gateway(i)
	}
}

// gateway is a host's default route: its link of the least metric.
func (c *conditions) gateway(node int) int32 {
	best := int32(-1)
	for i, l := range c.m.links {
		if l.from == node && c.links[i].Up && !c.m.nodes[node].Router && (best < 0 || c.links[i].Metric < c.links[best].Metric) {
			best = int32(i)
		}
	}
	return best
}

// until shortens the time for which the conditions hold.
func (c *conditions) until(t time.Time, ok bool) {
	if ok {
		c.to = min(c.to, t.UnixNano())
	}
}

// believed are the changes as the routers know of them: a while ago, because
// word of a failure takes time to go round.
func (c *conditions) believed(t time.Time, active []bool) []bool {
	if c.m.Convergence == 0 {
		return active
	}
	believed := make([]bool, len(active))
	for i := range c.m.changes {
		w := &c.m.changes[i].window
		believed[i] = w.Open(t.Add(-c.m.Convergence))
		if next, ok := w.Next(t.Add(-c.m.Convergence)); ok {
			c.until(next.Add(c.m.Convergence), true)
		}
	}
	return believed
}

func (c *conditions) apply(active []bool) {
	for i := range c.m.nodes {
		c.nodes[i] = c.m.nodes[i].state
	}
	for i := range c.m.links {
		c.links[i] = c.m.links[i].props
	}
	for i := range c.m.changes {
		change := &c.m.changes[i]
		if !active[i] {
			continue
		}
		for _, l := range change.links {
			change.link(&c.links[l])
		}
		if change.node >= 0 {
			change.set(&c.nodes[change.node])
		}
	}
}

// table is the routing table while certain changes are active.
func (m *Model) table(active []bool) *table {
	key := make([]byte, len(active))
	for i, on := range active {
		if on && m.changes[i].routes {
			key[i] = 1
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if t, ok := m.tables[string(key)]; ok {
		return t
	}
	c := newConditions(m)
	for i := range active {
		active[i] = key[i] == 1
	}
	c.apply(active)
	t := newTable(m.nodes, c.nodes, m.links, c.links)
	m.tables[string(key)] = t
	return t
}

// bucket is the allowance of a node's own ICMP.
type bucket struct {
	tokens float64
	filled int64
}

// allows takes a token from a node's allowance.
func (c *conditions) allows(node int32, at int64) bool {
	s, b := &c.nodes[node], &c.told[node]
	if s.limit <= 0 {
		return true
	}
	if b.filled == 0 || at < b.filled-int64(time.Minute) {
		b.tokens = s.burst
	} else {
		b.tokens = min(s.burst, b.tokens+float64(max(0, at-b.filled))*s.limit/1e9)
	}
	b.filled = at
	if b.tokens < 1 {
		return false
	}
	b.tokens--
	return true
}
