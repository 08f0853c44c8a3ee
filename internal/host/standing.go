package host

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// Standing is a machine's own standing.
type Standing struct {
	Host       string      `json:"host"`
	Interfaces []Interface `json:"interfaces"`
	Gateways   []Gateway   `json:"gateways"`
	Neighbours []Neighbour `json:"neighbours"`
	Resolvers  []string    `json:"resolvers"`
	Search     []string    `json:"search"`
	Clock      Clock       `json:"clock"`
	Sockets    []Socket    `json:"sockets"`
}

// Interface is one interface.
type Interface struct {
	Name      string   `json:"name"`
	Up        bool     `json:"up"`        // by its administrator
	Carrier   string   `json:"carrier"`   // the link's own state: up, down, unknown …
	MTU       int      `json:"mtu_bytes"` //
	SpeedBPS  *float64 `json:"speed_bps"` // absent where the driver tells none
	Hardware  string   `json:"hardware"`  // address; empty where there is none
	Addresses []string `json:"addresses"` // with their prefix lengths
	// The driver's counters since it started.
	ReceiveErrors uint64 `json:"receive_errors"`
	SendErrors    uint64 `json:"send_errors"`
	ReceiveDrops  uint64 `json:"receive_drops"`
	SendDrops     uint64 `json:"send_drops"`
}

// Gateway is a default route.
type Gateway struct {
	Family    int    `json:"family"`
	Address   string `json:"address"` // empty where the link itself leads everywhere
	Interface string `json:"interface"`
	Metric    int    `json:"metric"`
	// Neighbour is the state of its ARP or ND entry; empty when there is none yet.
	Neighbour string `json:"neighbour"`
}

// Neighbour is an ARP (RFC 826) or neighbour discovery (RFC 4861 §7.3.2) entry.
type Neighbour struct {
	Address   string `json:"address"`
	Hardware  string `json:"hardware"`
	Interface string `json:"interface"`
	State     string `json:"state"`
}

// Clock is how the kernel sees its own clock (adjtimex).
type Clock struct {
	Known        bool     `json:"known"` // false where the kernel does not tell
	Synchronised bool     `json:"synchronised"`
	OffsetMs     *float64 `json:"offset_ms"`    // that is being taken out; absent unless synchronised
	ErrorMs      *float64 `json:"max_error_ms"` // at most, as it believes; the same
}

// Read reads the standing of this machine, as the calling thread sees it.
func Read() (Standing, error) {
	s := Standing{Clock: clock(), Sockets: sockets(), Interfaces: []Interface{}, Gateways: []Gateway{}, Neighbours: []Neighbour{}}
	var err error
	if s.Host, err = os.Hostname(); err != nil {
		return s, fmt.Errorf("read the host's name: %w", err)
	}
	links, err := netlink.LinkList()
	if err != nil {
		return s, fmt.Errorf("list the interfaces: %w", err)
	}
	names := map[int]string{}
	for _, l := range links {
		names[l.Attrs().Index] = l.Attrs().Name
		i, err := readInterface(l)
		if err != nil {
			return s, err
		}
		s.Interfaces = append(s.Interfaces, i)
	}
	if s.Neighbours, err = neighbours(names); err != nil {
		return s, err
	}
	if s.Gateways, err = gateways(names, s.Neighbours); err != nil {
		return s, err
	}
	s.Resolvers, s.Search = resolvers("/etc/resolv.conf")
	return s, nil
}

func readInterface(l netlink.Link) (Interface, error) {
	a := l.Attrs()
	i := Interface{Name: a.Name, Up: a.Flags&1 != 0, Carrier: a.OperState.String(), MTU: a.MTU, Hardware: a.HardwareAddr.String(), Addresses: []string{}}
	if a.Statistics != nil {
		i.ReceiveErrors, i.SendErrors, i.ReceiveDrops, i.SendDrops = a.Statistics.RxErrors, a.Statistics.TxErrors, a.Statistics.RxDropped, a.Statistics.TxDropped
	}
	// Interfaces without a device behind them name a speed that they do not have.
	device := filepath.Join("/sys/class/net", a.Name)
	if _, err := os.Stat(filepath.Join(device, "device")); err == nil {
		i.SpeedBPS = speed(filepath.Join(device, "speed"))
	}

	addresses, err := netlink.AddrList(l, netlink.FAMILY_ALL)
	if err != nil {
		return i, fmt.Errorf("list the addresses of %s: %w", a.Name, err)
	}
	for _, x := range addresses {
		i.Addresses = append(i.Addresses, x.IPNet.String())
	}
	return i, nil
}

// speed reads what the driver tells, in Mbit/s; nil when it tells none.
func speed(file string) *float64 {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	mbits, err := strconv.ParseFloat(strings.TrimSpace(string(data)), 64)
	if err != nil || mbits <= 0 {
		return nil
	}
	bps := mbits * 1e6
	return &bps
}

// gateways are the default routes, those that are used first.
func gateways(names map[int]string, known []Neighbour) ([]Gateway, error) {
	out := []Gateway{}
	for family, f := range map[int]int{4: netlink.FAMILY_V4, 6: netlink.FAMILY_V6} {
		routes, err := netlink.RouteList(nil, f)
		if err != nil {
			return nil, fmt.Errorf("list the IPv%d routes: %w", family, err)
		}
		for _, r := range routes {
			if r.Dst != nil && !r.Dst.IP.IsUnspecified() || r.Dst != nil && r.Dst.IP.IsUnspecified() && !everywhere(r.Dst.String()) {
				continue
			}
			g := Gateway{Family: family, Interface: names[r.LinkIndex], Metric: r.Priority}
			if r.Gw != nil {
				g.Address = r.Gw.String()
			}
			for _, n := range known {
				if n.Address == g.Address && n.Interface == g.Interface {
					g.Neighbour = n.State
				}
			}
			out = append(out, g)
		}
	}
	slices.SortFunc(out, func(a, b Gateway) int { return (a.Family-b.Family)<<24 + a.Metric - b.Metric })
	return out, nil
}

func everywhere(prefix string) bool {
	p, err := netip.ParsePrefix(prefix)
	return err == nil && p.Bits() == 0
}

var neighbourStates = map[int]string{
	netlink.NUD_INCOMPLETE: "incomplete", netlink.NUD_REACHABLE: "reachable", netlink.NUD_STALE: "stale", netlink.NUD_DELAY: "delay",
	netlink.NUD_PROBE: "probe", netlink.NUD_FAILED: "failed", netlink.NUD_NOARP: "none needed", netlink.NUD_PERMANENT: "permanent",
}

func neighbours(names map[int]string) ([]Neighbour, error) {
	out := []Neighbour{}
	list, err := netlink.NeighList(0, netlink.FAMILY_ALL)
	if err != nil {
		return nil, fmt.Errorf("list the neighbours: %w", err)
	}
	for _, n := range list {
		a, ok := netip.AddrFromSlice(n.IP)
		if !ok || a.Unmap().IsMulticast() || n.State == netlink.NUD_NOARP {
			continue
		}
		out = append(out, Neighbour{Address: a.Unmap().String(), Hardware: n.HardwareAddr.String(), Interface: names[n.LinkIndex], State: neighbourStates[n.State]})
	}
	return out, nil
}

// resolvers reads what /etc/resolv.conf says.
func resolvers(file string) (servers, search []string) {
	servers, search = []string{}, []string{}
	data, err := os.ReadFile(file)
	if err != nil {
		return servers, search
	}
	for _, line := range strings.Split(string(data), "\n") {
		fields := strings.Fields(line)
		switch {
		case len(fields) < 2:
		case fields[0] == "nameserver":
			servers = append(servers, fields[1])
		case fields[0] == "search" || fields[0] == "domain":
			search = fields[1:]
		}
	}
	return servers, search
}

func clock() Clock {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	if err != nil {
		return Clock{}
	}
	const notInStep, nanoseconds = 0x40, 0x2000 // STA_UNSYNC, STA_NANO
	c := Clock{Known: true, Synchronised: state != 5 && t.Status&notInStep == 0}
	if !c.Synchronised {
		return c
	}
	most, offset := float64(t.Maxerror)/1e3, float64(t.Offset)/1e3
	if t.Status&nanoseconds != 0 {
		offset /= 1e3
	}
	c.ErrorMs, c.OffsetMs = &most, &offset
	return c
}

// Way is how this machine would send to a target.
type Way struct {
	Target    string `json:"target"`
	Source    string `json:"source"`
	Interface string `json:"interface"`
	Gateway   string `json:"gateway"` // empty where the target is on the link
	MTU       int    `json:"mtu_bytes"`
}

// ErrNoWay is wrapped when this machine knows no way to a target.
var ErrNoWay = errors.New("no route from here")

// Toward is how this machine would send to an address.
func Toward(target netip.Addr) (Way, error) {
	w := Way{Target: target.String()}
	routes, err := netlink.RouteGet(target.AsSlice())
	if err != nil || len(routes) == 0 {
		return w, fmt.Errorf("%s: %w; see the gateways of 'woodlark here'", target, ErrNoWay)
	}
	r := routes[0]
	if r.Src != nil {
		w.Source = r.Src.String()
	}
	if r.Gw != nil {
		w.Gateway = r.Gw.String()
	}
	if l, err := netlink.LinkByIndex(r.LinkIndex); err == nil {
		w.Interface, w.MTU = l.Attrs().Name, l.Attrs().MTU
	}
	if r.MTU > 0 {
		w.MTU = r.MTU
	}
	return w, nil
}
