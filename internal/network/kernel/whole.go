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
	"woodlark.example/internal/network/await"
	"woodlark.example/wire"
)

// whole sends whole packets by a raw socket, and hears by others what may answer
// them.
type whole struct {
	family   wire.Family
	out      int // sends, and tells departures on its error queue
	ears     []ear
	bell     int
	closed   atomic.Bool
	inward   sync.Mutex   // held by Receive
	mu       sync.RWMutex // held for reading by Send, for writing by Close
	departed *batch
	sending  *batch
}

// ear is a socket that hears one protocol.
type ear struct {
	fd       int
	protocol uint8
	heard    *batch
}

func openWhole(f wire.Family, o network.SocketOptions) (*whole, error) {
	domain := unix.AF_INET
	if f == wire.IPv6 {
		domain = unix.AF_INET6
	}
	w := &whole{family: f, out: -1, bell: -1, departed: newBatch(receiveBatch, packetSize, controlSize), sending: newBatch(receiveBatch, 0, 0)}
	var err error
	if w.out, err = unix.Socket(domain, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW); err != nil {
		return nil, err
	}
	err = w.configure(domain, o)
	if err != nil {
		w.closeAll()
		return nil, err
	}
	time.Sleep(stampDelay) // see open
	return w, nil
}

func (w *whole) configure(domain int, o network.SocketOptions) error {
	if !o.Untimed && !o.Bulk {
		_ = unix.SetsockoptInt(w.out, unix.SOL_SOCKET, unix.SO_TIMESTAMPING, unix.SOF_TIMESTAMPING_SOFTWARE|unix.SOF_TIMESTAMPING_TX_SOFTWARE)
	}
	_ = unix.SetsockoptInt(w.out, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, receiveBuffer)
	if o.Interface != "" {
		if err := useInterface(w.out, o.Interface); err != nil {
			return err
		}
	}
	protocols := []uint8{wire.ICMPOf(w.family)}
	if o.Hear != 0 {
		protocols = append(protocols, o.Hear)
	}
	for _, p := range protocols {
		fd, err := unix.Socket(domain, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, int(p))
		if err != nil {
			return err
		}
		w.ears = append(w.ears, ear{fd, p, newBatch(receiveBatch, packetSize, controlSize)})
		if err := w.listen(fd, p, o); err != nil {
			return err
		}
	}
	var err error
	w.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	return err
}

// listen sets what a socket needs that hears a protocol.
func (w *whole) listen(fd int, protocol uint8, o network.SocketOptions) error {
	_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_TIMESTAMPING, unix.SOF_TIMESTAMPING_SOFTWARE|unix.SOF_TIMESTAMPING_RX_SOFTWARE)
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, bulkBuffer) != nil {
		_ = unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, bulkBuffer)
	}
	if w.family == wire.IPv6 {
		_ = unix.SetsockoptInt(fd, unix.IPPROTO_IPV6, unix.IPV6_RECVHOPLIMIT, 1)
	}
	if protocol == wire.ICMPOf(w.family) {
		c := conn{family: w.family, fd: fd}
		return c.filter()
	}
	// Only what comes to our own ports: this host's other connections are none of
	// our business.
	skip := uint32(wire.IPv4HeaderSize)
	var program []unix.SockFilter
	if w.family == wire.IPv4 { // the header's length into X
		program = append(program, unix.SockFilter{Code: unix.BPF_LDX | unix.BPF_B | unix.BPF_MSH, K: 0},
			unix.SockFilter{Code: unix.BPF_LD | unix.BPF_H | unix.BPF_IND, K: 2})
	} else {
		skip = 0 // IPv6 raw sockets see no header
		program = append(program, unix.SockFilter{Code: unix.BPF_LD | unix.BPF_H | unix.BPF_ABS, K: skip + 2})
	}
	program = append(program,
		unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JGE | unix.BPF_K, K: uint32(o.FirstPort), Jt: 0, Jf: 2},
		unix.SockFilter{Code: unix.BPF_JMP | unix.BPF_JGT | unix.BPF_K, K: uint32(o.LastPort), Jt: 1, Jf: 0},
		unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: 0xffff},
		unix.SockFilter{Code: unix.BPF_RET | unix.BPF_K, K: 0})
	if err := unix.SetsockoptSockFprog(fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(program)), Filter: &program[0]}); err != nil {
		return fmt.Errorf("filter by ports: %w", err)
	}
	return nil
}

func (w *whole) Exact() bool   { return false }
func (w *whole) FixedID() bool { return false }

// Dropped is how many packets found no room, at any of the sockets.
func (w *whole) Dropped() (n int) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	if w.closed.Load() {
		return 0
	}
	for _, e := range w.ears {
		n += dropped(e.fd)
	}
	return n
}

// Send hands one packet to the kernel, which looks at its target and computes the
// checksum of an IPv4 header.
func (w *whole) Send(to netip.AddrPort, packet []byte) (time.Time, error) {
	w.mu.RLock()
	defer w.mu.RUnlock()
	if w.closed.Load() {
		return time.Now(), errClosed
	}
	address := sockaddr(w.family, netip.AddrPortFrom(to.Addr(), 0))
	var sent time.Time
	var err error
	for range 3 {
		sent = time.Now()
		if err = unix.Sendto(w.out, packet, 0, address); !anothers(err) {
			break
		}
	}
	if err != nil {
		return sent, sendError(to.Addr(), len(packet), err)
	}
	return sent, nil
}

// SendAll hands over packets in batches.
func (w *whole) SendAll(list []network.Outgoing) (int, error) {
	for i := range list {
		sent, err := w.Send(list[i].To, list[i].Message)
		if err != nil {
			return i, err
		}
		list[i].Sent = sent
	}
	return len(list), nil
}

// Receive waits for packets.
func (w *whole) Receive(packets []network.Packet) (int, error) {
	w.inward.Lock()
	defer w.inward.Unlock()
	poll := []unix.PollFd{{Fd: int32(w.bell), Events: unix.POLLIN}, {Fd: int32(w.out)}}
	for _, e := range w.ears {
		poll = append(poll, unix.PollFd{Fd: int32(e.fd), Events: unix.POLLIN})
	}
	for {
		if w.closed.Load() {
			return 0, errClosed
		}
		if _, err := await.Poll(poll, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return 0, fmt.Errorf("wait for answers: %w", err)
		}
		if n := w.take(packets); n > 0 {
			return n, nil
		}
	}
}

// Poll reads what is there.
func (w *whole) Poll(packets []network.Packet) (int, error) {
	if !w.inward.TryLock() {
		return 0, nil
	}
	defer w.inward.Unlock()
	if w.closed.Load() {
		return 0, errClosed
	}
	return w.take(packets), nil
}

// take reads what is there: answers first, and departures, which are given before
// them, after.
func (w *whole) take(packets []network.Packet) int {
	share := len(packets) / (len(w.ears) + 1)
	counts := make([]int, len(w.ears))
	for i := range w.ears {
		counts[i] = w.ears[i].heard.receive(w.ears[i].fd, share, 0)
	}
	seen := time.Now()
	n := 0
	for i := range w.departed.receive(w.out, share, unix.MSG_ERRQUEUE) {
		p := &packets[n]
		t := readControl(w.departed.packet(i, seen, p))
		if t.problem == nil || t.problem.origin != unix.SO_EE_ORIGIN_TIMESTAMPING {
			continue
		}
		p.Event, p.At = network.Departure, t.at
		if w.strip(p) {
			n++
		}
	}
	for i, e := range w.ears {
		for k := range counts[i] {
			p := &packets[n]
			t := readControl(e.heard.packet(k, seen, p))
			p.Event, p.At, p.TTL, p.Protocol = network.Answer, t.at, t.ttl, e.protocol
			if w.family == wire.IPv4 {
				header := 0
				if len(p.Data) > 0 {
					header = int(p.Data[0]&0xf) * 4
				}
				if header < wire.IPv4HeaderSize || len(p.Data) < header {
					continue
				}
				p.TTL, p.Data = int(p.Data[8]), p.Data[header:]
			}
			n++
		}
	}
	return n
}

// strip takes off the link's header that the copy of a sent packet may have.
func (w *whole) strip(p *network.Packet) bool {
	const ethernet = 14
	version := byte(4)
	if w.family == wire.IPv6 {
		version = 6
	}
	for _, skip := range []int{ethernet, 0} {
		if len(p.Data) >= skip+wire.IPv4HeaderSize && p.Data[skip]>>4 == version {
			if skip == ethernet && p.Data[0]>>4 == version && plausible(p.Data) && !plausible(p.Data[skip:]) {
				continue
			}
			p.Data = p.Data[skip:]
			return true
		}
	}
	return false
}

// plausible reports whether bytes begin with an IP header of about their length.
func plausible(b []byte) bool {
	if b[0]>>4 == 4 {
		return int(b[0]&0xf)*4 >= wire.IPv4HeaderSize && int(b[2])<<8|int(b[3]) == len(b)
	}
	return len(b) >= wire.IPv6HeaderSize && int(b[4])<<8|int(b[5])+wire.IPv6HeaderSize == len(b)
}

// Close ends Receive and closes the sockets.
func (w *whole) Close() error {
	if w.closed.Swap(true) {
		return nil
	}
	ring(w.bell)
	w.inward.Lock()
	defer w.inward.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.closeAll()
}

func (w *whole) closeAll() error {
	var errs []error
	for _, e := range w.ears {
		errs = append(errs, unix.Close(e.fd))
	}
	for _, fd := range []int{w.out, w.bell} {
		if fd >= 0 {
			errs = append(errs, unix.Close(fd))
		}
	}
	return errors.Join(errs...)
}
