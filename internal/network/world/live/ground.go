package live

import (
	"fmt"
	"net/netip"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// FirstHop is how the host sends to an address.
func (h *Host) FirstHop(to netip.Addr) (network.Hop, error) {
	source, err := h.source(wire.FamilyOf(to), network.SocketOptions{})
	if err != nil {
		return network.Hop{}, err
	}
	hop := network.Hop{Source: source, MTU: h.n.m.MTU(h.node)}
	node, _ := h.n.firstHop(h.node, to)
	if node < 0 {
		return hop, fmt.Errorf("%s has no link in world %q", h.name, h.n.m.Name)
	}
	if owner, own := h.n.m.Owner(to); own && owner == node {
		return hop, nil
	}
	a, ok := h.n.m.Nodes()[node].Addr(wire.FamilyOf(to))
	if !ok {
		return hop, fmt.Errorf("%s has no %v address in world %q, and stands first on the way to %s", h.n.m.Nodes()[node].Name, wire.FamilyOf(to), h.n.m.Name, to)
	}
	hop.Gateway = a
	return hop, nil
}

// Neighbour is whether who has an address answers on the host's link.
func (h *Host) Neighbour(_ network.Hop, a netip.Addr) (network.Neighbour, error) {
	node, answers := h.n.firstHop(h.node, a)
	if owner, own := h.n.m.Owner(a); !own || owner != node {
		return network.Neighbour{}, nil
	}
	if answers {
		return network.Neighbour{Known: true, Resolved: true, State: "reachable"}, nil
	}
	return network.Neighbour{Known: true, State: "incomplete"}, nil
}
