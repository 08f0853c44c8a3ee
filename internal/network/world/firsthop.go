package world

import (
	"net/netip"
	"time"

	"woodlark.example/wire"
)

// knocks is how often a neighbour is asked for before it counts as away: links
// lose.
const knocks = 20

// FirstHop is the node that a host sends to first on the way to an address, and
// whether that one answers on the link. The node is −1 when the host has no link.
func (m *Model) FirstHop(from int, to netip.Addr, at time.Time) (node int, answers bool) {
	return m.Walker().FirstHop(from, to, at)
}

// FirstHop is the same by a walker that is used again: times should not go back.
func (w *Walker) FirstHop(from int, to netip.Addr, at time.Time) (node int, answers bool) {
	m := w.m
	node = -1
	if way := w.Send(Probe{From: from, To: to, At: at}, true).Nodes; len(way) > 1 {
		node = way[1]
	}
	if node < 0 { // it gets nowhere: a host asks its router all the same
		for _, l := range m.links {
			if l.from == from && (node < 0 || m.nodes[l.to].Router && !m.nodes[node].Router) {
				node = l.to
			}
		}
	}
	if node < 0 {
		return node, false
	}
	a, ok := m.nodes[node].Addr(wire.FamilyOf(to))
	for i := range knocks {
		if ok && !answers {
			answers = w.Send(Probe{From: from, To: a, At: at, Number: uint64(i), TTL: 1}, false).Arrived
		}
	}
	return node, answers
}
