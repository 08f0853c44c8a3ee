package lab

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/pace"
	"woodlark.example/internal/network/world"
)

// ErrNotPermitted is wrapped when this machine does not let us make namespaces
// or interfaces; the error that wraps it says what would help.
var ErrNotPermitted = errors.New("not permitted to make network namespaces")

// mostHosts bounds the namespaces of one lab.
const mostHosts = 250

// Carrier is a lab whose packets this process moves.
type Carrier struct {
	m     *world.Model
	ends  []*End
	alarm *pace.Alarm
	owned sync.WaitGroup
	quit  int // an event that ends the readers
	lags  lags

	mu      sync.Mutex
	traffic *world.Traffic
	next    time.Time // when the pump wakes
	closed  bool
}

// Carry makes the namespaces of a world's hosts and moves their packets until
// Close. The error wraps ErrNotPermitted when privileges are missing.
func Carry(m *world.Model) (*Carrier, error) {
	c := &Carrier{m: m, traffic: m.Traffic(time.Now())}
	hosts := 0
	for i, n := range m.Nodes() {
		if n.Router || len(n.Addresses) == 0 {
			continue
		}
		if hosts++; hosts > mostHosts {
			c.closeEnds()
			return nil, fmt.Errorf("world %q has more than %d hosts: a lab holds no more", m.Name, mostHosts)
		}
		e, err := NewEnd(m, i)
		if err != nil {
			c.closeEnds()
			return nil, explain(err)
		}
		c.ends = append(c.ends, e)
	}
	if hosts == 0 {
		return nil, fmt.Errorf("world %q has no hosts with an address", m.Name)
	}
	var err error
	if c.alarm, err = pace.NewAlarm(); err != nil {
		c.closeEnds()
		return nil, err
	}
	if c.quit, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err != nil {
		c.closeEnds()
		return nil, fmt.Errorf("open an event: %w", err)
	}
	c.lags = c.ends[0].lags(m.Nodes()[c.ends[0].node].Addresses[0])
	for _, e := range c.ends {
		c.traffic.Attach(e.node, e.write)
		c.owned.Go(func() { c.read(e) })
	}
	c.owned.Go(c.pump)
	return c, nil
}

// explain says what would help against a missing privilege.
func explain(err error) error {
	switch {
	case errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES), errors.Is(err, unix.ENOSPC):
		if os.Geteuid() == 0 && !ownUsers() {
			return fmt.Errorf("%w, even as root here: %w. In a container the lab needs the capabilities NET_ADMIN and SYS_ADMIN and the device /dev/net/tun", ErrNotPermitted, err)
		}
		return fmt.Errorf("%w: %w. Run it as root, or let users make namespaces ('sysctl user.max_user_namespaces=10000') and open TUN interfaces ('chmod 666 /dev/net/tun')", ErrNotPermitted, err)
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENODEV), errors.Is(err, unix.ENXIO):
		return fmt.Errorf("%w: this machine has no TUN interfaces: %w. Load them with 'modprobe tun'", ErrNotPermitted, err)
	}
	return err
}

// ownUsers reports whether this process is in a user namespace of its own, where
// it is root only by name.
func ownUsers() bool {
	data, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && strings.Join(strings.Fields(string(data)), " ") != "0 0 4294967295"
}

// write puts a packet that has arrived into the host's kernel. A full queue
// there drops it, as a full socket buffer would.
func (e *End) write(packet []byte, _ time.Time) bool {
	_, _ = unix.Write(e.Packets(), packet)
	return true
}

const (
	packetRoom = 65535 + 64
	batchSize  = 64
)

// read moves what a host sends into the world.
func (c *Carrier) read(e *End) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	buffers := make([][]byte, batchSize)
	for i := range buffers {
		buffers[i] = make([]byte, packetRoom)
	}
	sizes := make([]int, batchSize)
	times := make([]time.Time, batchSize)
	slept := time.Duration(0) // before the first packet
	for {
		n := 0
		for n < batchSize {
			size, err := unix.Read(e.Packets(), buffers[n])
			if err != nil || size <= 0 {
				break
			}
			sizes[n], times[n] = size, time.Now()
			if n == 0 {
				times[n] = times[n].Add(-c.lags.after(slept))
			}
			n++
		}
		if n > 0 && !c.send(e, buffers, sizes[:n], times) {
			return
		}
		slept = 0
		if n < batchSize {
			began := time.Now()
			if !c.more(e) {
				return
			}
			slept = time.Since(began)
		}
	}
}

// Lag is what was measured, and is taken off, of the time that this machine
// takes to wake who reads a host's packets after a long sleep.
func (c *Carrier) Lag() time.Duration { return c.lags.long }

// more waits for a host to send; false when the lab ends.
func (c *Carrier) more(e *End) bool {
	fds := []unix.PollFd{{Fd: int32(e.Packets()), Events: unix.POLLIN}, {Fd: int32(c.quit), Events: unix.POLLIN}}
	for {
		_, err := unix.Poll(fds, -1)
		if err != nil && !errors.Is(err, unix.EINTR) {
			return false
		}
		if fds[1].Revents != 0 {
			return false
		}
		if err == nil {
			return fds[0].Revents&(unix.POLLERR|unix.POLLHUP|unix.POLLNVAL) == 0
		}
	}
}

// send puts packets of a host into the world, and moves on all that is due.
func (c *Carrier) send(e *End, buffers [][]byte, sizes []int, times []time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		return false
	}
	for i, size := range sizes {
		_ = c.traffic.Send(e.node, buffers[i][:size], times[i]) // what is no IP packet goes nowhere
	}
	c.traffic.Advance(time.Now())
	if next, ok := c.traffic.Next(); ok && (c.next.IsZero() || next.Before(c.next)) {
		c.next = next
		c.alarm.Wake()
	}
	return true
}

// pump moves packets on when their time comes.
func (c *Carrier) pump() {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	pace.Sharpen()
	for {
		c.mu.Lock()
		if c.closed {
			c.mu.Unlock()
			return
		}
		c.traffic.Advance(time.Now())
		c.next, _ = c.traffic.Next()
		next, exactly := c.next, c.traffic.NextArrives()
		c.mu.Unlock()
		c.alarm.Wait(next, exactly)
	}
}

// Passing is what crosses each link, and how many packets the lab itself had to
// drop.
func (c *Carrier) Passing() ([]world.Passing, uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	c.traffic.Advance(now)
	return c.traffic.Passing(now), c.traffic.Overflow()
}

// Close ends the lab: its interfaces vanish, and its namespaces with the last
// program in them.
func (c *Carrier) Close() error {
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return nil
	}
	c.closed = true
	c.mu.Unlock()
	c.alarm.Wake()
	_, _ = unix.Write(c.quit, []byte{1, 0, 0, 0, 0, 0, 0, 0})
	c.owned.Wait()
	c.closeEnds()
	_ = unix.Close(c.quit)
	return c.alarm.Close()
}

func (c *Carrier) closeEnds() {
	for _, e := range c.ends {
		e.Close()
	}
}
