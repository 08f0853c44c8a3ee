// Package namespace makes network namespaces with one interface each, whose packets this
// process reads and writes: a host of a simulated network with a kernel of its own.
//
//	h, err := namespace.New(addresses, 1500)
//	err = h.Enter(func() error { … })  // sockets made there stay there
//	h.Close()
package namespace

import (
	"fmt"
	"net/netip"
	"os"
	"runtime"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// Interface is the name of the interface of each host.
const Interface = "lab0"

// Host is a namespace, and the file that its packets are read from and written to. It
// has no way out.
type Host struct {
	ns  *os.File
	tun int
}

// InThread runs f in a thread of its own, which ends with it: whatever f does to
// the thread's namespaces stays with it.
func InThread(f func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends
		done <- f()
	}()
	return <-done
}

// New makes a namespace with an interface that has the addresses and is the way to
// everywhere. It needs the right to make namespaces, and /dev/net/tun.
func New(addresses []netip.Addr, mtu int) (*Host, error) {
	h := &Host{tun: -1}
	err := InThread(func() error {
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("make a network namespace: %w", err)
		}
		var err error
		if h.ns, err = os.Open("/proc/thread-self/ns/net"); err != nil {
			return err
		}
		quiet()
		if h.tun, err = openTUN(Interface); err != nil {
			return err
		}
		return configure(addresses, mtu)
	})
	if err != nil {
		h.Close()
		return nil, err
	}
	return h, nil
}

// Packets is the descriptor that the host's packets are read from and written to,
// each as a whole; it does not block.
func (h *Host) Packets() int { return h.tun }

// Path names the namespace as a file.
func (h *Host) Path() string { return fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), h.ns.Fd()) }

// Descriptor is that of the namespace in this process.
func (h *Host) Descriptor() int { return int(h.ns.Fd()) }

// Enter runs f at the host, in a thread of its own. Sockets that f makes stay there.
func (h *Host) Enter(f func() error) error {
	return InThread(func() error {
		if err := unix.Setns(int(h.ns.Fd()), unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("enter a network namespace: %w", err)
		}
		return f()
	})
}

// Close ends the interface, and the namespace with the last program in it.
func (h *Host) Close() {
	if h.tun >= 0 {
		_ = unix.Close(h.tun)
	}
	if h.ns != nil {
		_ = h.ns.Close()
	}
}

// quiet keeps the kernel from sending of its own accord, and lets programs
// without privileges ping. What cannot be set is left.
func quiet() {
	for name, value := range map[string]string{
		"net/ipv6/conf/default/addr_gen_mode": "1",
		"net/ipv6/conf/default/accept_dad":    "0",
		"net/ipv6/conf/default/accept_ra":     "0",
		"net/ipv4/ping_group_range":           "0 2147483647",
	} {
		_ = os.WriteFile("/proc/sys/"+name, []byte(value), 0)
	}
}

// openTUN makes an interface in the thread's namespace.
func openTUN(name string) (int, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, fmt.Errorf("open /dev/net/tun: %w", err)
	}
	request, err := unix.NewIfreq(name)
	if err == nil {
		request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
		err = unix.IoctlIfreq(fd, unix.TUNSETIFF, request)
	}
	if err != nil {
		_ = unix.Close(fd)
		return -1, fmt.Errorf("make the interface %s: %w", name, err)
	}
	return fd, nil
}

// configure gives the interface its addresses and makes it the way to
// everywhere.
func configure(addresses []netip.Addr, mtu int) error {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return fmt.Errorf("find the loopback interface: %w", err)
	}
	if err := netlink.LinkSetUp(lo); err != nil {
		return fmt.Errorf("set the loopback interface up: %w", err)
	}
	tun, err := netlink.LinkByName(Interface)
	if err != nil {
		return fmt.Errorf("find %s: %w", Interface, err)
	}
	if err := netlink.LinkSetMTU(tun, mtu); err != nil {
		return fmt.Errorf("set the MTU of %s to %d: %w", Interface, mtu, err)
	}
	// Room for all that a fast TCP has under way: what found none would be lost on no link.
	if err := netlink.LinkSetTxQLen(tun, 20000); err != nil {
		return fmt.Errorf("set the queue of %s: %w", Interface, err)
	}
	if err := netlink.LinkSetUp(tun); err != nil {
		return fmt.Errorf("set %s up: %w", Interface, err)
	}
	for _, a := range addresses {
		parsed, err := netlink.ParseAddr(netip.PrefixFrom(a, a.BitLen()).String())
		if err != nil {
			return err
		}
		parsed.Flags = unix.IFA_F_NODAD
		if a.Is4() {
			parsed.Flags = 0
		}
		if err := netlink.AddrAdd(tun, parsed); err != nil {
			return fmt.Errorf("give %s the address %s: %w", Interface, a, err)
		}
		family := netlink.FAMILY_V4
		everywhere := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
		if a.Is6() {
			family, everywhere = netlink.FAMILY_V6, netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		all, err := netlink.ParseIPNet(everywhere.String())
		if err != nil {
			return err
		}
		route := &netlink.Route{LinkIndex: tun.Attrs().Index, Dst: all, Family: family, Scope: netlink.SCOPE_LINK}
		if err := netlink.RouteReplace(route); err != nil {
			return fmt.Errorf("send all through %s: %w", Interface, err)
		}
	}
	return nil
}
