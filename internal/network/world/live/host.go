package live

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
)

// Host is the network as seen from one host. It is a network.Network, and in
// real time a network.Streams.
type Host struct {
	n     *Network
	node  int
	name  string
	conns []*conn   // under the network's lock
	asked []*asking // DNS queries on their way; under the network's lock
	tcp   streams   // under the network's lock; nil until TCP is used
}

var errClosed = errors.New("the connection is closed")

// Clock is the world's.
func (h *Host) Clock() network.Clock { return h.n.clock }

// Wall is what the host's own clock shows now.
func (h *Host) Wall() time.Time { return h.n.m.Clock(h.node, h.n.clock.Now()) }

// Neighbouring is the network as seen from who has an address, and its name.
func (h *Host) Neighbouring(a netip.Addr) (network.Network, string, error) {
	node, own := h.n.m.Owner(a)
	if !own {
		return nil, "", fmt.Errorf("nobody has the address %s in world %q", a, h.n.m.Name)
	}
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	return h.n.host(node), h.n.m.Nodes()[node].Name, nil
}

var (
	_ network.Network = (*Host)(nil)
	_ network.Streams = (*Host)(nil)
	_ world.Hand      = (*Host)(nil).take
)

// WallAt is what the host's own clock shows at a time of the world's.
func (h *Host) WallAt(t time.Time) time.Time { return h.n.m.Clock(h.node, t) }
