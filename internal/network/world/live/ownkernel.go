package live

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/await"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/namespace"
	"woodlark.example/internal/network/world"
	"woodlark.example/wire"
)

// ownKernel is a host's TCP by this machine's kernel, in a network namespace whose packets
// cross the world and nothing else.
type ownKernel struct {
	h     *Host
	at    *namespace.Host
	quit  int // an event that ends the reader
	ctx   context.Context
	end   context.CancelFunc
	owned sync.WaitGroup
	calls chan []byte // that knock at ports of the file

	mu    sync.Mutex
	taken map[uint16]int // ports at which somebody listens, how often
}

// knocks is how many calls may wait for their port to be opened.
const knocks = 256

func newOwnKernel(h *Host) (*ownKernel, error) {
	at, err := namespace.New(h.n.m.Nodes()[h.node].Addresses, h.n.m.MTU(h.node))
	if err != nil {
		return nil, err
	}
	k := &ownKernel{h: h, at: at, calls: make(chan []byte, knocks), taken: map[uint16]int{}}
	if k.quit, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err != nil {
		at.Close()
		return nil, err
	}
	k.ctx, k.end = context.WithCancel(context.Background())
	k.owned.Go(k.read)
	k.owned.Go(k.answerCalls)
	return k, nil
}

// read puts what the kernel sends into the world: its segments, nothing that it sends of
// its own accord.
func (k *ownKernel) read() {
	packet := make([]byte, 65535)
	fds := []unix.PollFd{{Fd: int32(k.at.Packets()), Events: unix.POLLIN}, {Fd: int32(k.quit), Events: unix.POLLIN}}
	for {
		n, err := unix.Read(k.at.Packets(), packet)
		switch {
		case err == nil && n > 0:
			if ip, _, err := wire.ParseIP(packet[:n]); err == nil && ip.Protocol == wire.ProtocolTCP {
				_, _ = k.h.n.send(k.h.node, packet[:n])
			}
			continue
		case err != nil && !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EINTR):
			return
		}
		if _, err := await.Poll(fds, nil); err != nil && !errors.Is(err, unix.EINTR) || fds[1].Revents != 0 {
			return
		}
	}
}

func (k *ownKernel) take(_ wire.Family, packet []byte) {
	if k.knocks(packet) {
		select {
		case k.calls <- slices.Clone(packet):
			return
		default: // so many at once: the kernel refuses it
		}
	}
	_, _ = unix.Write(k.at.Packets(), packet)
}

// knocks reports whether a packet opens a connection to a port at which nobody listens,
// and which the file says is open, or no longer.
func (k *ownKernel) knocks(packet []byte) bool {
	_, payload, err := wire.ParseIP(packet)
	if err != nil {
		return false
	}
	t, err := wire.ParseTCP(payload)
	if err != nil || !t.Has(wire.SYN) || t.Has(wire.ACK) {
		return false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.taken[t.DstPort] == 0
}

// answerCalls opens the ports of the file as they are called, for as long as the file says
// that they are open.
func (k *ownKernel) answerCalls() {
	open := map[uint16]io.Closer{}
	defer func() {
		for _, l := range open {
			_ = l.Close()
		}
	}()
	for {
		var packet []byte
		select {
		case packet = <-k.calls:
		case <-k.ctx.Done():
			return
		}
		_, payload, _ := wire.ParseIP(packet)
		t, err := wire.ParseTCP(payload)
		if err != nil {
			continue
		}
		state := k.h.n.m.PortAt(k.h.node, t.DstPort, time.Now())
		is := state == world.Open || state == world.Echoes
		switch l := open[t.DstPort]; {
		case is && l == nil:
			if l, err := k.bind(netip.AddrPortFrom(netip.Addr{}, t.DstPort)); err == nil {
				open[t.DstPort] = l
				k.owned.Go(func() { k.serve(l, t.DstPort) })
			}
		case !is && l != nil:
			_ = l.Close()
			delete(open, t.DstPort)
		}
		_, _ = unix.Write(k.at.Packets(), packet)
	}
}

// serve discards what is sent to an open port, or echoes it.
func (k *ownKernel) serve(l net.Listener, port uint16) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		k.owned.Go(func() {
			defer c.Close()
			defer context.AfterFunc(k.ctx, func() { _ = c.Close() })()
			var to io.Writer = io.Discard
			if k.h.n.m.PortAt(k.h.node, port, time.Now()) == world.Echoes {
				to = c
			}
			_, _ = io.Copy(to, c)
		})
	}
}

// usually is the congestion control in every world, whatever this machine's is, so that
// figures can be compared; a kernel without it uses its own.
const usually = "cubic"

// bind listens in the host's namespace.
func (k *ownKernel) bind(at netip.AddrPort) (l net.Listener, err error) {
	return l, k.at.Enter(func() (err error) {
		if l, err = kernel.Streams().ListenTCP(at); err != nil {
			return err
		}
		if s, ok := l.(syscall.Conn); ok { // who connects inherits it
			if raw, err := s.SyscallConn(); err == nil {
				_ = raw.Control(func(fd uintptr) { _ = unix.SetsockoptString(int(fd), unix.IPPROTO_TCP, unix.TCP_CONGESTION, usually) })
			}
		}
		return nil
	})
}

func (k *ownKernel) dial(ctx context.Context, to netip.AddrPort, o network.StreamOptions) (c net.Conn, err error) {
	if o.Congestion == "" {
		o.Congestion = usually
		if c, err = k.dial(ctx, to, o); !errors.Is(err, network.ErrNoSuch) {
			return c, err
		}
		o.Congestion = ""
	}
	return c, k.at.Enter(func() (err error) {
		c, err = kernel.Streams().DialTCP(ctx, to, o)
		return err
	})
}

func (k *ownKernel) listen(at netip.AddrPort) (net.Listener, error) {
	l, err := k.bind(at)
	if err != nil {
		return nil, err
	}
	port := netip.MustParseAddrPort(l.Addr().String()).Port()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.taken[port]++
	return &ownListener{Listener: l, over: sync.OnceFunc(func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.taken[port]--
	})}, nil
}

type ownListener struct {
	net.Listener
	over func()
}

// Close ends listening.
func (l *ownListener) Close() error {
	l.over()
	return l.Listener.Close()
}

func (k *ownKernel) tune(c net.Conn, o network.StreamOptions) error {
	return kernel.Streams().Tune(c, o)
}

func (k *ownKernel) watch(c net.Conn) (network.StreamState, bool) { return kernel.Streams().Watch(c) }

func (k *ownKernel) close() {
	k.end()
	_, _ = unix.Write(k.quit, []byte{1, 0, 0, 0, 0, 0, 0, 0})
	k.owned.Wait()
	_ = unix.Close(k.quit)
	k.at.Close()
}
