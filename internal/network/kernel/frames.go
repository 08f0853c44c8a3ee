package kernel

import (
	"errors"
	"fmt"
	"net"
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

// frames sends and receives frames of a test on a link, through rings that it shares with the
// kernel (packet sockets, version 2 of their rings: what comes is seen frame by frame).
type frames struct {
	in, out  *packetRing // out is nil of one that hears all links
	bell     int
	closed   atomic.Bool
	inward   sync.Mutex // held by Receive
	mu       sync.Mutex // held by Send
	by       string
	own      wire.Hardware
	most     int // bytes of a frame that the interface takes, without its FCS
	link     network.LinkOptions
	head     []byte // of the station that was sent to last, but for the length
	headFor  netip.Addr
	taken    int // of the ring, that are given back with the next Receive
	known    wire.Hardware
	knownBy  int32
	knownAs  netip.Addr
	names    map[int32]string
	dropped  atomic.Int64
	slowness time.Duration // for which a full ring is waited for
}

const (
	usualDepth = 4096
	leastDepth = 1024
	mostDepth  = 1 << 16
	mostRing   = 32 << 20 // bytes of a ring
	// sendDepth is how many frames of ours may be on their way out. It is many: of interfaces that
	// forget us too soon a place is used again only when what was in it is long gone.
	sendDepth = 4096
	sendRing  = 16 << 20
)

func openFrames(o network.SocketOptions) (_ *frames, err error) {
	if o.Link == nil {
		return nil, fmt.Errorf("%w: frames on a link need to be told how they look", network.ErrNoSuch)
	}
	c := &frames{bell: -1, by: o.Interface, link: *o.Link, names: map[int32]string{}, slowness: 2 * time.Millisecond}
	index := 0
	if o.Interface != "" {
		i, err := net.InterfaceByName(o.Interface)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%w: there is no interface %q; 'woodlark here' lists them", network.ErrNoSuch, o.Interface)
		case i.Flags&net.FlagUp == 0:
			return nil, fmt.Errorf("%w: interface %q is down", network.ErrNoSuch, o.Interface)
		case len(i.HardwareAddr) != len(c.own) && i.Flags&net.FlagLoopback == 0:
			return nil, fmt.Errorf("%w: interface %q has no hardware address: it carries no Ethernet frames", network.ErrNoSuch, o.Interface)
		}
		copy(c.own[:], i.HardwareAddr)
		c.most = i.MTU + 14
		if len(c.link.Tags) > 0 && (c.link.Tags[0].Type == 0 || c.link.Tags[0].Type == wire.TypeVLAN) {
			c.most += 4 // which the kernel allows for a tag, where it stands first
		}
		index = i.Index
	}
	defer func() {
		if err != nil {
			c.free()
		}
	}()
	size := wire.LinkFrame{Tags: c.link.Tags, Labels: c.link.Labels}.HeadSize() + max(packetSize/8, o.Room)
	depth := usualDepth
	if o.Depth > 0 {
		depth = min(mostDepth, max(leastDepth, o.Depth))
	}
	var peer *wire.Hardware
	if h, is := network.HardwareOf(o.Peer.Addr()); is {
		peer = &h
	}
	if c.in, err = newRing(unix.PACKET_RX_RING, size, depth, mostRing); err != nil {
		return nil, err
	}
	if err := listenFor(c.in.fd, c.link.Channel, peer); err != nil {
		return nil, err
	}
	_ = unix.SetsockoptInt(c.in.fd, unix.SOL_PACKET, unix.PACKET_IGNORE_OUTGOING, 1)
	if err := unix.Bind(c.in.fd, &unix.SockaddrLinklayer{Protocol: bigEndian(unix.ETH_P_ALL), Ifindex: index}); err != nil {
		return nil, fmt.Errorf("hear frames: %w", err)
	}
	if index > 0 {
		if c.out, err = newRing(unix.PACKET_TX_RING, size, sendDepth, sendRing); err != nil {
			return nil, err
		}
		if unix.SetsockoptInt(c.out.fd, unix.SOL_SOCKET, unix.SO_SNDBUFFORCE, framesBuffer) != nil {
			_ = unix.SetsockoptInt(c.out.fd, unix.SOL_SOCKET, unix.SO_SNDBUF, framesBuffer)
		}
		if err := unix.Bind(c.out.fd, &unix.SockaddrLinklayer{Ifindex: index}); err != nil {
			return nil, fmt.Errorf("send frames by %s: %w", o.Interface, err)
		}
	}
	c.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK)
	return c, err
}

func bigEndian(n uint16) uint16 { return n>>8 | n<<8 }

func (c *frames) Exact() bool   { return false }
func (c *frames) FixedID() bool { return false }

// Send sends one frame.
func (c *frames) Send(to netip.AddrPort, message []byte) (time.Time, error) {
	list := []network.Outgoing{{To: to, Message: message}}
	_, err := c.SendAll(list)
	return list[0].Sent, err
}

// SendAll puts frames into the ring and has the kernel send them. What a queue of the interface
// has no room for counts as sent, as what another's has.
func (c *frames) SendAll(list []network.Outgoing) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed.Load() {
		return 0, errClosed
	}
	if c.out == nil {
		return 0, errors.New("a connection that hears all links sends nothing")
	}
	done := 0
	for done < len(list) {
		put := 0
		for _, o := range list[done:] {
			b := c.out.room()
			if b == nil {
				break
			}
			n, err := c.write(b, o)
			if err != nil {
				if put == 0 {
					return done, err
				}
				break
			}
			c.out.put(n)
			put++
		}
		if put == 0 {
			if !c.out.await(unix.POLLOUT, c.slowness) {
				return done, fmt.Errorf("send by %s: %w: its queue does not move", c.by, network.ErrBusy)
			}
			continue
		}
		before := time.Now()
		sent, err := c.out.flush()
		took := time.Since(before)
		each := took / time.Duration(max(1, sent))
		for i := range sent {
			list[done+i].Sent, list[done+i].Within = before.Add(time.Duration(i)*each+each/2), took
		}
		if done += sent; err != nil {
			return done, fmt.Errorf("send by %s: %w", c.by, err)
		}
	}
	return done, nil
}

// write makes a frame in a place of the ring.
func (c *frames) write(b []byte, o network.Outgoing) (int, error) {
	if o.To.Addr() != c.headFor || c.head == nil {
		h, is := network.HardwareOf(o.To.Addr())
		if !is {
			return 0, fmt.Errorf("%s is no station of a link", o.To.Addr())
		}
		c.head = wire.LinkFrame{To: h, From: c.own, Tags: c.link.Tags, Labels: c.link.Labels, Channel: c.link.Channel}.AppendHead(nil, 0)
		c.headFor = o.To.Addr()
	}
	n := len(c.head) + len(o.Message)
	if n > min(c.most, len(b)) {
		return 0, fmt.Errorf("send by %s: %w: a frame of %d bytes does not fit: its MTU lets through %d", c.by, network.ErrTooBig, n, min(c.most, len(b)))
	}
	copy(b, c.head)
	size := len(o.Message)
	b[len(c.head)-2], b[len(c.head)-1] = byte(size>>8), byte(size)
	copy(b[len(c.head):], o.Message)
	return n, nil
}

// Receive waits for frames.
func (c *frames) Receive(packets []network.Packet) (int, error) {
	c.inward.Lock()
	defer c.inward.Unlock()
	poll := []unix.PollFd{{Fd: int32(c.in.fd), Events: unix.POLLIN}, {Fd: int32(c.bell), Events: unix.POLLIN}}
	for {
		if c.closed.Load() {
			return 0, errClosed
		}
		if n := c.take(packets); n > 0 {
			return n, nil
		}
		if _, err := await.Poll(poll, nil); err != nil && !errors.Is(err, unix.EINTR) {
			return 0, fmt.Errorf("wait for frames: %w", err)
		}
	}
}

// Poll reads what is there.
func (c *frames) Poll(packets []network.Packet) (int, error) {
	if !c.inward.TryLock() {
		return 0, nil
	}
	defer c.inward.Unlock()
	if c.closed.Load() {
		return 0, errClosed
	}
	return c.take(packets), nil
}

// take gives places back that were read before, and reads what is there.
func (c *frames) take(packets []network.Packet) (n int) {
	for ; c.taken > 0; c.taken-- {
		c.in.giveBack()
	}
	seen := time.Now()
	for n < len(packets) {
		b, h, from := c.in.came(c.taken)
		if b == nil {
			break
		}
		c.taken++
		f, payload, err := wire.ParseLinkFrame(b)
		if err != nil || f.Channel != c.link.Channel {
			continue
		}
		p := network.Packet{Seen: seen, Data: payload, At: time.Unix(int64(h.Sec), int64(h.Nsec)), Peer: c.station(f.From, from.Ifindex), To: netip.AddrPortFrom(network.Station(f.To, ""), 0)}
		switch {
		case h.Status&unix.TP_STATUS_VLAN_VALID != 0: // the kernel takes the outermost off
			p.Tagged, p.Priority = true, uint8(h.Vlan_tci>>13)
		case len(f.Tags) > 0:
			p.Tagged, p.Priority = true, f.Tags[0].Priority
		}
		packets[n] = p
		n++
	}
	return n
}

// station is the address of who sent a frame; most frames are of the same.
func (c *frames) station(h wire.Hardware, index int32) netip.Addr {
	if h == c.known && index == c.knownBy && c.knownAs.IsValid() {
		return c.knownAs
	}
	by, is := c.names[index]
	if !is {
		by = nameOfInterface(c.in.fd, index)
		c.names[index] = by
	}
	c.known, c.knownBy, c.knownAs = h, index, network.Station(h, by)
	return c.knownAs
}

// nameOfInterface asks for a name where the socket is.
func nameOfInterface(fd int, index int32) string {
	var r struct {
		name  [unix.IFNAMSIZ]byte
		index int32
		_     [20]byte
	}
	r.index = index
	if _, _, problem := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), unix.SIOCGIFNAME, uintptr(unsafe.Pointer(&r))); problem != 0 {
		return ""
	}
	return unix.ByteSliceToString(r.name[:])
}

// Dropped reads how many frames the ring had no room for.
func (c *frames) Dropped() int {
	if c.closed.Load() {
		return int(c.dropped.Load())
	}
	if s, err := unix.GetsockoptTpacketStats(c.in.fd, unix.SOL_PACKET, unix.PACKET_STATISTICS); err == nil { // begins anew each time
		c.dropped.Add(int64(s.Drops))
	}
	return int(c.dropped.Load())
}

func (c *frames) Close() error {
	if c.closed.Swap(true) {
		return nil
	}
	ring(c.bell)
	c.inward.Lock()
	defer c.inward.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.free()
	return nil
}

func (c *frames) free() {
	for _, r := range []*packetRing{c.in, c.out} {
		if r != nil {
			r.free()
		}
	}
	if c.bell >= 0 {
		_ = unix.Close(c.bell)
	}
}
