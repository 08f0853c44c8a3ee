package nearend

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// socket opens what datagrams leave by, and says to whom the first goes.
func (r *Run) socket() (network.Conn, netip.AddrPort, error) {
	o := network.SocketOptions{Source: r.o.Source, Peer: r.o.To, Room: 9000}
	if s := r.order.There; s != nil {
		o.DSCP, o.Bulk = s.DSCP, s.Bulk
		paced.Tested(&o, r.order.There, r.order.Back)
		if paced.MostSizeOf(*s) > o.Room {
			o.Room = paced.MostSizeOf(*s)
		}
	}
	if r.order.There == nil && r.order.Back != nil {
		o.Bulk = r.order.Back.Format == paced.Test
		paced.Tested(&o, r.order.Back)
	}
	o.Room = max(o.Room, r.order.Largest)
	if r.order.Link != nil {
		return r.onLink(o)
	}
	conn, err := r.o.Network.Open(network.UDP, wire.FamilyOf(r.o.To.Addr()), o)
	return conn, r.o.To, err
}

// onLink opens what frames on a link leave by.
func (r *Run) onLink(o network.SocketOptions) (network.Conn, netip.AddrPort, error) {
	const loopback = "lo"
	switch r.o.Interface {
	case "":
		return nil, netip.AddrPort{}, errors.New("frames on a link leave by an interface, and none is named")
	case loopback:
		return nil, netip.AddrPort{}, fmt.Errorf("%w: %s is within this host: there is no link between two ends", network.ErrNoSuch, loopback)
	}
	o.Peer, o.Source, o.DSCP = netip.AddrPort{}, netip.Addr{}, 0
	o.Interface, o.Link = r.o.Interface, r.order.Link.Options(r.name)
	h := wire.Everybody
	if r.o.Station != nil {
		h = *r.o.Station
	}
	conn, err := r.o.Network.Open(network.Ethernet, 0, o)
	return conn, netip.AddrPortFrom(network.Station(h, r.o.Interface), 0), err
}

// step is a datagram of the far end, and where it came from.
type step struct {
	session.Datagram
	from netip.AddrPort
}

// bind proves this end's address for datagrams to the far end.
func (r *Run) bind(ctx context.Context) error {
	conn, to, err := r.socket()
	if err != nil {
		return err
	}
	r.peer = to
	steps := make(chan step, 8)
	refused := make(chan string, 1)
	in := r.order.Back
	if r.order.Returned {
		in = r.order.There
	}
	r.duplex = paced.NewDuplex(conn, to, r.o.Network.Clock(), r.o.Wall, r.order.There, in)
	r.duplex.Echo = r.echoes.take
	r.duplex.Other = func(p *network.Packet) {
		if p.Event == network.Refusal {
			select {
			case refused <- p.Cause:
			default:
			}
			return
		}
		if d, size, ok := session.ParseSized(p.Data, r.channel.Secret()); ok && d.Session == r.name {
			select {
			case r.sizes <- sized{d.Step, size}:
			default:
			}
			return
		}
		if d, ok := session.ParseDatagram(p.Data, r.channel.Secret()); ok && d.Session == r.name {
			select {
			case steps <- step{d, netip.AddrPortFrom(p.Peer, p.Port)}:
			default:
			}
		}
	}
	r.duplex.Listen()
	say := session.Datagram{Step: session.Begin, Session: r.name}
	why := ""
	for wait := 200 * time.Millisecond; wait < 4*time.Second; wait = wait * 3 / 2 {
		if _, err := conn.Send(r.peer, say.Marshal(r.channel.Secret())); err != nil {
			return err
		}
		timer := time.After(wait)
	hearing:
		for {
			select {
			case d := <-steps:
				switch d.Step {
				case session.Prove:
					if r.order.Link != nil { // it told where it is
						r.peer = d.from
						r.duplex.Meet(d.from)
					}
					say = session.Datagram{Step: session.Proof, Session: r.name, Cookie: d.Cookie}
					break hearing
				case session.Bound:
					return nil
				}
			case why = <-refused:
			case <-timer:
				break hearing
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return r.silent(why)
}

// silent is the error of a far end from which nothing comes back.
func (r *Run) silent(why string) error {
	switch {
	case r.order.Link != nil:
		return fmt.Errorf("%w on %s: do both ends share this link, and does it let frames with EtherType 0x%04x and their tags and labels through, both ways?", ErrNoFrames, r.o.Interface, wire.TypeLocal)
	case why != "":
		return fmt.Errorf("%w from %s by UDP: %s", ErrNoUDP, r.o.To, why)
	}
	return fmt.Errorf("%w from %s by UDP: is UDP let through to this port there, and back?", ErrNoUDP, r.o.To)
}

// ErrNoFrames is wrapped when frames on a link do not come through.
var ErrNoFrames = errors.New("no frame comes back")
