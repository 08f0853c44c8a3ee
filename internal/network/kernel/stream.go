package kernel

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
)

// Streams are connections by this host's TCP, or by that of the network namespace which
// the calling thread is in.
func Streams() network.Streams { return host{} }

// DialTCP opens a connection.
func (host) DialTCP(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (net.Conn, error) {
	d := net.Dialer{Timeout: 10 * time.Second, Control: func(_, _ string, c syscall.RawConn) error { return tune(c, to.Addr().Is6(), o) }}
	if o.Source.IsValid() {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(o.Source, 0))
	}
	c, err := d.DialContext(ctx, "tcp", to.String())
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", to, err)
	}
	return c, nil
}

// ListenTCP listens at an address of this host.
func (host) ListenTCP(at netip.AddrPort) (net.Listener, error) {
	l, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(at))
	if err != nil {
		return nil, fmt.Errorf("listen at %s: %w", at, err)
	}
	return l, nil
}

// Tune sets options of a connection that stands.
func (host) Tune(c net.Conn, o network.StreamOptions) error {
	s, ok := c.(syscall.Conn)
	if !ok {
		return errors.New("not a connection of this host")
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return fmt.Errorf("tune a connection: %w", err)
	}
	far, _ := netip.ParseAddrPort(c.RemoteAddr().String())
	return tune(raw, far.Addr().Is6(), o)
}

func tune(c syscall.RawConn, six bool, o network.StreamOptions) error {
	var problem error
	set := func(what string, err error) {
		if err != nil && problem == nil {
			problem = fmt.Errorf("set %s: %w", what, err)
		}
	}
	err := c.Control(func(fd uintptr) {
		if o.Congestion != "" {
			if err := unix.SetsockoptString(int(fd), unix.IPPROTO_TCP, unix.TCP_CONGESTION, o.Congestion); err != nil {
				problem = fmt.Errorf("%w: this host has no congestion control %q; those it has are in /proc/sys/net/ipv4/tcp_available_congestion_control", network.ErrNoSuch, o.Congestion)
				return
			}
		}
		if o.Window > 0 {
			// The kernel sets twice what is asked for aside, for its own use.
			set("the window", unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, o.Window))
			set("the window", unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_SNDBUF, o.Window))
		}
		if o.DSCP > 0 {
			if six {
				set("the DSCP", unix.SetsockoptInt(int(fd), unix.IPPROTO_IPV6, unix.IPV6_TCLASS, int(o.DSCP)<<2))
			} else {
				set("the DSCP", unix.SetsockoptInt(int(fd), unix.IPPROTO_IP, unix.IP_TOS, int(o.DSCP)<<2))
			}
		}
	})
	return errors.Join(err, problem)
}

// Watch reads how a connection stands.
func (host) Watch(c net.Conn) (state network.StreamState, ok bool) {
	s, is := c.(syscall.Conn)
	if !is {
		return state, false
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return state, false
	}
	_ = raw.Control(func(fd uintptr) {
		i, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO)
		if err != nil {
			return
		}
		us := func(n uint64) time.Duration { return time.Duration(n) * time.Microsecond }
		state = network.StreamState{RTT: us(uint64(i.Rtt)), LeastRTT: us(uint64(i.Min_rtt)), Sent: int64(i.Segs_out), Retransmits: int64(i.Total_retrans),
			Window: int64(i.Snd_cwnd) * int64(i.Snd_mss), Segment: int(i.Snd_mss), Left: int64(i.Bytes_sent) - int64(i.Bytes_retrans), Busy: us(i.Busy_time), ByReceiver: us(i.Rwnd_limited), ByBuffer: us(i.Sndbuf_limited)}
		state.Congestion, _ = unix.GetsockoptString(int(fd), unix.IPPROTO_TCP, unix.TCP_CONGESTION)
		ok = true
	})
	return state, ok
}
