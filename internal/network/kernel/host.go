package kernel

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

type host struct{ kinds []int }

// Host is this machine's network.
func Host() network.Network { return host{[]int{unix.SOCK_RAW, unix.SOCK_DGRAM}} }

// Unprivileged is this machine's network by the sockets that need no
// privileges.
func Unprivileged() network.Network { return host{[]int{unix.SOCK_DGRAM}} }

// OpenICMP opens a raw socket or, where that is not permitted, an unprivileged
// ICMP socket. Its error wraps network.ErrNotPermitted when neither is.
func (h host) OpenICMP(f wire.Family, o network.SocketOptions) (network.Conn, error) {
	var last error
	for _, kind := range h.kinds {
		c, err := open(f, kind, o)
		if err == nil {
			return c, nil
		}
		last = err
		if !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.EACCES) {
			break
		}
	}
	switch {
	case errors.Is(last, unix.EPERM), errors.Is(last, unix.EACCES):
		return nil, fmt.Errorf("%w to send ICMP over %v: give the program the capability with 'setcap cap_net_raw+ep' "+
			"on its file, or let your group use ICMP sockets with 'sysctl net.ipv4.ping_group_range=\"0 2147483647\"'", network.ErrNotPermitted, f)
	case errors.Is(last, unix.EAFNOSUPPORT):
		return nil, fmt.Errorf("this host has no %v", f)
	}
	return nil, fmt.Errorf("open an ICMP socket for %v: %w", f, last)
}

// Lookup asks the system's resolver.
func (host) Lookup(ctx context.Context, name string, f wire.Family) ([]netip.Addr, error) {
	kind := map[wire.Family]string{0: "ip", wire.IPv4: "ip4", wire.IPv6: "ip6"}[f]
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, kind, name)
	if err != nil {
		var dns *net.DNSError
		if errors.As(err, &dns) && dns.IsNotFound {
			return nil, fmt.Errorf("%q: %w", name, network.ErrNoName)
		}
		return nil, fmt.Errorf("look up %q: %w", name, err)
	}
	for i := range addrs {
		addrs[i] = addrs[i].Unmap()
	}
	return addrs, nil
}
