// Package circuit makes circuits of known properties out of this machine's kernel, for tests and
// benchmarks: two ends in network namespaces of their own, and between them one that forwards,
// shapes and drops. Nothing of it reaches any other network.
//
//	c, err := circuit.New(circuit.Options{There: circuit.Way{Rate: 100e6, Queue: 64 << 10}})
//	defer c.Close()
//	n := c.Near // a network.Network
package circuit

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/namespace"
	"woodlark.example/wire"
)

// Options say what the circuit is like.
type Options struct {
	There, Back Way
	MTU         int  // 1500 when 0
	FarMTU      int  // of the link to the far end behind a router; MTU when 0
	Bare        bool // the two ends share a link: nothing forwards between them
	Bridged     bool // the two ends share a link through a bridge in the middle: frames go through
}

// Way is one direction. Rates are in bits a second of frames without their FCS, which is what the
// kernel counts; its zero value lets all through.
type Way struct {
	Rate   float64 // of a shaper
	Queue  int     // bytes that wait at most, beside the bucket
	Bucket int     // bytes of the shaper's; two large frames when 0
	Police float64 // bits of IP packets a second that a policer lets through
	Burst  int     // bytes of its bucket, beside those of a second, which nftables adds
	Drop   int     // so many of 10,000 frames are dropped
}

// Addresses of both ends, of the documentation's ranges.
var (
	NearAddr = netip.MustParseAddr("192.0.2.1")
	FarAddr  = netip.MustParseAddr("198.51.100.1")
	NearSix  = netip.MustParseAddr("2001:db8:1::1")
	FarSix   = netip.MustParseAddr("2001:db8:2::1")
)

// Circuit is one.
type Circuit struct {
	Near, Far *End
	middle    *End
}

// End is a namespace, as a place in a network.
type End struct {
	ns *os.File
	network.Network
}

var _ network.Streams = (*End)(nil)

// New makes a circuit. It needs the right to make namespaces.
func New(o Options) (*Circuit, error) {
	if o.MTU == 0 {
		o.MTU = 1500
	}
	c := &Circuit{}
	for _, at := range []**End{&c.Near, &c.middle, &c.Far} {
		e, err := newEnd()
		if err != nil {
			c.Close()
			return nil, err
		}
		*at = e
	}
	if err := c.join(o); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Close ends it.
func (c *Circuit) Close() {
	for _, e := range []*End{c.Near, c.middle, c.Far} {
		if e != nil {
			_ = e.ns.Close()
		}
	}
}

func newEnd() (*End, error) {
	e := &End{Network: kernel.Host()}
	err := namespace.InThread(func() error {
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("make a network namespace: %w", err)
		}
		for name, value := range map[string]string{"net/ipv6/conf/default/accept_dad": "0", "net/ipv6/conf/all/accept_dad": "0", "net/ipv4/ip_forward": "1", "net/ipv6/conf/all/forwarding": "1",
			"net/ipv4/icmp_ratelimit": "0"} {
			_ = os.WriteFile("/proc/sys/"+name, []byte(value), 0)
		}
		lo, err := netlink.LinkByName("lo")
		if err == nil {
			err = netlink.LinkSetUp(lo)
		}
		if err != nil {
			return err
		}
		e.ns, err = os.Open("/proc/thread-self/ns/net")
		return err
	})
	if err != nil {
		return nil, err
	}
	return e, nil
}

// Enter runs f at the end, in a thread of its own. Sockets that f makes stay there.
func (e *End) Enter(f func() error) error {
	return namespace.InThread(func() error {
		if err := unix.Setns(int(e.ns.Fd()), unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("enter a network namespace: %w", err)
		}
		return f()
	})
}

// Path names the namespace as a file.
func (e *End) Path() string { return fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), e.ns.Fd()) }

// Open opens a connection there.
func (e *End) Open(k network.Kind, f wire.Family, o network.SocketOptions) (c network.Conn, err error) {
	err = e.Enter(func() error { c, err = e.Network.Open(k, f, o); return err })
	return c, err
}

// DialTCP opens a TCP connection from there.
func (e *End) DialTCP(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (c net.Conn, err error) {
	err = e.Enter(func() error { c, err = e.Network.(network.Streams).DialTCP(ctx, to, o); return err })
	return c, err
}

// ListenTCP listens there.
func (e *End) ListenTCP(at netip.AddrPort) (l net.Listener, err error) {
	err = e.Enter(func() error { l, err = e.Network.(network.Streams).ListenTCP(at); return err })
	return l, err
}

// Tune sets what can be set of a connection that stands.
func (e *End) Tune(c net.Conn, o network.StreamOptions) error {
	return e.Network.(network.Streams).Tune(c, o)
}

// Watch tells how a connection stands.
func (e *End) Watch(c net.Conn) (network.StreamState, bool) {
	return e.Network.(network.Streams).Watch(c)
}

// Interface is the name of the ends' interfaces; the middle has one to each end.
const (
	Interface = "quay0"
	toNear    = "near0"
	toFar     = "far0"
)

// join lays the links.
func (c *Circuit) join(o Options) error {
	switch {
	case o.Bare:
		return c.bare(o)
	case o.Bridged:
		return c.bridged(o)
	}
	for _, x := range []struct {
		end  *End
		name string
		side string
		v4   [2]string
		v6   [2]string
		out  Way // of the middle towards the end
		in   Way // of what comes from the end
		mtu  int
	}{
		{c.Near, toNear, "near", [2]string{"192.0.2.1/24", "192.0.2.254/24"}, [2]string{"2001:db8:1::1/64", "2001:db8:1::ff/64"}, o.Back, o.There, o.MTU},
		{c.Far, toFar, "far", [2]string{"198.51.100.1/24", "198.51.100.254/24"}, [2]string{"2001:db8:2::1/64", "2001:db8:2::ff/64"}, o.There, o.Back, cmp.Or(o.FarMTU, o.MTU)},
	} {
		err := c.middle.Enter(func() error {
			if err := pair(x.name, x.end, x.mtu); err != nil {
				return err
			}
			if err := address(x.name, x.v4[1], x.v6[1]); err != nil {
				return err
			}
			if err := shape(x.name, x.out); err != nil {
				return err
			}
			return drop(x.name, x.in)
		})
		if err == nil {
			err = x.end.Enter(func() error {
				if err := address(Interface, x.v4[0], x.v6[0]); err != nil {
					return err
				}
				return route(x.v4[1], x.v6[1])
			})
		}
		if err != nil {
			return fmt.Errorf("lay the link to the %s end: %w", x.side, err)
		}
	}
	return nil
}

// bare lays one link between the two ends; each shapes what it sends itself.
func (c *Circuit) bare(o Options) error {
	err := c.Near.Enter(func() error { return pair(Interface, c.Far, o.MTU) })
	if err == nil {
		err = c.onOneLink()
	}
	if err != nil {
		return err
	}
	err = c.Near.Enter(func() error {
		if err := shape(Interface, o.There); err != nil {
			return err
		}
		return drop(Interface, o.Back)
	})
	if err != nil {
		return err
	}
	return c.Far.Enter(func() error {
		if err := shape(Interface, o.Back); err != nil {
			return err
		}
		return drop(Interface, o.There)
	})
}

// bridged joins two links by a bridge, which shapes and drops.
func (c *Circuit) bridged(o Options) error {
	const bridge = "bridge0"
	err := c.middle.Enter(func() error {
		b := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: bridge}}
		if err := netlink.LinkAdd(b); err != nil {
			return fmt.Errorf("make a bridge: %w", err)
		}
		for _, x := range []struct {
			name    string
			end     *End
			out, in Way
		}{{toNear, c.Near, o.Back, o.There}, {toFar, c.Far, o.There, o.Back}} {
			if err := pair(x.name, x.end, o.MTU); err != nil {
				return err
			}
			l, err := netlink.LinkByName(x.name)
			if err == nil {
				err = netlink.LinkSetMasterByIndex(l, b.Attrs().Index)
			}
			if err == nil {
				err = netlink.LinkSetUp(l)
			}
			if err == nil {
				err = shape(x.name, x.out)
			}
			if err == nil {
				err = dropOf(x.name, x.in, withoutIP())
			}
			if err != nil {
				return fmt.Errorf("join %s to a bridge: %w", x.name, err)
			}
		}
		return netlink.LinkSetUp(b)
	})
	if err != nil {
		return err
	}
	return c.onOneLink()
}

// onOneLink gives both ends addresses of one link.
func (c *Circuit) onOneLink() error {
	for _, x := range []struct {
		end                 *End
		own4, own6, to, to6 string
	}{{c.Near, "192.0.2.1/24", "2001:db8:1::1/64", "198.51.100.0/24", "2001:db8:2::/64"}, {c.Far, "198.51.100.1/24", "2001:db8:2::1/64", "192.0.2.0/24", "2001:db8:1::/64"}} {
		err := x.end.Enter(func() error {
			if err := address(Interface, x.own4, x.own6); err != nil {
				return err
			}
			return routeBy(Interface, x.to, x.to6)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// pair makes a link from here to another end, whose side is called Interface.
func pair(name string, to *End, mtu int) error {
	v := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: name, MTU: mtu, TxQLen: 1000}, PeerName: Interface, PeerNamespace: netlink.NsFd(int(to.ns.Fd())), PeerMTU: uint32(mtu)}
	if err := netlink.LinkAdd(v); err != nil {
		return fmt.Errorf("make the link %s: %w", name, err)
	}
	runtime.KeepAlive(to)
	return nil
}

func address(name string, list ...string) error {
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	for _, text := range list {
		a, err := netlink.ParseAddr(text)
		if err != nil {
			return err
		}
		if a.IP.To4() == nil {
			a.Flags = unix.IFA_F_NODAD
		}
		if err := netlink.AddrAdd(l, a); err != nil {
			return fmt.Errorf("give %s the address %s: %w", name, text, err)
		}
	}
	return netlink.LinkSetUp(l)
}

// route makes gateways the way to everywhere.
func route(gateways ...string) error {
	for _, g := range gateways {
		p := netip.MustParsePrefix(g)
		r := &netlink.Route{Gw: p.Addr().AsSlice(), Dst: &net.IPNet{IP: make(net.IP, len(p.Addr().AsSlice())), Mask: make(net.IPMask, len(p.Addr().AsSlice()))}}
		if err := netlink.RouteAdd(r); err != nil {
			return fmt.Errorf("go by %s: %w", g, err)
		}
	}
	return nil
}

// routeBy sends prefixes to a link itself.
func routeBy(name string, prefixes ...string) error {
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	for _, text := range prefixes {
		_, to, err := net.ParseCIDR(text)
		if err != nil {
			return err
		}
		if err := netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: to, Scope: netlink.SCOPE_LINK}); err != nil {
			return fmt.Errorf("go to %s by %s: %w", text, name, err)
		}
	}
	return nil
}

// shape lets an interface send at a rate (a token bucket filter).
func shape(name string, w Way) error {
	if w.Rate <= 0 {
		return nil
	}
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	bucket := w.Bucket
	if bucket == 0 {
		bucket = 3200
		// What the bucket holds has to last for the kernel's own grain at high rates.
		if least := int(w.Rate / 8 / 4000); least > bucket {
			bucket = least
		}
	}
	rate := uint64(w.Rate / 8)
	q := &netlink.Tbf{QdiscAttrs: netlink.QdiscAttrs{LinkIndex: l.Attrs().Index, Handle: netlink.MakeHandle(1, 0), Parent: netlink.HANDLE_ROOT},
		Rate: rate, Limit: uint32(max(w.Queue, bucket)), Buffer: uint32(netlink.Xmittime(rate, uint32(bucket)))}
	if err := netlink.QdiscAdd(q); err != nil {
		return fmt.Errorf("shape %s: %w", name, err)
	}
	return nil
}

// drop has an interface drop what comes in: at random, and beyond a rate.
func drop(name string, w Way) error { return dropOf(name, w, udp()) }

// dropOf is the same of what matches.
func dropOf(name string, w Way, match []expr.Any) error {
	if w.Drop <= 0 && w.Police <= 0 {
		return nil
	}
	c, err := nftables.New()
	if err != nil {
		return fmt.Errorf("reach nftables: %w", err)
	}
	t := c.AddTable(&nftables.Table{Family: nftables.TableFamilyNetdev, Name: "circuit"})
	chain := c.AddChain(&nftables.Chain{Name: "in", Table: t, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookIngress, Priority: nftables.ChainPriorityFilter, Device: name})
	if w.Drop > 0 {
		c.AddRule(&nftables.Rule{Table: t, Chain: chain, Exprs: append(slices.Clone(match), &expr.Numgen{Register: 1, Type: unix.NFT_NG_RANDOM, Modulus: 10_000},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: []byte{0xff, 0xff, 0xff, 0xff}, Xor: []byte{0, 0, 0, 0}},
			&expr.Byteorder{SourceRegister: 1, DestRegister: 1, Op: expr.ByteorderHton, Len: 4, Size: 4},
			&expr.Cmp{Op: expr.CmpOpLt, Register: 1, Data: binaryutil.BigEndian.PutUint32(uint32(w.Drop))}, &expr.Verdict{Kind: expr.VerdictDrop})})
	}
	if w.Police > 0 {
		c.AddRule(&nftables.Rule{Table: t, Chain: chain, Exprs: append(slices.Clone(match),
			&expr.Limit{Type: expr.LimitTypePktBytes, Rate: uint64(w.Police / 8), Unit: expr.LimitTimeSecond, Burst: uint32(w.Burst), Over: true}, &expr.Verdict{Kind: expr.VerdictDrop})})
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("drop at %s: %w", name, err)
	}
	return nil
}

// withoutIP matches frames of a test on a link: neither IP nor what finds addresses.
func withoutIP() (list []expr.Any) {
	list = append(list, &expr.Meta{Key: expr.MetaKeyPROTOCOL, Register: 1})
	for _, kind := range []uint16{unix.ETH_P_IP, unix.ETH_P_IPV6, unix.ETH_P_ARP} {
		list = append(list, &expr.Cmp{Op: expr.CmpOpNeq, Register: 1, Data: binaryutil.BigEndian.PutUint16(kind)})
	}
	return list
}

// udp matches datagrams of both families: what both ends say to each other is TCP, and is left
// alone.
func udp() []expr.Any {
	return []expr.Any{
		&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1},
		&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{unix.IPPROTO_UDP}},
	}
}
