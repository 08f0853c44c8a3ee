package kernel

import (
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

const (
	receiveBuffer = 4 << 20
	packetSize    = 2048
	controlSize   = 512
	stampDelay    = 3 * time.Millisecond
)

type conn struct {
	family wire.Family
	raw    bool
	fd     int
	bell   int // an eventfd that Close rings
	closed atomic.Bool
	inward sync.Mutex   // held by Receive; Close waits for it
	mu     sync.RWMutex // held for reading by Send, for writing by Close

	slots   []slot
	control []byte
}

// slot is the memory behind one packet of Receive.
type slot struct{ data [packetSize]byte }

func open(f wire.Family, kind int, o network.SocketOptions) (*conn, error) {
	domain, protocol := unix.AF_INET, unix.IPPROTO_ICMP
	if f == wire.IPv6 {
		domain, protocol = unix.AF_INET6, unix.IPPROTO_ICMPV6
	}
	fd, err := unix.Socket(domain, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, protocol)
	if err != nil {
		return nil, err
	}
	c := &conn{family: f, raw: kind == unix.SOCK_RAW, fd: fd, control: make([]byte, controlSize)}
	if err := c.configure(o); err != nil {
		unix.Close(fd)
		return nil, err
	}
	if c.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		unix.Close(fd)
		return nil, err
	}
	// The kernel begins to stamp arriving packets a moment after the first
	// socket asks for it: without this the first probe would go unstamped.
	time.Sleep(stampDelay)
	return c, nil
}

func (c *conn) configure(o network.SocketOptions) error {
	stamps := unix.SOF_TIMESTAMPING_SOFTWARE | unix.SOF_TIMESTAMPING_RX_SOFTWARE | unix.SOF_TIMESTAMPING_TX_SOFTWARE
	// A kernel that cannot stamp leaves us with user space's times, and the
	// reading says so.
	_ = unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPING, stamps)
	if unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer) != nil {
		_ = unix.SetsockoptInt(c.fd, unix.SOL_SOCKET, unix.SO_RCVBUF, receiveBuffer)
	}
	if c.family == wire.IPv6 {
		return c.configure6(o)
	}
	return c.configure4(o)
}

func (c *conn) configure4(o network.SocketOptions) error {
	if c.raw {
		// Without a filter a raw socket gets a copy of every ICMP message of
		// the host: let in echo replies, unreachable, TTL exceeded and
		// parameter problem.
		const solRaw, icmpFilter = 255, 1
		block := ^uint32(1<<0 | 1<<3 | 1<<11 | 1<<12)
		if err := unix.SetsockoptInt(c.fd, solRaw, icmpFilter, int(int32(block))); err != nil {
			return fmt.Errorf("filter ICMP types: %w", err)
		}
	}
	_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_RECVERR, 1)
	_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_RECVTTL, 1)
	if o.TTL > 0 {
		if err := unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_TTL, o.TTL); err != nil {
			return fmt.Errorf("set TTL %d: %w", o.TTL, err)
		}
	}
	if o.DSCP > 0 {
		if err := unix.SetsockoptInt(c.fd, unix.IPPROTO_IP, unix.IP_TOS, int(o.DSCP)<<2); err != nil {
			return fmt.Errorf("set DSCP %d: %w", o.DSCP, err)
		}
	}
	return nil
}

func (c *conn) configure6(o network.SocketOptions) error {
	if c.raw {
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
	}
	_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_RECVERR, 1)
	_ = unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_RECVHOPLIMIT, 1)
	if o.TTL > 0 {
		if err := unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_UNICAST_HOPS, o.TTL); err != nil {
			return fmt.Errorf("set hop limit %d: %w", o.TTL, err)
		}
	}
	if o.DSCP > 0 {
		if err := unix.SetsockoptInt(c.fd, unix.IPPROTO_IPV6, unix.IPV6_TCLASS, int(o.DSCP)<<2); err != nil {
			return fmt.Errorf("set DSCP %d: %w", o.DSCP, err)
		}
	}
	return nil
}

func (c *conn) Exact() bool   { return false }
func (c *conn) FixedID() bool { return !c.raw }

// Send hands one message to the kernel. An error that an earlier message
// brought back is not this one's: it is taken off the socket and sending tried
// once more.
func (c *conn) Send(to netip.Addr, message []byte) (time.Time, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.closed.Load() {
		return time.Now(), errors.New("the socket is closed")
	}
	var address unix.Sockaddr
	if c.family == wire.IPv6 {
		address = &unix.SockaddrInet6{Addr: to.As16(), ZoneId: zoneOf(to)}
	} else {
		address = &unix.SockaddrInet4{Addr: to.Unmap().As4()}
	}
	var sent time.Time
	var err error
	for range 3 {
		sent = time.Now()
		err = unix.Sendto(c.fd, message, 0, address)
		if !errors.Is(err, unix.EHOSTUNREACH) && !errors.Is(err, unix.ECONNREFUSED) && !errors.Is(err, unix.EINTR) {
			break
		}
	}
	if err != nil {
		return sent, fmt.Errorf("send to %s: %w", to, err)
	}
	return sent, nil
}

// Receive waits for packets. The answers are read before the error queue, which
// holds the departures, and given after it: so a departure is never behind the
// answer to it.
func (c *conn) Receive(packets []network.Packet) (int, error) {
	c.inward.Lock()
	defer c.inward.Unlock()
	for len(c.slots) < len(packets) {
		c.slots = append(c.slots, slot{})
	}
	poll := []unix.PollFd{{Fd: int32(c.fd), Events: unix.POLLIN}, {Fd: int32(c.bell), Events: unix.POLLIN}}
	for {
		if c.closed.Load() {
			return 0, errors.New("the socket is closed")
		}
		if _, err := unix.Poll(poll, -1); err != nil && !errors.Is(err, unix.EINTR) {
			return 0, fmt.Errorf("wait for ICMP: %w", err)
		}
		// The first half is for answers, the second for what the error queue
		// tells of them.
		half := len(packets) / 2
		answers := c.read(packets[:half], c.slots[:half], 0)
		told := c.read(packets[half:], c.slots[half:], unix.MSG_ERRQUEUE)
		if answers+told == 0 {
			continue
		}
		rotated := make([]network.Packet, 0, answers+told)
		rotated = append(rotated, packets[half:half+told]...)
		rotated = append(rotated, packets[:answers]...)
		return copy(packets, rotated), nil
	}
}

func (c *conn) read(packets []network.Packet, slots []slot, flags int) int {
	n := 0
	for tries := 0; n < len(packets) && tries < 2*len(packets); tries++ {
		data := slots[n].data[:]
		size, controlled, _, from, err := unix.Recvmsg(c.fd, data, c.control, flags|unix.MSG_DONTWAIT)
		if err != nil {
			if errors.Is(err, unix.EAGAIN) {
				break
			}
			continue // a pending error of an earlier message, now taken off
		}
		p := network.Packet{Seen: time.Now(), Data: data[:size]}
		p.Peer = addressOf(from)
		if c.parse(&p, c.control[:controlled], flags != 0) {
			packets[n] = p
			n++
		}
	}
	return n
}

func (c *conn) Close() error {
	if c.closed.Swap(true) {
		return nil
	}
	one := [8]byte{1}
	_, _ = unix.Write(c.bell, one[:])
	c.inward.Lock()
	defer c.inward.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	return errors.Join(unix.Close(c.fd), unix.Close(c.bell))
}
