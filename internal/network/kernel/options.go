package kernel

import (
	"errors"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// IP_RECVERR_RFC4884 and IPV6_RECVERR_RFC4884 of Linux.
const (
	recvErrExtensions4 = 26
	recvErrExtensions6 = 31
)

// configure sets what an ICMP or UDP socket needs.
func (c *conn) configure(o network.SocketOptions) error {
	stamps := unix.SOF_TIMESTAMPING_SOFTWARE | unix.SOF_TIMESTAMPING_RX_SOFTWARE
	buffer := bulkBuffer
	if !o.Bulk {
		stamps |= unix.SOF_TIMESTAMPING_TX_SOFTWARE
		buffer = receiveBuffer
	}
	// A kernel that cannot stamp leaves us with user space's times, and the
	// reading says so.
	if !o.Untimed {
		_ = unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPING, stamps)
	}
	if unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, buffer) != nil {
		_ = unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_RCVBUF, buffer)
	}
	switch {
	case o.Bulk && c.raw: // it gets errors as messages, and looks at no TTL
	case o.Frames:
		// Without errors told one by one the kernel does not tell of its own queue either.
		if unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_SNDBUFFORCE, framesBuffer) != nil {
			_ = unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_SNDBUF, framesBuffer)
		}
	case c.family == wire.IPv6:
		_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_RECVERR, 1)
		_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_RECVHOPLIMIT, 1)
	default:
		_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_RECVERR, 1)
		_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_RECVTTL, 1)
	}
	if c.kind == network.UDP && (!o.Bulk || o.Frames) {
		_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_RECVTOS, 1)
		if c.family == wire.IPv6 {
			_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_RECVTCLASS, 1)
		}
	}
	if o.Extensions && c.kind == network.UDP {
		// A kernel before 5.9 has none: then labels are not known.
		if c.family == wire.IPv6 {
			_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, recvErrExtensions6, 1)
		} else {
			_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, recvErrExtensions4, 1)
		}
	}
	if c.raw {
		if err := c.filter(); err != nil {
			return err
		}
	}
	return leave(c.fd, c.family, o)
}

// filter keeps a raw socket from getting a copy of every ICMP message of the
// host: it lets in echo replies and errors.
func (c *conn) filter() error {
	if c.family == wire.IPv6 {
		var block unix.ICMPv6Filter
		for i := range block.Data {
			block.Data[i] = ^uint32(0)
		}
		for _, kind := range []int{1, 2, 3, 4, 129} { // errors, echo reply
			block.Data[kind/32] &^= 1 << (kind % 32)
		}
		if err := unix.SetsockoptICMPv6Filter(c.fd, unix.IPPROTO_ICMPV6, 1, &block); err != nil {
			return fmt.Errorf("filter ICMPv6 types: %w", err)
		}
		return nil
	}
	const solRaw, icmpFilter = 255, 1
	block := ^uint32(1<<0 | 1<<3 | 1<<11 | 1<<12) // echo reply, unreachable, time exceeded, parameter problem
	if err := unix.SetsockoptInt(c.fd, solRaw, icmpFilter, int(int32(block))); err != nil {
		return fmt.Errorf("filter ICMP types: %w", err)
	}
	return nil
}

// leave sets how what a socket sends leaves this host.
func leave(fd int, f wire.Family, o network.SocketOptions) error {
	level, ttl, class, discover := unix.IPPROTO_IP, unix.IP_TTL, unix.IP_TOS, unix.IP_MTU_DISCOVER
	if f == wire.IPv6 {
		level, ttl, class, discover = unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, unix.IPV6_TCLASS, unix.IPV6_MTU_DISCOVER
	}
	set := func(what string, option, value int) error {
		if err := unix.SetsockoptInt(fd, level, option, value); err != nil {
			return fmt.Errorf("set %s: %w", what, err)
		}
		return nil
	}
	var errs []error
	if o.TTL > 0 {
		errs = append(errs, set(fmt.Sprintf("TTL %d", o.TTL), ttl, o.TTL))
	}
	if o.DSCP > 0 {
		errs = append(errs, set(fmt.Sprintf("DSCP %d", o.DSCP), class, int(o.DSCP)<<2))
	}
	if o.DontFragment {
		// "Probe": never cut up, and not held back by what the kernel believes
		// of the path.
		errs = append(errs, set("don't fragment", discover, unix.IP_PMTUDISC_PROBE))
		if f == wire.IPv6 {
			errs = append(errs, set("don't fragment", unix.IPV6_DONTFRAG, 1))
		}
	}
	if o.Interface != "" {
		errs = append(errs, useInterface(fd, o.Interface))
	}
	if o.Source.IsValid() || o.Port > 0 {
		errs = append(errs, useSource(fd, f, o))
	}
	if o.Peer.IsValid() {
		if err := unix.Connect(fd, sockaddr(f, o.Peer)); err != nil {
			errs = append(errs, fmt.Errorf("send to %s: %w", o.Peer, err))
		}
	}
	return errors.Join(errs...)
}

// sockaddr is an address for calls that take one.
func sockaddr(f wire.Family, a netip.AddrPort) unix.Sockaddr {
	if f == wire.IPv6 {
		return &unix.SockaddrInet6{Addr: a.Addr().As16(), ZoneId: zoneOf(a.Addr()), Port: int(a.Port())}
	}
	return &unix.SockaddrInet4{Addr: a.Addr().Unmap().As4(), Port: int(a.Port())}
}

func useInterface(fd int, name string) error {
	i, err := net.InterfaceByName(name)
	switch {
	case err != nil:
		return fmt.Errorf("%w: there is no interface %q; 'woodlark here' lists them", network.ErrNoSuch, name)
	case i.Flags&net.FlagUp == 0:
		return fmt.Errorf("%w: interface %q is down", network.ErrNoSuch, name)
	}
	if err := unix.SetsockoptString(fd, unix.SOL_SOCKET, unix.SO_BINDTODEVICE, name); err != nil {
		return fmt.Errorf("send by interface %s: %w", name, err)
	}
	return nil
}

func useSource(fd int, f wire.Family, o network.SocketOptions) error {
	source := o.Source
	switch {
	case !source.IsValid() && f == wire.IPv6:
		source = netip.IPv6Unspecified()
	case !source.IsValid():
		source = netip.IPv4Unspecified()
	case wire.FamilyOf(source) != f:
		return fmt.Errorf("%w: source %s is not of %v", network.ErrNoSuch, source, f)
	}
	if f == wire.IPv6 {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_V6ONLY, 1)
	}
	if o.Shared {
		if err := unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEPORT, 1); err != nil {
			return fmt.Errorf("share port %d: %w", o.Port, err)
		}
	}
	switch err := unix.Bind(fd, sockaddr(f, netip.AddrPortFrom(source, o.Port))); {
	case errors.Is(err, unix.EADDRNOTAVAIL):
		return fmt.Errorf("%w: %s is not an address of this host; 'woodlark here' lists them", network.ErrNoSuch, source)
	case errors.Is(err, unix.EADDRINUSE):
		return fmt.Errorf("%w: port %d is in use by another program; choose another", network.ErrNoSuch, o.Port)
	case errors.Is(err, unix.EACCES):
		return fmt.Errorf("%w: port %d is for privileged programs; choose one from 1024 on", network.ErrNoSuch, o.Port)
	case err != nil:
		return fmt.Errorf("send from %s: %w", netip.AddrPortFrom(source, o.Port), err)
	}
	return nil
}
