package world

import (
	"net/netip"
	"time"

	"woodlark.example/internal/network/world/link"
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

// Refuses is how a router refuses to forward.
type Refuses string

// The ways to refuse.
const (
	RefusesNothing Refuses = "nothing"
	Unreachable    Refuses = "unreachable"
	Prohibited     Refuses = "prohibited"
)

// PortState is what happens to what comes to a port.
type PortState string

// The states of a port.
const (
	Open     PortState = "open"     // TCP accepts and discards; UDP takes it in silence
	Echoes   PortState = "echo"     // sends back what it gets
	Reflects PortState = "reflect"  // a UDP port at which a STAMP reflector listens (RFC 8762)
	Closed   PortState = "closed"   // TCP resets; UDP is told "port unreachable"
	Filtered PortState = "filtered" // silence
	Rejected PortState = "rejected" // told "administratively prohibited"
)

// ports are the states of ranges of ports; the first that holds one counts, and
// all others are closed.
type ports []portRange

type portRange struct {
	first, last uint16
	state       PortState
}

func (p ports) at(port uint16) PortState {
	for _, r := range p {
		if port >= r.first && port <= r.last {
			return r.state
		}
	}
	return Closed
}

// Resolving is how a host answers questions for names.
type Resolving string

// The ways to answer; NoResolver has a closed port instead.
const (
	NoResolver     Resolving = "none"
	ResolverGood   Resolving = "answer"
	ResolverFails  Resolving = "fail"    // SERVFAIL
	ResolverSilent Resolving = "silent"  // no answer
	ResolverDenies Resolving = "unknown" // NXDOMAIN, whatever is asked
)

// fixedRoute sends traffic for a prefix over certain links, whatever their
// metric.
type fixedRoute struct {
	prefix netip.Prefix
	via    []int32 // directions
}

// nodeState is what changes can change of a node.
type nodeState struct {
	up     bool
	icmp   Manner
	silent bool // sends no ICMP of its own at all

	limit           float64 // of its own ICMP, messages a second; 0 is none
	burst           float64
	answerDelay     time.Duration
	answerVariation link.Variation
	answerFrom      []netip.Addr

	hidden    bool // takes nothing off the TTL
	labels    []wire.Label
	refuse    Refuses
	perPacket bool // spreads packets, not flows, over equal ways
	routes    []fixedRoute

	tcp, udp      ports
	resolver      Resolving
	resolverDelay time.Duration
	records       map[string][]netip.Addr

	offset time.Duration // of the clock at the reference time
	skew   float64       // of the clock, as a part of the time that passes
}

// Clock is what a node's own clock shows at a true time.
func (m *Model) Clock(node int, t time.Time) time.Time {
	s := m.stateAt(node, t)
	return t.Add(s.offset + time.Duration(s.skew*float64(t.Sub(m.Reference))))
}

// stateAt is a node's state at a time.
func (m *Model) stateAt(node int, t time.Time) nodeState {
	s := m.nodes[node].state
	for i := range m.changes {
		if c := &m.changes[i]; c.node == node && c.window.Open(t) {
			c.set(&s)
		}
	}
	return s
}

// PortAt is the state of a node's TCP port at a time.
func (m *Model) PortAt(node int, port uint16, t time.Time) PortState {
	s := m.stateAt(node, t)
	return s.tcp.at(port)
}
