package live

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
)

// Network is a world in motion. Its hosts share it: their packets meet in the
// queues.
type Network struct {
	m     *world.Model
	clock network.Clock
	pump  *pump // in real time
	// inProcess keeps TCP within this process where a kernel of its own could be had.
	inProcess bool
	own       *virtual // in virtual time

	making sync.Mutex // of TCP stacks; goes before mu

	looking sync.Mutex    // guards walker
	walker  *world.Walker // that looks for first hops

	mu        sync.Mutex
	traffic   *world.Traffic
	delivered bool // something to somebody, since it was last looked at
	hosts     map[int]*Host
}

// New is a world in real time. What moves its packets runs only while a host has
// a connection open; Close is needed after TCP was used.
func New(m *world.Model) *Network {
	n := &Network{m: m, clock: network.SystemClock{}, traffic: m.Traffic(time.Now()), hosts: map[int]*Host{}}
	n.pump = &pump{n: n}
	return n
}

// Virtual is a world in virtual time, from start on. Time goes on when all
// goroutines that were started by its clock wait.
func Virtual(m *world.Model, start time.Time) *Network {
	n := &Network{m: m, traffic: m.Traffic(start).ByPacket(), hosts: map[int]*Host{}}
	n.own = &virtual{n: n, now: start}
	n.clock = n.own
	return n
}

// Model is the world.
func (n *Network) Model() *world.Model { return n.m }

// firstHop is the node that a host sends to first, and whether that answers.
func (n *Network) firstHop(from int, to netip.Addr) (node int, answers bool) {
	now := n.clock.Now()
	n.looking.Lock()
	defer n.looking.Unlock()
	if n.walker == nil {
		n.walker = n.m.Walker()
	}
	return n.walker.FirstHop(from, to, now)
}

// At is the network as seen from one of its hosts.
func (n *Network) At(name string) (*Host, error) {
	i, err := n.m.Find(name)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.host(i), nil
}

// host is the one at a node. The network is locked.
func (n *Network) host(node int) *Host {
	h, ok := n.hosts[node]
	if !ok {
		h = &Host{n: n, node: node, name: n.m.Nodes()[node].Name}
		n.hosts[node] = h
		n.traffic.Attach(node, h.take)
	}
	return h
}

// Close ends the TCP stacks of the hosts, if any were used.
func (n *Network) Close() error {
	n.making.Lock()
	defer n.making.Unlock()
	n.mu.Lock()
	var stacks []streams
	for _, h := range n.hosts {
		if h.tcp != nil {
			stacks = append(stacks, h.tcp)
			h.tcp = nil
		}
	}
	n.mu.Unlock()
	for _, s := range stacks {
		s.close()
		n.pump.stop()
	}
	return nil
}

// Passing is what crosses each link.
func (n *Network) Passing() []world.Passing {
	now := n.clock.Now()
	n.mu.Lock()
	defer n.mu.Unlock()
	n.traffic.Advance(now)
	return n.traffic.Passing(now)
}

// send lets a host send a packet now, and returns when that was.
func (n *Network) send(node int, packet []byte) (time.Time, error) {
	now := n.clock.Now()
	n.mu.Lock()
	defer n.mu.Unlock()
	before, busy := n.traffic.Next()
	if err := n.traffic.Send(node, packet, now); err != nil {
		return now, fmt.Errorf("send in world %q: %w", n.m.Name, err)
	}
	if n.pump == nil {
		return now, nil
	}
	n.traffic.Advance(now)
	if next, ok := n.traffic.Next(); ok && (!busy || next.Before(before)) {
		n.pump.wake()
	}
	return now, nil
}
