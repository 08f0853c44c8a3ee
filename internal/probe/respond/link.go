package respond

import (
	"net/netip"

	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

// hearLinks waits on all links for the first frame of the near end: where it comes in is the link
// of the test. Who sends it shows that it has the session's secret, and gets nothing but its cookie
// before it shows that too.
func (s *served) hearLinks() error {
	conn, err := s.r.o.Network.Open(network.Ethernet, 0, network.SocketOptions{Link: s.order.Link.Options(s.name), Depth: 1})
	if err != nil {
		return err
	}
	s.links = conn
	s.hearing.Go(func() {
		packets := make([]network.Packet, 16)
		for {
			n, err := conn.Receive(packets)
			if err != nil {
				return
			}
			for i := range n {
				s.beginOnLink(&packets[i])
			}
		}
	})
	return nil
}

// beginOnLink gives who has the session's secret a connection of its own on the link that its
// frame came by.
func (s *served) beginOnLink(p *network.Packet) {
	d, ok := session.ParseDatagram(p.Data, s.channel.Secret())
	by := p.Peer.Zone()
	if !ok || d.Step != session.Begin || d.Session != s.name || by == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over || s.duplex != nil { // whose Begin comes again is answered there
		return
	}
	o := network.SocketOptions{Bulk: true, Interface: by, Peer: netip.AddrPortFrom(p.Peer, 0), Link: s.order.Link.Options(s.name)}
	paced.Tested(&o, s.order.There, s.order.Back)
	conn, err := s.r.o.Network.Open(network.Ethernet, 0, o)
	if err != nil {
		s.r.o.Log.Warn("no frames for a session", "interface", by, "reason", err)
		return
	}
	s.meet(conn, o.Peer)
	_ = s.links.Close() // or it would get each frame of the test, too
}
