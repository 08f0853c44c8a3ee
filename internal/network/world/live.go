package world

import (
	"container/heap"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

type place struct {
	m    *Model
	node int
}

// At is the network as seen from one of its hosts, in real time. Nothing
// leaves this process.
func (m *Model) At(host string) (network.Network, error) {
	i, err := m.Find(host)
	if err != nil {
		return nil, err
	}
	return place{m, i}, nil
}

// Lookup finds a host's addresses by its name.
func (p place) Lookup(_ context.Context, name string, f wire.Family) ([]netip.Addr, error) {
	found := p.m.lookup(name, f)
	if len(found) == 0 {
		return nil, fmt.Errorf("%q: %w in world %q", name, network.ErrNoName, p.m.Name)
	}
	return found, nil
}

// OpenICMP returns a connection at the host.
func (p place) OpenICMP(f wire.Family, _ network.SocketOptions) (network.Conn, error) {
	if _, ok := p.m.nodes[p.node].Addr(f); !ok {
		return nil, fmt.Errorf("%s has no %v address in world %q", p.m.nodes[p.node].Name, f, p.m.Name)
	}
	return &liveConn{place: p, family: f, walker: p.m.Walker(), news: make(chan struct{}, 1), over: make(chan struct{})}, nil
}

// liveConn delivers answers when their time has come.
type liveConn struct {
	place
	family wire.Family

	mu      sync.Mutex
	walker  *Walker
	pending deliveries
	news    chan struct{}
	once    sync.Once
	over    chan struct{}
}

type delivery struct {
	at     time.Time
	packet network.Packet
}

var errClosed = errors.New("the connection is closed")

func (c *liveConn) Exact() bool   { return true }
func (c *liveConn) FixedID() bool { return false }

// Send decides the message's fate and notes when its answer is due.
func (c *liveConn) Send(to netip.Addr, message []byte) (time.Time, error) {
	now := time.Now()
	target, ok := c.m.byAddr[to.Unmap()]
	if !ok {
		return now, nil // nobody has that address: silence
	}
	parsed, err := wire.ParseICMP(c.family, message)
	if err != nil || parsed.Echo == nil {
		return now, fmt.Errorf("send to %s: only echo requests cross this world: %w", to, errors.Join(err, wire.ErrPacket))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	fate := c.walker.Echo(c.node, target, now, uint64(parsed.Echo.ID)<<16|uint64(parsed.Echo.Seq))
	if !fate.Answered && fate.Refused == "" {
		return now, nil
	}
	p := network.Packet{Event: network.Answer, Peer: to, TTL: fate.TTL, At: now.Add(fate.RTT)}
	if fate.Answered {
		answer := *parsed.Echo
		answer.Reply = true
		p.Data = answer.Marshal(c.family)
	} else {
		by, _ := c.m.nodes[fate.By].Addr(c.family)
		p.Event, p.Peer, p.Data = network.Refusal, by, message
		p.Cause = fate.Refused + " by " + by.String()
	}
	heap.Push(&c.pending, delivery{p.At, p})
	select {
	case c.news <- struct{}{}:
	default:
	}
	return now, nil
}

// Receive waits for the next answers.
func (c *liveConn) Receive(packets []network.Packet) (int, error) {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		c.mu.Lock()
		now := time.Now()
		n := 0
		for n < len(packets) && len(c.pending) > 0 && !c.pending[0].at.After(now) {
			packets[n] = heap.Pop(&c.pending).(delivery).packet
			packets[n].Seen = now
			n++
		}
		wait := time.Hour
		if len(c.pending) > 0 {
			wait = c.pending[0].at.Sub(now)
		}
		c.mu.Unlock()
		if n > 0 {
			return n, nil
		}
		timer.Reset(wait)
		select {
		case <-timer.C:
		case <-c.news:
		case <-c.over:
			return 0, errClosed
		}
	}
}

func (c *liveConn) Close() error {
	c.once.Do(func() { close(c.over) })
	return nil
}

type deliveries []delivery

func (d deliveries) Len() int           { return len(d) }
func (d deliveries) Less(i, j int) bool { return d[i].at.Before(d[j].at) }
func (d deliveries) Swap(i, j int)      { d[i], d[j] = d[j], d[i] }
func (d *deliveries) Push(x any)        { *d = append(*d, x.(delivery)) }
func (d *deliveries) Pop() any {
	old := *d
	x := old[len(old)-1]
	*d = old[:len(old)-1]
	return x
}
