package kernel

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// opener opens TCP connections as probes: each is made by the kernel, which
// times the handshake itself, and closed as soon as it stands.
type opener struct {
	family  wire.Family
	options network.SocketOptions
	poll    int // an epoll
	bell    int
	closed  atomic.Bool
	inward  sync.Mutex

	mu     sync.Mutex
	asking map[int]*opening // by socket
	done   []network.Packet // that ended at once
}

type opening struct {
	to      netip.AddrPort
	message []byte
	sent    time.Time
}

func newOpener(f wire.Family, o network.SocketOptions) (*opener, error) {
	c := &opener{family: f, options: o, asking: map[int]*opening{}}
	// What the options ask for is tried once, so that it is told before probes.
	fd, err := c.socket()
	if err != nil {
		return nil, err
	}
	_ = unix.Close(fd)
	if c.poll, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("wait for TCP: %w", err)
	}
	if c.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err == nil {
		err = unix.EpollCtl(c.poll, unix.EPOLL_CTL_ADD, c.bell, &unix.EpollEvent{Events: unix.EPOLLIN, Fd: int32(c.bell)})
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("wait for TCP: %w", err), unix.Close(c.poll))
	}
	return c, nil
}

func (c *opener) socket() (int, error) {
	domain := unix.AF_INET
	if c.family == wire.IPv6 {
		domain = unix.AF_INET6
	}
	fd, err := unix.Socket(domain, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, unix.IPPROTO_TCP)
	switch {
	case errors.Is(err, unix.EMFILE), errors.Is(err, unix.ENFILE):
		return 0, fmt.Errorf("%w: this process may not have more connections open at once; lower -rate, or raise the limit with 'ulimit -n'", network.ErrBusy)
	case err != nil:
		return 0, err
	}
	// One more try of the kernel's, then it gives up: an answer to that one is
	// not an answer to the first.
	_ = unix.SetsockoptInt(fd, unix.IPPROTO_TCP, unix.TCP_SYNCNT, 1)
	if err := leave(fd, c.family, c.options); err != nil {
		_ = unix.Close(fd)
		return 0, err
	}
	return fd, nil
}

func (c *opener) Exact() bool   { return false }
func (c *opener) FixedID() bool { return false }
func (c *opener) Dropped() int  { return 0 }

// Send begins to open a connection.
func (c *opener) Send(to netip.AddrPort, message []byte) (time.Time, error) {
	if c.closed.Load() {
		return time.Now(), errClosed
	}
	fd, err := c.socket()
	if err != nil {
		return time.Now(), fmt.Errorf("connect to %s: %w", to, err)
	}
	address := sockaddr(c.family, to)
	o := &opening{to: to, message: slices.Clone(message)}
	c.mu.Lock()
	defer c.mu.Unlock()
	o.sent = time.Now()
	err = unix.Connect(fd, address)
	seen := time.Now()
	if err != nil && !errors.Is(err, unix.EINPROGRESS) {
		p, told := c.refusal(o, err, seen, fd)
		_ = unix.Close(fd)
		if !told {
			return o.sent, sendError(to.Addr(), 0, err)
		}
		c.done = append(c.done, p)
		ring(c.bell)
		return o.sent, nil
	}
	if err == nil { // on loopback it may stand at once
		c.done = append(c.done, c.accepted(o, fd, seen)...)
		_ = unix.Close(fd)
		ring(c.bell)
		return o.sent, nil
	}
	c.asking[fd] = o
	if err := unix.EpollCtl(c.poll, unix.EPOLL_CTL_ADD, fd, &unix.EpollEvent{Events: unix.EPOLLOUT, Fd: int32(fd)}); err != nil {
		delete(c.asking, fd)
		_ = unix.Close(fd)
		return o.sent, fmt.Errorf("connect to %s: %w", to, err)
	}
	return o.sent, nil
}

// SendAll begins to open connections.
func (c *opener) SendAll(list []network.Outgoing) (int, error) {
	for i := range list {
		sent, err := c.Send(list[i].To, list[i].Message)
		if err != nil {
			return i, err
		}
		list[i].Sent = sent
	}
	return len(list), nil
}

// Receive waits for what became of openings.
func (c *opener) Receive(packets []network.Packet) (int, error) {
	c.inward.Lock()
	defer c.inward.Unlock()
	return c.receive(packets, -1)
}

// Poll looks what became of openings.
func (c *opener) Poll(packets []network.Packet) (int, error) {
	if !c.inward.TryLock() {
		return 0, nil
	}
	defer c.inward.Unlock()
	return c.receive(packets, 0)
}

// receive waits for some milliseconds, or for ever when that is below 0.
func (c *opener) receive(packets []network.Packet, wait int) (int, error) {
	events := make([]unix.EpollEvent, max(1, len(packets)))
	for looked := false; ; looked = true {
		if c.closed.Load() {
			return 0, errClosed
		}
		c.mu.Lock()
		n := copy(packets, c.done)
		c.done = slices.Delete(c.done, 0, n)
		c.mu.Unlock()
		if n > 0 || looked && wait == 0 {
			return n, nil
		}
		ready, err := unix.EpollWait(c.poll, events, wait)
		if err != nil && !errors.Is(err, unix.EINTR) {
			return 0, fmt.Errorf("wait for TCP: %w", err)
		}
		seen := time.Now()
		c.mu.Lock()
		for _, e := range events[:max(0, ready)] {
			c.ended(int(e.Fd), seen)
		}
		c.mu.Unlock()
	}
}

// ended looks at a socket that has something to tell.
func (c *opener) ended(fd int, seen time.Time) {
	if fd == c.bell {
		var count [8]byte
		_, _ = unix.Read(c.bell, count[:])
		return
	}
	o := c.asking[fd]
	if o == nil {
		return
	}
	delete(c.asking, fd)
	defer unix.Close(fd)
	problem, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_ERROR)
	switch {
	case err != nil:
	case problem == 0:
		c.done = append(c.done, c.accepted(o, fd, seen)...)
	default:
		if p, told := c.refusal(o, syscall.Errno(problem), seen, fd); told {
			c.done = append(c.done, p)
		}
	}
}

// firstAgain is when the kernel asks a second time (RFC 6298 §2).
const firstAgain = time.Second

// accepted is the packet of a connection that stands; none when it stands only
// by the kernel's second asking.
func (c *opener) accepted(o *opening, fd int, seen time.Time) []network.Packet {
	p := network.Packet{Event: network.Answer, Peer: o.to.Addr(), Port: o.to.Port(), To: o.to, Data: o.message, Seen: seen}
	info, err := unix.GetsockoptTCPInfo(fd, unix.IPPROTO_TCP, unix.TCP_INFO)
	if err != nil {
		return []network.Packet{p}
	}
	took := time.Duration(info.Rtt) * time.Microsecond
	if info.Total_retrans > 0 && took < firstAgain {
		return nil
	}
	if took > 0 && took <= seen.Sub(o.sent)+time.Millisecond {
		p.Took = took
	}
	return []network.Packet{p}
}

// refusal is the packet of an opening that failed; false when it only had no
// answer, or failed here.
func (c *opener) refusal(o *opening, err error, seen time.Time, fd int) (network.Packet, bool) {
	p := network.Packet{Event: network.Refusal, Peer: o.to.Addr(), Port: o.to.Port(), To: o.to, Data: o.message, Seen: seen}
	info, problem := unix.GetsockoptTCPInfo(fd, unix.IPPROTO_TCP, unix.TCP_INFO)
	if problem == nil && info.Total_retrans > 0 {
		return p, false
	}
	switch {
	case errors.Is(err, unix.ECONNREFUSED), errors.Is(err, unix.ECONNRESET):
		p.Cause, p.Shut = "connection refused by "+o.to.Addr().String(), true
	case errors.Is(err, unix.EHOSTUNREACH):
		p.Cause = "host unreachable or prohibited on the way to " + o.to.Addr().String()
	case errors.Is(err, unix.ENETUNREACH) && seen.Sub(o.sent) > time.Millisecond:
		p.Cause = "network unreachable on the way to " + o.to.Addr().String()
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.ENOPROTOOPT), errors.Is(err, unix.EPROTO):
		p.Cause = "prohibited on the way to " + o.to.Addr().String()
	default:
		return p, false
	}
	return p, true
}

func (c *opener) Close() error {
	if c.closed.Swap(true) {
		return nil
	}
	ring(c.bell)
	c.inward.Lock()
	defer c.inward.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	for fd := range c.asking {
		_ = unix.Close(fd)
	}
	c.asking = nil
	return errors.Join(unix.Close(c.poll), unix.Close(c.bell))
}
