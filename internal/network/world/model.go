package world

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/internal/network/world/schedule"
	"woodlark.example/wire"
)

// Node is a host or a router.
type Node struct {
	Name      string
	Aliases   []string // further names; several nodes may share one
	Reverse   string   // the name of its addresses; empty when they have none
	Site      string
	Router    bool
	Addresses []netip.Addr
	Prefixes  []netip.Prefix // further addresses that lead here, and end here
	Resolvers []netip.Addr   // that it asks for names; none asks the file itself
	state     nodeState
}

// Addr is the first address of a node in a family.
func (n Node) Addr(f wire.Family) (netip.Addr, bool) {
	for _, a := range n.Addresses {
		if wire.FamilyOf(a) == f {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// direction is one direction of a link.
type direction struct {
	name     string
	from, to int
	seed     uint64
	props    link.Properties
}

// Model is a network and its changes over time. It never changes itself and is
// safe for concurrent use.
type Model struct {
	Name      string
	Story     string    // what its maker says of it
	Reference time.Time // the instant that relative times start from
	Zone      *time.Location
	// Convergence is how long routers go on sending the old way after a link or
	// a router fails or comes back.
	Convergence time.Duration

	seed  uint64
	nodes []Node
	links []direction

	changes  []change
	byName   map[string]int
	byAddr   map[netip.Addr]int
	prefixes []ownedPrefix // the longest first

	mu     sync.Mutex
	tables map[string]*table // by active changes that move traffic
}

type ownedPrefix struct {
	prefix netip.Prefix
	node   int
}

// change sets properties of links or nodes while its window is open.
type change struct {
	links  []int // directions
	node   int   // −1 for a change of links
	window schedule.Window
	link   func(*link.Properties)
	set    func(*nodeState)
	routes bool // it moves traffic
}

// Nodes are the nodes in the order of the file.
func (m *Model) Nodes() []Node { return m.nodes }

const defaultMTU = 1500

// MTU is that of a node's own links towards the world, the smallest.
func (m *Model) MTU(node int) int {
	mtu := 0
	for _, d := range m.Directions() {
		if d.From == node && d.MTU > 0 && (mtu == 0 || d.MTU < mtu) {
			mtu = d.MTU
		}
	}
	if mtu == 0 {
		return defaultMTU
	}
	return max(mtu, 68)
}

// Hosts are the nodes that are no routers and have an address.
func (m *Model) Hosts() []Node {
	var hosts []Node
	for _, n := range m.nodes {
		if !n.Router && len(n.Addresses) > 0 {
			hosts = append(hosts, n)
		}
	}
	return hosts
}

// Direction is one direction of a link, as the file has it.
type Direction struct {
	Name     string // of the link; often empty
	From, To int    // node indices
	link.Properties
}

// Directions of all links; those of one link stand side by side.
func (m *Model) Directions() []Direction {
	out := make([]Direction, len(m.links))
	for i, l := range m.links {
		out[i] = Direction{l.name, l.from, l.to, l.props}
	}
	return out
}

// Find is the index of a node, by name or address.
func (m *Model) Find(what string) (int, error) {
	if i, ok := m.byName[what]; ok {
		return i, nil
	}
	if a, err := netip.ParseAddr(what); err == nil {
		if i, ok := m.byAddr[a]; ok {
			return i, nil
		}
	}
	return 0, fmt.Errorf("world %q has no node %q", m.Name, what)
}

// Owner is the node that has an address, or that its prefix leads to; −1 when
// nothing does. own tells the two apart.
func (m *Model) Owner(a netip.Addr) (node int, own bool) {
	if i, ok := m.byAddr[a]; ok {
		return i, true
	}
	for _, p := range m.prefixes {
		if p.prefix.Contains(a) {
			return p.node, false
		}
	}
	return -1, false
}

// Reverse is the name that an address has by reverse lookup; empty when it has
// none.
func (m *Model) Reverse(a netip.Addr) string {
	if i, ok := m.byAddr[a]; ok {
		return m.nodes[i].Reverse
	}
	return ""
}

// Addresses of a name, of one family or, when f is 0, of both, in the order of
// the file.
func (m *Model) Addresses(name string, f wire.Family) []netip.Addr {
	name = strings.TrimSuffix(name, ".")
	var found []netip.Addr
	for _, n := range m.nodes {
		if !strings.EqualFold(n.Name, name) && !slices.ContainsFunc(n.Aliases, func(a string) bool { return strings.EqualFold(a, name) }) {
			continue
		}
		for _, a := range n.Addresses {
			if f == 0 || wire.FamilyOf(a) == f {
				found = append(found, a)
			}
		}
	}
	return found
}
