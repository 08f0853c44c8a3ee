package world

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/wire"
)

// Manner is how a node treats ICMP echo requests to itself.
type Manner string

// The manners.
const (
	Answers   Manner = "answer"
	Drops     Manner = "drop"
	Prohibits Manner = "prohibit"
)

// Node is a host or a router.
type Node struct {
	Name      string
	Site      string
	Router    bool
	Addresses []netip.Addr
	state     nodeState
}

type nodeState struct {
	up   bool
	icmp Manner
}

// Variation is how the delay of a link varies from packet to packet.
type Variation string

// The variations. Each has a scale.
const (
	Constant Variation = "none"
	Uniform  Variation = "uniform" // between −scale and +scale
	Gaussian Variation = "normal"  // standard deviation scale, cut at ±4 of it
	Gamma    Variation = "gamma"   // added; shape 2, mean scale
)

// linkState is what a change can change of one direction of a link.
type linkState struct {
	up        bool
	metric    int
	delay     time.Duration
	variation Variation
	scale     time.Duration
	loss      float64
	load      float64       // of cross traffic, as a part of the rate
	service   time.Duration // of a 1500-byte packet at the link's rate
	queue     time.Duration // the longest wait
}

// direction is one direction of a link.
type direction struct {
	from, to int
	state    linkState
}

// Model is a network and its changes over time. It never changes itself and is
// safe for concurrent use.
type Model struct {
	Name      string
	Reference time.Time // the instant that relative times start from
	Zone      *time.Location

	seed  uint64
	nodes []Node
	links []direction

	changes []change
	byName  map[string]int
	byAddr  map[netip.Addr]int

	mu     sync.Mutex
	routes map[string][][]int32 // by active changes: next direction, [from][to]
}

// Nodes are the nodes in the order of the file.
func (m *Model) Nodes() []Node { return m.nodes }

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

// Addr is the first address of a node in a family.
func (n Node) Addr(f wire.Family) (netip.Addr, bool) {
	for _, a := range n.Addresses {
		if wire.FamilyOf(a) == f {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// change sets properties of links or nodes while its window is open.
type change struct {
	links  []int // directions
	node   int   // −1 for a change of links
	window window
	link   func(*linkState)
	set    func(*nodeState)
	routes bool // it moves traffic
}
