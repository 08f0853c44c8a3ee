package host

import (
	"encoding/json"
	"fmt"
	"net/netip"

	"github.com/vishvananda/netlink"

	"woodlark.example/internal/network"
)

// Ground tells, of this machine, how it sends and what it knows of its links.
type Ground struct{}

// Standing is what Read finds, as JSON.
func (Ground) Standing() (json.RawMessage, error) {
	s, err := Read()
	if err != nil {
		return nil, err
	}
	return json.Marshal(s)
}

// FirstHop is how this machine would send to an address.
func (Ground) FirstHop(to netip.Addr) (network.Hop, error) {
	w, err := Toward(to)
	if err != nil {
		return network.Hop{}, err
	}
	hop := network.Hop{Interface: w.Interface, MTU: w.MTU}
	hop.Source, _ = netip.ParseAddr(w.Source)
	if w.Gateway != "" {
		if hop.Gateway, err = netip.ParseAddr(w.Gateway); err != nil {
			return hop, fmt.Errorf("read the gateway to %s: %w", to, err)
		}
	}
	return hop, nil
}

// Neighbour is the kernel's entry of an address at the hop's interface.
func (Ground) Neighbour(hop network.Hop, a netip.Addr) (network.Neighbour, error) {
	l, err := netlink.LinkByName(hop.Interface)
	if err != nil {
		return network.Neighbour{}, fmt.Errorf("find interface %s: %w", hop.Interface, err)
	}
	if l.Attrs().Flags.String() != "" && len(l.Attrs().HardwareAddr) == 0 || a.IsLoopback() {
		return network.Neighbour{Known: true, Resolved: true, State: "none needed"}, nil // the link has no hardware addresses
	}
	list, err := neighbours(map[int]string{l.Attrs().Index: hop.Interface})
	if err != nil {
		return network.Neighbour{}, err
	}
	for _, n := range list {
		if n.Address == a.WithZone("").String() && n.Interface == hop.Interface {
			return network.Neighbour{Known: true, Resolved: n.Hardware != "" && n.State != "failed" && n.State != "incomplete", State: n.State, Hardware: n.Hardware}, nil
		}
	}
	return network.Neighbour{}, nil
}

// Reachable are the hardware addresses of the neighbours that answered on their
// link lately.
func (Ground) Reachable() (map[netip.Addr]string, error) {
	list, err := neighbours(map[int]string{})
	if err != nil {
		return nil, err
	}
	known := map[netip.Addr]string{}
	for _, n := range list {
		if a, err := netip.ParseAddr(n.Address); err == nil && n.State == "reachable" && n.Hardware != "" {
			known[a] = n.Hardware
		}
	}
	return known, nil
}

// Prefixes are those of this machine's own links.
func (Ground) Prefixes() ([]netip.Prefix, error) {
	addresses, err := netlink.AddrList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return nil, fmt.Errorf("list the addresses: %w", err)
	}
	var list []netip.Prefix
	for _, a := range addresses {
		if ones, _ := a.Mask.Size(); a.IP != nil {
			if addr, ok := netip.AddrFromSlice(a.IP); ok {
				list = append(list, netip.PrefixFrom(addr.Unmap(), ones).Masked())
			}
		}
	}
	return list, nil
}
