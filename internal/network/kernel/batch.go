package kernel

import (
	"net/netip"
	"strconv"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
)

// mmsghdr is one message of recvmmsg and sendmmsg.
type mmsghdr struct {
	header unix.Msghdr
	size   uint32
}

// batch is the memory behind the packets of one call to the kernel. It lives on
// the heap, where the kernel's pointers into it stay true.
type batch struct {
	messages []mmsghdr
	parts    []unix.Iovec
	names    []unix.RawSockaddrInet6 // the larger of both families
	data     []byte
	control  []byte
	room     int
	held     int // of the messages, that have to be made ready again
}

func newBatch(n, room, controls int) *batch {
	b := &batch{messages: make([]mmsghdr, n), parts: make([]unix.Iovec, n), names: make([]unix.RawSockaddrInet6, n),
		data: make([]byte, n*room), control: make([]byte, n*controls), room: room, held: n}
	for i := range b.messages {
		h := &b.messages[i].header
		h.Iov = &b.parts[i]
		h.SetIovlen(1)
		if room > 0 {
			b.parts[i].Base = &b.data[i*room]
			b.parts[i].SetLen(room)
		}
		if controls > 0 {
			h.Control = &b.control[i*controls]
		}
	}
	return b
}

// receive reads what is there, up to most messages, and returns how many. A
// pending error of an earlier message is taken off the socket and not told: its
// own message on the error queue tells it.
func (b *batch) receive(fd, most, flags int) int {
	controls := 0
	if len(b.messages) > 0 {
		controls = len(b.control) / len(b.messages)
	}
	for i := range b.held {
		h := &b.messages[i].header
		h.Name = (*byte)(unsafe.Pointer(&b.names[i]))
		h.Namelen = uint32(unsafe.Sizeof(b.names[i]))
		h.SetControllen(controls)
		h.Flags = 0
	}
	b.held = 0
	for range 3 {
		n, _, problem := unix.RawSyscall6(unix.SYS_RECVMMSG, uintptr(fd), uintptr(unsafe.Pointer(&b.messages[0])), uintptr(min(most, len(b.messages))),
			uintptr(flags|unix.MSG_DONTWAIT), 0, 0)
		if problem == 0 {
			b.held = int(n)
			return int(n)
		}
		if problem == unix.EAGAIN {
			break
		}
	}
	return 0
}

// packet makes p of the i-th message that receive read, before it is parsed, and
// returns its control messages.
func (b *batch) packet(i int, seen time.Time, p *network.Packet) (control []byte) {
	size := min(int(b.messages[i].size), b.room)
	*p = network.Packet{Seen: seen, Data: b.data[i*b.room : i*b.room+size]}
	p.Peer, p.Port = addressIn(&b.names[i])
	controls := len(b.control) / len(b.messages)
	return b.control[i*controls : i*controls+int(b.messages[i].header.Controllen)]
}

// send sends messages from the list on and returns how many went.
func (b *batch) send(fd int, list []network.Outgoing, six bool) (int, error) {
	n := min(len(list), len(b.messages))
	for i := range n {
		h := &b.messages[i].header
		h.Name = (*byte)(unsafe.Pointer(&b.names[i]))
		h.Namelen = writeAddress(&b.names[i], list[i].To, six)
		m := list[i].Message
		b.parts[i].Base = unsafe.SliceData(m)
		b.parts[i].SetLen(len(m))
	}
	before := time.Now()
	sent, _, problem := unix.RawSyscall6(unix.SYS_SENDMMSG, uintptr(fd), uintptr(unsafe.Pointer(&b.messages[0])), uintptr(n), 0, 0, 0)
	if problem != 0 {
		for i := range n {
			b.parts[i].Base = nil
		}
		return 0, problem
	}
	// The kernel does not say when each of them left: they left one after the
	// other within the call.
	took := time.Since(before)
	each := took / time.Duration(max(1, int(sent)))
	for i := range int(sent) {
		list[i].Sent, list[i].Within = before.Add(time.Duration(i)*each+each/2), took
	}
	for i := range n {
		b.parts[i].Base = nil
	}
	return int(sent), nil
}

// addressIn reads an address that the kernel wrote.
func addressIn(name *unix.RawSockaddrInet6) (netip.Addr, uint16) {
	port := name.Port>>8 | name.Port<<8
	switch name.Family {
	case unix.AF_INET:
		four := (*unix.RawSockaddrInet4)(unsafe.Pointer(name))
		return netip.AddrFrom4(four.Addr), port
	case unix.AF_INET6:
		a := netip.AddrFrom16(name.Addr)
		if name.Scope_id != 0 && (a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast()) {
			a = a.WithZone(strconv.Itoa(int(name.Scope_id)))
		}
		return a, port
	}
	return netip.Addr{}, 0
}

// writeAddress writes one for the kernel and returns its length.
func writeAddress(name *unix.RawSockaddrInet6, to netip.AddrPort, six bool) uint32 {
	port := to.Port()>>8 | to.Port()<<8
	if six {
		*name = unix.RawSockaddrInet6{Family: unix.AF_INET6, Port: port, Addr: to.Addr().As16(), Scope_id: zoneOf(to.Addr())}
		return unix.SizeofSockaddrInet6
	}
	four := (*unix.RawSockaddrInet4)(unsafe.Pointer(name))
	*four = unix.RawSockaddrInet4{Family: unix.AF_INET, Port: port, Addr: to.Addr().Unmap().As4()}
	return unix.SizeofSockaddrInet4
}
