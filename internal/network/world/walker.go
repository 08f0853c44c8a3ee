package world

import (
	"net/netip"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// Fate is what becomes of an echo request and the answer to it.
type Fate struct {
	Answered bool
	Refused  string        // why it was refused; empty when it was not
	By       int           // the node that answered or refused
	RTT      time.Duration // of an answer or a refusal
	TTL      int           // of the answer when it arrives
	Copies   int           // further answers
}

// Walker computes fates in virtual time, one packet after the other. It takes
// the network as it stands when the packet is sent. Packets should be sent in
// order of time; what it returns depends on the seed, the packets and their
// times alone. It is for one goroutine.
type Walker struct {
	m *Model
	c *conditions
}

// Walker returns a walker over the model.
func (m *Model) Walker() *Walker { return &Walker{m: m, c: newConditions(m)} }

// Probe is a packet that a walker sends.
type Probe struct {
	From   int        // the node that sends it
	To     netip.Addr //
	At     time.Time
	Number uint64 // tells packets apart that leave at the same time
	Flow   uint64 // of the fields that routers hash; packets of one flow keep to one branch
	Size   int    // bytes with the IP header; 84 when 0
	TTL    int    // 64 when 0
	Whole  bool   // may not be cut to pieces
}

// Passage is what became of a packet one way.
type Passage struct {
	Arrived bool
	Node    int // where it ended
	Took    time.Duration
	TTL     int
	Again   bool           // whether a second copy arrives
	Refused bool           // by Node …
	Kind    wire.ErrorKind // … with this error,
	MTU     int            // and with "too big" this MTU
	Cause   link.Cause     // of a loss
	Nodes   []int          // that it passed, when asked for
}

const (
	defaultSize = 84 // an echo request of 56 bytes over IPv4
	defaultTTL  = 64
)

// Send is the passage of a packet. trace asks for the nodes it passes.
func (w *Walker) Send(k Probe, trace bool) Passage {
	at := k.At.UnixNano()
	w.c.settle(at)
	p := w.parcel(k, at)
	return w.walk(&p, int32(k.From), at, trace)
}

func (w *Walker) parcel(k Probe, at int64) parcel {
	target, own := w.m.Owner(k.To)
	p := parcel{dst: k.To, target: int32(target), own: own, origin: int32(k.From), size: k.Size, ttl: k.TTL, whole: k.Whole,
		flow: k.Flow, number: link.Mix(w.m.seed^uint64(at)) ^ link.Mix(k.Number^uint64(k.From)<<48)}
	if p.size == 0 {
		p.size = defaultSize
	}
	if p.ttl == 0 {
		p.ttl = defaultTTL
	}
	return p
}

func (w *Walker) walk(p *parcel, node int32, at int64, trace bool) Passage {
	began := at
	var out Passage
	if trace {
		out.Nodes = append(out.Nodes, int(node))
	}
	for {
		m := w.c.move(p, node, at)
		out.Node = int(node)
		switch m.step {
		case onward:
			node, at = m.node, m.at
			out.Again = out.Again || m.again > 0
			if trace {
				out.Nodes = append(out.Nodes, int(node))
			}
			continue
		case arrived:
			out.Arrived = true
		case refused:
			at = m.at
			out.Refused, out.Kind, out.MTU = true, m.kind, m.mtu
		case gone:
			out.Cause = m.cause
		}
		out.Took, out.TTL = time.Duration(at-began), p.ttl
		return out
	}
}

// Route is the nodes that a packet of a flow passes from one node to another at
// t, both ends included, or as far as it gets. It counts as a packet.
func (w *Walker) Route(from, to int, t time.Time, flow uint64) []int {
	if len(w.m.nodes[to].Addresses) == 0 {
		return nil
	}
	return w.Send(Probe{From: from, To: w.m.nodes[to].Addresses[0], At: t, Flow: flow}, true).Nodes
}

// Echo is the fate of an echo request from a node to an address, and of the
// answer. Requests of different numbers are different flows, as their checksums
// differ.
func (w *Walker) Echo(from int, to netip.Addr, at time.Time, number uint64) Fate {
	f := wire.FamilyOf(to)
	nanos := at.UnixNano()
	w.c.settle(nanos)
	p := w.parcel(Probe{From: from, To: to, Number: number, Flow: link.Mix(number)}, nanos)
	there := w.walk(&p, int32(from), nanos, false)
	fate := Fate{By: there.Node}
	state := &w.c.nodes[there.Node]
	switch {
	case !there.Arrived && !there.Refused || state.silent:
		return Fate{}
	case there.Refused:
		fate.Refused = wire.NewICMPError(f, there.Kind, nil).Refusal(f)
	case state.icmp == Drops:
		return Fate{}
	case state.icmp == Prohibits:
		fate.Refused = wire.NewICMPError(f, wire.Prohibited, nil).Refusal(f)
	default:
		fate.Answered = true
	}
	nanos += int64(there.Took)
	if !w.c.allows(int32(there.Node), nanos) {
		return Fate{}
	}
	leaves := w.c.answerAt(int32(there.Node), p.number, nanos)
	source, ok := w.m.nodes[from].Addr(f)
	if !ok {
		return Fate{}
	}
	answer := parcel{dst: source, target: int32(from), own: true, origin: int32(there.Node), size: p.size, ttl: defaultTTL, flow: link.Mix(p.flow), number: link.Mix(p.number)}
	back := w.walk(&answer, int32(there.Node), leaves, false)
	if !back.Arrived {
		return Fate{}
	}
	fate.RTT, fate.TTL = time.Duration(leaves)+back.Took-time.Duration(at.UnixNano()), back.TTL
	if there.Again && fate.Answered {
		fate.Copies++
	}
	if back.Again {
		fate.Copies++
	}
	return fate
}
