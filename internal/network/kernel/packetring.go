package kernel

import (
	"errors"
	"fmt"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/await"
	"woodlark.example/wire"
)

// packetRing is memory that a packet socket shares with the kernel: places for a frame each, which
// one of both writes and the other reads, one after the other.
type packetRing struct {
	fd     int
	memory []byte
	slot   int // bytes of a place
	slots  int
	next   int // of a ring that sends, the next to be written; of one that receives, the next to be read
	first  int // of a ring that sends, the oldest that was written and is not known to be sent
	wrote  int // of a ring that sends, how many are written and not given to the kernel
}

const (
	ringPage = 1 << 16
	// frameAt is where a frame to be sent stands in its place: behind the head of the place.
	frameAt = unix.SizeofTpacket2Hdr
	// headRoom is what a place of a ring that receives has before the frame, at most.
	headRoom = 128
)

// newRing makes one for frames of a size, as deep as asked for where it takes no more than that
// many bytes.
func newRing(kind, size, depth, most int) (_ *packetRing, err error) {
	r := &packetRing{slot: 256}
	for r.slot < size+headRoom {
		r.slot *= 2
	}
	page := max(ringPage, r.slot)
	pages := max(2, min(depth, most/r.slot)*r.slot/page)
	r.slots = pages * page / r.slot
	if r.fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = unix.Close(r.fd)
		}
	}()
	if err := unix.SetsockoptInt(r.fd, unix.SOL_PACKET, unix.PACKET_VERSION, unix.TPACKET_V2); err != nil {
		return nil, fmt.Errorf("share a ring with the kernel: %w", err)
	}
	if kind == unix.PACKET_TX_RING {
		// What cannot be sent is passed over, and does not hold up what is behind it.
		if err := unix.SetsockoptInt(r.fd, unix.SOL_PACKET, unix.PACKET_LOSS, 1); err != nil {
			return nil, fmt.Errorf("share a ring with the kernel: %w", err)
		}
	}
	q := unix.TpacketReq{Block_size: uint32(page), Block_nr: uint32(pages), Frame_size: uint32(r.slot), Frame_nr: uint32(r.slots)}
	if err := unix.SetsockoptTpacketReq(r.fd, unix.SOL_PACKET, kind, &q); err != nil {
		return nil, fmt.Errorf("share a ring of %d bytes with the kernel: %w", pages*page, err)
	}
	if r.memory, err = unix.Mmap(r.fd, 0, pages*page, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		return nil, fmt.Errorf("share a ring of %d bytes with the kernel: %w", pages*page, err)
	}
	return r, nil
}

func (r *packetRing) free() {
	_ = unix.Munmap(r.memory)
	_ = unix.Close(r.fd)
}

func (r *packetRing) head(i int) *unix.Tpacket2Hdr {
	return (*unix.Tpacket2Hdr)(unsafe.Pointer(&r.memory[i%r.slots*r.slot]))
}

func (r *packetRing) status(i int) uint32 { return atomic.LoadUint32(&r.head(i).Status) }

// came is the k-th frame that came and was not given back; nil when there is none.
func (r *packetRing) came(k int) (b []byte, h *unix.Tpacket2Hdr, from *unix.RawSockaddrLinklayer) {
	if k >= r.slots {
		return nil, nil, nil
	}
	i := (r.next + k) % r.slots
	if r.status(i)&unix.TP_STATUS_USER == 0 {
		return nil, nil, nil
	}
	h = r.head(i)
	at := i*r.slot + int(h.Mac)
	return r.memory[at : at+int(h.Snaplen)], h, (*unix.RawSockaddrLinklayer)(unsafe.Pointer(&r.memory[i*r.slot+unix.SizeofTpacket2Hdr]))
}

// giveBack gives the oldest place that was read back to the kernel.
func (r *packetRing) giveBack() {
	atomic.StoreUint32(&r.head(r.next).Status, unix.TP_STATUS_KERNEL)
	r.next = (r.next + 1) % r.slots
}

// room is where the next frame is written; nil when the kernel has not sent what stands there.
func (r *packetRing) room() []byte {
	if r.wrote >= r.slots-1 || r.status(r.next) != unix.TP_STATUS_AVAILABLE {
		return nil
	}
	at := r.next * r.slot
	return r.memory[at+frameAt : at+r.slot]
}

// put has the frame of that many bytes, which was written there, sent with the next flush.
func (r *packetRing) put(n int) {
	h := r.head(r.next)
	h.Len = uint32(n)
	atomic.StoreUint32(&h.Status, unix.TP_STATUS_SEND_REQUEST)
	r.next = (r.next + 1) % r.slots
	r.wrote++
}

// mostIdle is how often the kernel is asked to send without sending.
const mostIdle = 100

var errStuck = errors.New("the kernel does not send what is in the ring")

// passedOver is a length that no frame has: the kernel passes over a place that has it.
const passedOver = 1<<31 - 1

// flush sends all that was put, and returns how many left: the error is about the first that did
// not, which is given up, with those behind it.
func (r *packetRing) flush() (sent int, err error) {
	for idle := 0; r.wrote > 0; idle++ {
		_, _, problem := unix.RawSyscall6(unix.SYS_SENDTO, uintptr(r.fd), 0, 0, unix.MSG_DONTWAIT, 0, 0)
		for r.wrote > 0 && r.status(r.first)&unix.TP_STATUS_SEND_REQUEST == 0 {
			r.pass()
			sent++
			idle = 0
		}
		if r.wrote == 0 {
			break
		}
		switch {
		case idle > mostIdle:
			r.giveUp()
			return sent, errStuck
		case problem == unix.ENOBUFS:
			// A queue of this host dropped it. It stands there to be sent once more, and the
			// kernel goes on at no other place.
			r.head(r.first).Len = passedOver
		case problem == unix.EAGAIN && r.await(unix.POLLOUT, time.Millisecond): // there is room again
		case problem != 0 && problem != unix.EINTR:
			r.giveUp()
			return sent, problem
		}
	}
	return sent, nil
}

func (r *packetRing) pass() {
	r.first = (r.first + 1) % r.slots
	r.wrote--
}

// giveUp takes all that was put and did not leave out of the ring again: the kernel goes on where
// it stopped.
func (r *packetRing) giveUp() {
	r.next = r.first
	for ; r.wrote > 0; r.wrote-- {
		atomic.StoreUint32(&r.head(r.first+r.wrote-1).Status, unix.TP_STATUS_AVAILABLE)
	}
}

// await waits until the socket can be read or written.
func (r *packetRing) await(event int16, d time.Duration) bool {
	most := unix.NsecToTimespec(d.Nanoseconds())
	n, err := await.Poll([]unix.PollFd{{Fd: int32(r.fd), Events: event}}, &most)
	return n > 0 && err == nil || errors.Is(err, unix.EINTR)
}

// listenFor has a packet socket give only frames of one test, of one station where it is named.
func listenFor(fd int, channel uint16, peer *wire.Hardware) error {
	code, err := bpf.Assemble(filterFor(channel, peer))
	if err != nil {
		return fmt.Errorf("filter frames: %w", err)
	}
	list := make([]unix.SockFilter, len(code))
	for i, c := range code {
		list[i] = unix.SockFilter{Code: c.Op, Jt: c.Jt, Jf: c.Jf, K: c.K}
	}
	if err := unix.SetsockoptSockFprog(fd, unix.SOL_SOCKET, unix.SO_ATTACH_FILTER, &unix.SockFprog{Len: uint16(len(list)), Filter: &list[0]}); err != nil {
		return fmt.Errorf("filter frames: %w", err)
	}
	return nil
}

// filterFor is the program of listenFor: X is how much further than usual the EtherType stands.
func filterFor(channel uint16, peer *wire.Hardware) []bpf.Instruction {
	const (
		typeAt = 12
		tags   = 3 // one more than can be asked for, and one that the kernel took off
		labels = 5
		all    = 0x40000
	)
	further := func(n uint32) []bpf.Instruction {
		return []bpf.Instruction{bpf.TXA{}, bpf.ALUOpConstant{Op: bpf.ALUOpAdd, Val: n}, bpf.TAX{}}
	}
	code := []bpf.Instruction{bpf.LoadConstant{Dst: bpf.RegX, Val: 0}}
	for range tags {
		code = append(code, bpf.LoadIndirect{Off: typeAt, Size: 2}, bpf.JumpIf{Cond: bpf.JumpEqual, Val: wire.TypeServiceVLAN, SkipTrue: 1}, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: wire.TypeVLAN, SkipTrue: 3})
		code = append(code, further(4)...)
	}
	const block = 5
	code = append(code, bpf.LoadIndirect{Off: typeAt, Size: 2}, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: wire.TypeMPLS, SkipTrue: labels*block + 3})
	for i := range labels {
		// Whether a label is at the bottom of the stack is the last bit of its third byte.
		code = append(code, bpf.LoadIndirect{Off: typeAt + 4, Size: 1}, bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: 1, SkipTrue: uint8((labels-i)*block - 2)})
		code = append(code, further(4)...)
	}
	code = append(code, further(6)...)
	tests := []bpf.Instruction{bpf.LoadIndirect{Off: typeAt, Size: 2}, bpf.JumpIf{Val: wire.TypeLocal}, bpf.LoadIndirect{Off: typeAt + 2, Size: 2}, bpf.JumpIf{Val: uint32(channel)}}
	if peer != nil {
		high := uint32(peer[0])<<24 | uint32(peer[1])<<16 | uint32(peer[2])<<8 | uint32(peer[3])
		tests = append(tests, bpf.LoadAbsolute{Off: 6, Size: 4}, bpf.JumpIf{Val: high}, bpf.LoadAbsolute{Off: 10, Size: 2}, bpf.JumpIf{Val: uint32(peer[4])<<8 | uint32(peer[5])})
	}
	for i := 1; i < len(tests); i += 2 { // what does not fit goes to the end
		j := tests[i].(bpf.JumpIf)
		j.Cond, j.SkipTrue = bpf.JumpNotEqual, uint8(len(tests)-i)
		tests[i] = j
	}
	return append(append(code, tests...), bpf.RetConstant{Val: all}, bpf.RetConstant{Val: 0})
}
