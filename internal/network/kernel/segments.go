package kernel

import (
	"encoding/binary"
	"errors"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network"
)

const (
	mostSegments = 64     // UDP_MAX_SEGMENTS of older kernels
	mostTogether = 65_000 // bytes of payload that one packet may have before it is cut up
)

// segments sends messages of one size to one place as one packet, which the kernel or the interface
// cuts up as it leaves (UDP_SEGMENT): what leaves are the same datagrams, with less work for each.
type segments struct {
	header  unix.Msghdr
	parts   [mostSegments]unix.Iovec
	name    unix.RawSockaddrInet6
	control []byte
	off     bool // this host, or the way out, cannot
}

func newSegments() *segments {
	s := &segments{control: make([]byte, unix.CmsgSpace(2))}
	h := (*unix.Cmsghdr)(unsafe.Pointer(&s.control[0]))
	h.Level, h.Type = unix.IPPROTO_UDP, unix.UDP_SEGMENT
	h.SetLen(unix.CmsgLen(2))
	return s
}

// alike is how many messages from the first on go together.
func alike(list []network.Outgoing) (n int) {
	size := len(list[0].Message)
	for n < len(list) && n < mostSegments && (n+1)*size <= mostTogether && len(list[n].Message) == size && list[n].To == list[0].To {
		n++
	}
	return n
}

// send sends the first messages of a list, as many as go together, and returns how many that were.
// It says that it is off where they have to be sent one by one.
func (s *segments) send(fd int, list []network.Outgoing, six bool) (int, error) {
	n := alike(list)
	if n < 2 {
		return 0, errOneByOne
	}
	s.header.Name, s.header.Namelen = (*byte)(unsafe.Pointer(&s.name)), writeAddress(&s.name, list[0].To, six)
	s.header.Iov = &s.parts[0]
	s.header.SetIovlen(n)
	s.header.Control = &s.control[0]
	s.header.SetControllen(len(s.control))
	binary.NativeEndian.PutUint16(s.control[unix.CmsgLen(0):], uint16(len(list[0].Message)))
	for i := range n {
		s.parts[i].Base = unsafe.SliceData(list[i].Message)
		s.parts[i].SetLen(len(list[i].Message))
	}
	before := time.Now()
	_, _, problem := unix.RawSyscall(unix.SYS_SENDMSG, uintptr(fd), uintptr(unsafe.Pointer(&s.header)), 0)
	took := time.Since(before)
	for i := range n {
		s.parts[i].Base = nil
	}
	switch problem {
	case 0:
	case unix.EIO, unix.EINVAL, unix.ENOPROTOOPT, unix.EOPNOTSUPP, unix.EMSGSIZE:
		// Too large ones are told apart when they are sent one by one.
		s.off = true
		return 0, errOneByOne
	default:
		return 0, problem
	}
	each := took / time.Duration(n)
	for i := range n {
		list[i].Sent, list[i].Within = before.Add(time.Duration(i)*each+each/2), took
	}
	return n, nil
}

// errOneByOne is for messages that do not go together.
var errOneByOne = errors.New("one by one")
