package kernel

import (
	"errors"
	"fmt"

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

// Open opens, for ICMP, a raw socket or, where that is not permitted, an
// unprivileged ICMP socket. Its error wraps network.ErrNotPermitted when neither
// is. UDP and TCP need no privileges.
func (h host) Open(k network.Kind, f wire.Family, o network.SocketOptions) (network.Conn, error) {
	switch k {
	case network.TCP:
		c, err := newOpener(f, o)
		if err != nil {
			return nil, openError(k, f, err)
		}
		return c, nil
	case network.UDP:
		c, err := open(k, f, unix.SOCK_DGRAM, o)
		if err != nil {
			return nil, openError(k, f, err)
		}
		return c, nil
	case network.Whole:
		if h.kinds[0] != unix.SOCK_RAW {
			return nil, openError(k, f, unix.EPERM)
		}
		w, err := openWhole(f, o)
		if err != nil {
			return nil, openError(k, f, err)
		}
		return w, nil
	}
	if k == network.Ethernet {
		if h.kinds[0] != unix.SOCK_RAW {
			return nil, openError(k, f, unix.EPERM)
		}
		c, err := openFrames(o)
		if err != nil {
			return nil, openError(k, f, err)
		}
		return c, nil
	}
	var last error
	for _, kind := range h.kinds {
		c, err := open(k, f, kind, o)
		if err == nil {
			return c, nil
		}
		last = err
		if !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.EACCES) {
			break
		}
	}
	return nil, openError(k, f, last)
}

func openError(k network.Kind, f wire.Family, err error) error {
	switch {
	case errors.Is(err, network.ErrNoSuch), errors.Is(err, network.ErrBusy):
		return err
	case k == network.Ethernet && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)):
		return fmt.Errorf("%w to send %v: give the program the capability with 'setcap cap_net_raw+ep' on its file", network.ErrNotPermitted, k)
	case k == network.Ethernet:
		return fmt.Errorf("open a socket for %v: %w", k, err)
	case k == network.Whole && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)):
		return fmt.Errorf("%w to send %v over %v: give the program the capability with 'setcap cap_net_raw+ep' on its file", network.ErrNotPermitted, k, f)
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
		return fmt.Errorf("%w to send %v over %v: give the program the capability with 'setcap cap_net_raw+ep' "+
			"on its file, or let your group use ICMP sockets with 'sysctl net.ipv4.ping_group_range=\"0 2147483647\"'", network.ErrNotPermitted, k, f)
	case errors.Is(err, unix.EAFNOSUPPORT):
		return fmt.Errorf("this host has no %v", f)
	}
	return fmt.Errorf("open a socket for %v over %v: %w", k, f, err)
}

// Clock is this machine's.
func (host) Clock() network.Clock { return network.SystemClock{} }
