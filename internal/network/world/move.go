package world

import (
	"net/netip"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// parcel is what the network looks at of a packet.
type parcel struct {
	dst    netip.Addr
	target int32 // the node that dst leads to; −1 when nothing does
	own    bool  // whether the target has dst for its own
	origin int32
	size   int // bytes, with the IP header
	ttl    int
	whole  bool   // may not be cut to pieces
	cut    int    // the smallest MTU that it was cut to; 0 when it was not
	flow   uint64 // of the fields that routers hash
	number uint64 // tells packets apart
	hops   int
}

// step is what happens to a parcel at a node.
type step int

const (
	onward  step = iota // it goes to another node
	arrived             // it is where it was sent to
	refused             // the node sends an error about it
	gone
)

// move is what became of a parcel at a node.
type move struct {
	step  step
	node  int32 // the next
	at    int64 // when it gets there
	again int64 // when a second copy does; 0 when there is none
	kind  wire.ErrorKind
	mtu   int
	cause link.Cause
}

const (
	// mostHops ends packets that go in circles past nodes that hide.
	mostHops = 512
	// neighbourWait is how long a router asks for a neighbour that is not there
	// (RFC 4861 §10: three solicitations, one a second).
	neighbourWait = 3 * time.Second
)

// move takes a parcel one step on from a node.
func (c *conditions) move(p *parcel, node int32, at int64) move {
	s := &c.nodes[node]
	if !s.up {
		return move{step: gone, cause: link.Down}
	}
	if node == p.target && p.own {
		return move{step: arrived, at: at}
	}
	if p.hops++; p.hops > mostHops || p.target < 0 {
		return move{step: gone, cause: link.Lost} // nobody has the address
	}
	if node != p.origin {
		if m, stop := c.forward(p, s, node, at); stop {
			return m
		}
	}
	if node == p.target { // its prefix leads here, and nobody has the address
		return move{step: refused, kind: wire.NoHost, at: at + int64(neighbourWait)}
	}
	next := c.next(p, node)
	if next < 0 {
		return move{step: refused, kind: wire.NoRoute, at: at}
	}
	return c.cross(p, next, at)
}

// forward is what a router does to a packet of others before it sends it on.
func (c *conditions) forward(p *parcel, s *nodeState, node int32, at int64) (move, bool) {
	if !c.m.nodes[node].Router {
		return move{step: gone, cause: link.Lost}, true
	}
	if !s.hidden {
		if p.ttl--; p.ttl <= 0 {
			return move{step: refused, kind: wire.TimeExpired, at: at}, true
		}
	}
	switch s.refuse {
	case Unreachable:
		return move{step: refused, kind: wire.NoHost, at: at}, true
	case Prohibited:
		return move{step: refused, kind: wire.Prohibited, at: at}, true
	}
	return move{}, false
}

// next is the direction that a node sends a parcel in; −1 when it knows no way.
func (c *conditions) next(p *parcel, node int32) int32 {
	s := &c.nodes[node]
	ways := c.routes.towards(node, p.target)
	longest := -1
	for _, r := range s.routes {
		if r.prefix.Bits() > longest && r.prefix.Contains(p.dst) {
			ways, longest = r.via, r.prefix.Bits()
		}
	}
	switch {
	case len(ways) == 0:
		return c.gateways[node]
	case len(ways) == 1:
		return ways[0]
	}
	by := p.flow
	if s.perPacket {
		by = p.number
	}
	return ways[link.Mix(by^c.m.seed^uint64(node)<<40)%uint64(len(ways))]
}

// cross sends a parcel over a link, in pieces where it must.
func (c *conditions) cross(p *parcel, direction int32, at int64) move {
	props := &c.links[direction]
	d := &c.m.links[direction]
	if props.MTU > 0 && p.size > props.MTU && (p.cut == 0 || p.cut > props.MTU) {
		switch {
		case !p.whole:
			p.cut = props.MTU
		case props.Swallow:
			c.passed[direction].Refuse(p.size)
			return move{step: gone, cause: link.TooBig}
		default:
			c.passed[direction].Refuse(p.size)
			return move{step: refused, kind: wire.TooBig, mtu: props.MTU, at: at}
		}
	}
	k := link.Packet{Seed: d.seed, Number: p.number, Size: p.size, At: at}
	out := move{node: int32(d.to)}
	for left := p.size; ; {
		if p.cut > 0 {
			room := (p.cut - wire.IPv4HeaderSize) &^ 7
			k.Size = min(left, room+wire.IPv4HeaderSize)
			left -= room
		}
		crossing := c.passed[direction].Cross(props, k)
		if crossing.Cause != link.Through {
			return move{step: gone, cause: crossing.Cause}
		}
		out.at, out.again = max(out.at, crossing.At), crossing.Again
		if p.cut == 0 || left <= wire.IPv4HeaderSize {
			return out
		}
		k.Number = link.Mix(k.Number)
	}
}

// answerAt is when a node's own answer to something leaves it.
func (c *conditions) answerAt(node int32, number uint64, at int64) int64 {
	s := &c.nodes[node]
	if s.answerDelay == 0 && s.answerVariation.Kind == link.Constant {
		return at
	}
	return at + int64(max(0, s.answerDelay+s.answerVariation.Of(number^uint64(node))))
}
