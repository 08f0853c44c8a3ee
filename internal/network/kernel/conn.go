package kernel

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/await"
	"woodlark.example/wire"
)

const (
	receiveBuffer = 4 << 20
	bulkBuffer    = 16 << 20
	framesBuffer  = 256 << 20 // of frames that wait in a queue each takes far more than its size
	packetSize    = 2048
	controlSize   = 256
	stampDelay    = 3 * time.Millisecond
	receiveBatch  = 64
	bulkBatch     = 256 // received at once; as many are sent at once as are given
	bulkSize      = 256
)

var errClosed = errors.New("the socket is closed")

// conn is a socket for ICMP or UDP.
type conn struct {
	kind   network.Kind
	family wire.Family
	raw    bool
	bulk   bool // departures are not stamped
	fd     int
	bell   int // an eventfd that Close rings
	closed atomic.Bool
	inward sync.Mutex   // held by Receive; Close waits for it
	mu     sync.RWMutex // held for reading by Send, for writing by Close

	answers, told *batch    // of Receive
	sending       *batch    // of SendAll
	together      *segments // the same, of a connection that may send several as one; else nil
}

func open(k network.Kind, f wire.Family, kind int, o network.SocketOptions) (*conn, error) {
	domain, protocol := unix.AF_INET, unix.IPPROTO_ICMP
	if f == wire.IPv6 {
		domain, protocol = unix.AF_INET6, unix.IPPROTO_ICMPV6
	}
	if k == network.UDP {
		protocol = unix.IPPROTO_UDP
	}
	fd, err := unix.Socket(domain, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, protocol)
	if err != nil {
		return nil, err
	}
	c := &conn{kind: k, family: f, raw: kind == unix.SOCK_RAW, bulk: o.Bulk, fd: fd}
	if err := c.configure(o); err != nil {
		unix.Close(fd)
		return nil, err
	}
	if c.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		unix.Close(fd)
		return nil, err
	}
	n, room := receiveBatch, max(packetSize, o.Room)
	if o.Bulk {
		n, room = bulkBatch, max(bulkSize, o.Room)
	}
	if room > packetSize && !o.Frames {
		n = 8 // large messages come slowly
	}
	controls := controlSize
	if o.Untimed && c.raw { // errors come as messages
		controls = 0
	}
	if o.Together && k == network.UDP {
		c.together = newSegments()
	}
	c.answers, c.told, c.sending = newBatch(n, room, controls), newBatch(n, room, controlSize), newBatch(n, 0, 0)
	// The kernel begins to stamp arriving packets a moment after the first
	// socket asks for it: without this the first probe would go unstamped.
	time.Sleep(stampDelay)
	return c, nil
}

func (c *conn) Exact() bool   { return false }
func (c *conn) FixedID() bool { return !c.raw && c.kind == network.ICMP }

// Dropped reads how many packets the socket's buffer had no room for.
func (c *conn) Dropped() int {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.closed.Load() {
		return 0
	}
	return dropped(c.fd)
}

func dropped(fd int) int {
	const memInfo, drops, words = 55, 8, 9 // SO_MEMINFO, SK_MEMINFO_DROPS, SK_MEMINFO_VARS
	var info [words]uint32
	size := uint32(unsafe.Sizeof(info))
	_, _, problem := unix.Syscall6(unix.SYS_GETSOCKOPT, uintptr(fd), unix.SOL_SOCKET, memInfo, uintptr(unsafe.Pointer(&info)), uintptr(unsafe.Pointer(&size)), 0)
	if problem != 0 || size < drops*4+4 {
		return 0
	}
	return int(info[drops])
}

// Send hands one message to the kernel. An error that an earlier message
// brought back is not this one's: it is taken off the socket and sending tried
// once more.
func (c *conn) Send(to netip.AddrPort, message []byte) (time.Time, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.closed.Load() {
		return time.Now(), errClosed
	}
	if c.kind == network.ICMP {
		to = netip.AddrPortFrom(to.Addr(), 0)
	}
	address := sockaddr(c.family, to)
	var sent time.Time
	var err error
	for range 3 {
		sent = time.Now()
		err = unix.Sendto(c.fd, message, 0, address)
		if !anothers(err) {
			break
		}
	}
	if err != nil {
		return sent, sendError(to.Addr(), len(message), err)
	}
	return sent, nil
}

// SendTTL sends a message with a TTL or hop limit of its own.
func (c *conn) SendTTL(to netip.AddrPort, message []byte, ttl int) (time.Time, error) {
	if c.family == wire.IPv6 {
		return c.sendWith(to, message, unix.IPPROTO_IPV6, unix.IPV6_HOPLIMIT, ttl)
	}
	return c.sendWith(to, message, unix.IPPROTO_IP, unix.IP_TTL, ttl)
}

// SendDSCP sends a message with a DSCP of its own.
func (c *conn) SendDSCP(to netip.AddrPort, message []byte, dscp uint8) (time.Time, error) {
	if c.family == wire.IPv6 {
		return c.sendWith(to, message, unix.IPPROTO_IPV6, unix.IPV6_TCLASS, int(dscp)<<2)
	}
	return c.sendWith(to, message, unix.IPPROTO_IP, unix.IP_TOS, int(dscp)<<2)
}

// sendWith sends a message with a value of the IP header of its own.
func (c *conn) sendWith(to netip.AddrPort, message []byte, level, kind, value int) (time.Time, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.closed.Load() {
		return time.Now(), errClosed
	}
	control := make([]byte, unix.CmsgSpace(4))
	header := (*unix.Cmsghdr)(unsafe.Pointer(&control[0]))
	header.Level, header.Type = int32(level), int32(kind)
	header.SetLen(unix.CmsgLen(4))
	binary.NativeEndian.PutUint32(control[unix.CmsgLen(0):], uint32(value))
	address := sockaddr(c.family, to)
	var sent time.Time
	var err error
	for range 3 {
		sent = time.Now()
		if _, err = unix.SendmsgN(c.fd, message, control, address, 0); !anothers(err) {
			break
		}
	}
	if err != nil {
		return sent, sendError(to.Addr(), len(message), err)
	}
	return sent, nil
}

// anothers reports whether an error may be that of an earlier message.
func anothers(err error) bool {
	for _, e := range []error{unix.EHOSTUNREACH, unix.ECONNREFUSED, unix.EINTR, unix.ENETUNREACH, unix.EMSGSIZE, unix.EPROTO, unix.EACCES} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

func sendError(to netip.Addr, size int, err error) error {
	switch {
	case errors.Is(err, unix.EMSGSIZE):
		return fmt.Errorf("send to %s: %w: %d bytes do not fit the MTU of the link, and may not be cut up", to, network.ErrTooBig, size)
	case errors.Is(err, unix.ENETUNREACH):
		return fmt.Errorf("send to %s: this host knows no way there", to)
	case errors.Is(err, unix.EACCES):
		return fmt.Errorf("send to %s: this host does not let it out (a broadcast address, or its own filter)", to)
	case errors.Is(err, unix.EPERM):
		return fmt.Errorf("send to %s: this host's own filter does not let it out", to)
	}
	return fmt.Errorf("send to %s: %w", to, err)
}

// SendAll hands messages to the kernel in batches.
func (c *conn) SendAll(list []network.Outgoing) (int, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.closed.Load() {
		return 0, errClosed
	}
	done := 0
	for tries := 0; done < len(list); {
		n, err := 0, errOneByOne
		if c.together != nil && !c.together.off {
			n, err = c.together.send(c.fd, list[done:], c.family == wire.IPv6)
		}
		if errors.Is(err, errOneByOne) {
			n, err = c.sending.send(c.fd, list[done:], c.family == wire.IPv6)
		}
		done += n
		if n > 0 {
			tries = 0
			continue
		}
		if tries++; !anothers(err) || tries > 3 {
			return done, sendError(list[done].To.Addr(), len(list[done].Message), err)
		}
	}
	return done, nil
}

// Receive waits for packets. The answers are read before the error queue, which
// holds the departures, and given after it: so a departure is never behind the
// answer to it.
func (c *conn) Receive(packets []network.Packet) (int, error) {
	c.inward.Lock()
	defer c.inward.Unlock()
	poll := []unix.PollFd{{Fd: int32(c.fd), Events: unix.POLLIN}, {Fd: int32(c.bell), Events: unix.POLLIN}}
	for {
		if c.closed.Load() {
			return 0, errClosed
		}
		if _, err := await.Poll(poll, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return 0, fmt.Errorf("wait for %v: %w", c.kind, err)
		}
		if n := c.take(packets); n > 0 {
			return n, nil
		}
	}
}

// Poll reads what is there.
func (c *conn) Poll(packets []network.Packet) (int, error) {
	if !c.inward.TryLock() {
		return 0, nil
	}
	defer c.inward.Unlock()
	if c.closed.Load() {
		return 0, errClosed
	}
	return c.take(packets), nil
}

// take reads what is there.
func (c *conn) take(packets []network.Packet) int {
	half := len(packets) / 2
	answers := c.answers.receive(c.fd, half, 0)
	seen := time.Now()
	told, toldAt := 0, seen
	if !c.bulk || answers == 0 { // a bulk socket has few errors and no departures to tell
		told = c.told.receive(c.fd, len(packets)-half, unix.MSG_ERRQUEUE)
		// A probe that left since may have its refusal here already: it was not seen before that.
		toldAt = time.Now()
	}
	n := 0
	for i := range told {
		if c.parse(&packets[n], c.told.packet(i, toldAt, &packets[n]), true) {
			n++
		}
	}
	for i := range answers {
		if c.parse(&packets[n], c.answers.packet(i, seen, &packets[n]), false) {
			n++
		}
	}
	return n
}

func (c *conn) Close() error {
	if c.closed.Swap(true) {
		return nil
	}
	ring(c.bell)
	c.inward.Lock()
	defer c.inward.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	return errors.Join(unix.Close(c.fd), unix.Close(c.bell))
}

// ring makes an eventfd readable.
func ring(bell int) {
	one := binary.NativeEndian.AppendUint64(nil, 1)
	_, _ = unix.Write(bell, one)
}
