package trace

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/route"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// mostDatagramFlows is how many sockets, each with a port of its own and so a flow
// of its own, are opened without privileges.
const mostDatagramFlows = 16

// datagrams sends UDP by ordinary sockets, one a flow. The kernel says what became
// of a datagram, and gives back as much of it as the router quoted.
type datagrams struct{ sockets []network.Limited }

func newDatagrams(n network.Network, f wire.Family, o network.SocketOptions) (*datagrams, error) {
	d := &datagrams{}
	o.Extensions = true
	o.DontFragment = true // cut to pieces, any size would arrive
	for range mostDatagramFlows {
		c, err := n.Open(network.UDP, f, o)
		if err == nil {
			l, ok := c.(network.Limited)
			if !ok {
				err = fmt.Errorf("%w with a TTL of its own for each datagram", network.ErrNotPermitted)
			} else {
				d.sockets = append(d.sockets, l)
				continue
			}
		}
		if len(d.sockets) > 0 {
			return d, nil // fewer flows
		}
		return nil, err
	}
	return d, nil
}

func (d *datagrams) conns() []network.Conn {
	var list []network.Conn
	for _, s := range d.sockets {
		list = append(list, s)
	}
	return list
}

func (d *datagrams) dropped() (n int) {
	for _, s := range d.sockets {
		n += s.Dropped()
	}
	return n
}

func (d *datagrams) send(t *tracer, s *shot) (time.Time, error) {
	header := wire.IPv4HeaderSize + wire.UDPHeaderSize
	if wire.FamilyOf(t.Addr) == wire.IPv6 {
		header = wire.IPv6HeaderSize + wire.UDPHeaderSize
	}
	return d.sockets[s.flow%len(d.sockets)].SendTTL(netip.AddrPortFrom(t.Addr, t.Via.Port), t.body(s, header), s.ttl)
}

func (d *datagrams) flow(conn network.Conn) int {
	for i, s := range d.sockets {
		if network.Conn(s) == conn {
			return i
		}
	}
	return 0
}

func (d *datagrams) read(e *Engine, conn network.Conn, p *network.Packet) (answer, bool) {
	if len(p.Data) >= ownSize {
		number, mark := binary.BigEndian.Uint16(p.Data), binary.BigEndian.Uint64(p.Data[4:])
		if t := e.marked(mark, p); t != nil {
			s := t.shots[number]
			if s == nil || binary.BigEndian.Uint16(p.Data[2:]) != ^number {
				return answer{}, true
			}
			return d.tell(t, s, p), true
		}
	}
	if p.Event == network.Departure {
		return answer{}, false
	}
	// So little is quoted that it may be any probe of this flow to that target: it is
	// known only when there is but one.
	flow := d.flow(conn)
	to := p.To.Addr()
	if p.Event == network.Answer {
		to = p.Peer
	}
	for _, t := range e.traces {
		if t.way != sender(d) || t.Addr != to {
			continue
		}
		var only *shot
		open := 0
		for _, s := range t.shots {
			if !s.fate && s.flow%len(d.sockets) == flow {
				only = s
				open++
			}
		}
		switch {
		case open == 1:
			return d.tell(t, only, p), true
		case open > 1:
			t.serial = true // from now on one after the other
			return answer{}, true
		}
	}
	return answer{}, false
}

// marked finds the trace whose mark a datagram carries.
func (e *Engine) marked(mark uint64, p *network.Packet) *tracer {
	to := p.To.Addr()
	if p.Event == network.Answer {
		to = p.Peer
	}
	if t := e.byMark(mark); t != nil && (p.Event == network.Departure || t.Addr == to) {
		return t
	}
	return nil
}

func (d *datagrams) tell(t *tracer, s *shot, p *network.Packet) answer {
	if p.Event != network.Refusal || p.ICMP == nil {
		return answer{shot: s, probe: route.Probe{Outcome: route.Reached, Addr: p.Peer.WithZone("")}}
	}
	s.byError = true
	a := answer{shot: s, probe: t.describe(wire.FamilyOf(t.Addr), *p.ICMP, wire.IP{Dst: t.Addr.WithZone("")}, p.Peer)}
	a.probe.Quoted = route.Quoted{} // the kernel keeps it
	return a
}
