package ready

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/readiness"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

const (
	portWait  = 1500 * time.Millisecond
	portTries = 2
)

// ports asks all ports of all hosts, side by side.
func (t *test) ports(ctx context.Context) {
	var all sync.WaitGroup
	for _, h := range t.n.Hosts {
		all.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, 6*time.Second)
			defer cancel()
			a, err := kind.Address(ctx, t.j.Network, h.Name, t.s.Family.One())
			list := t.asked(h)
			if err != nil {
				for i := range list {
					list[i].State, list[i].Problem = readiness.Unknown, err.Error()
				}
			} else {
				for i := range list {
					t.port(ctx, a, &list[i])
				}
			}
			t.mu.Lock()
			defer t.mu.Unlock()
			t.facts.Ports = append(t.facts.Ports, list...)
		})
	}
	all.Wait()
}

func (t *test) asked(h readiness.HostNeed) (list []readiness.Port) {
	for _, p := range h.TCP {
		list = append(list, readiness.Port{Host: h.Name, Port: p})
	}
	for _, p := range h.UDP {
		list = append(list, readiness.Port{Host: h.Name, Port: p, UDP: true})
	}
	return list
}

// port asks one: of TCP it is opened, of UDP it gets a datagram.
func (t *test) port(ctx context.Context, a netip.Addr, p *readiness.Port) {
	k := network.TCP
	if p.UDP {
		k = network.UDP
	}
	conn, err := t.j.Network.Open(k, wire.FamilyOf(a), network.SocketOptions{Source: t.s.Source.Addr})
	if err != nil {
		p.State, p.Problem = readiness.Unknown, err.Error()
		return
	}
	answers := make(chan network.Packet, 4)
	var hearing sync.WaitGroup
	hearing.Go(func() {
		packets := make([]network.Packet, 8)
		for {
			n, err := conn.Receive(packets)
			if err != nil {
				return
			}
			for _, x := range packets[:n] {
				if x.Event == network.Departure {
					continue
				}
				select {
				case answers <- x:
				default:
				}
			}
		}
	})
	defer hearing.Wait()
	defer conn.Close()
	p.State = readiness.Silent
	for range portTries {
		sent, err := conn.Send(netip.AddrPortFrom(a, uint16(p.Port)), []byte("woodlark is this port open?"))
		if err != nil {
			p.State, p.Problem = readiness.Unknown, err.Error()
			return
		}
		timer := time.NewTimer(portWait)
		select {
		case x := <-answers:
			timer.Stop()
			if p.TookMs = msOf(x.Seen.Sub(sent)); x.Took > 0 {
				p.TookMs = msOf(x.Took)
			}
			if p.State = readiness.Open; x.Event == network.Refusal {
				p.State, p.Problem = readiness.Refused, x.Cause
			}
			return
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return
		}
	}
}
