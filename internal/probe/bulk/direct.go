package bulk

import (
	"errors"
	"net"
	"runtime"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Connections of this machine are read and written by plain calls of the kernel that
// do not wait, and wait in poll: to tell the runtime of each, as package net does, would
// cost a part of what a processor moves.

// slice is how long is waited before it is looked whether the transfer is over.
const slice = 50 * time.Millisecond

// A transfer that is so fast that calls move half a chunk and more is waited for by asking
// again, so often: to be put to sleep and woken costs both ends more than that. On slower
// ways it would only look as if this machine were busy.
const (
	askAgain = 300
	fast     = chunk / 2
)

// errOver ends a loop whose transfer is over.
var errOver = errors.New("stopped before its end")

// directly runs calls on a connection's descriptor until one says that it is done; false
// when this is no connection of the kernel's. wait is what a call that would block waits
// for: unix.POLLIN or unix.POLLOUT. A call tells how many bytes it moved.
func (t *Transfer) directly(c net.Conn, wait int16, do func(fd uintptr) (moved int, done bool, problem syscall.Errno)) (bool, error) {
	s, ok := c.(syscall.Conn)
	if !ok {
		return false, nil
	}
	raw, err := s.SyscallConn()
	if err != nil {
		return false, nil
	}
	var result error
	err = raw.Control(func(fd uintptr) {
		poll := []unix.PollFd{{Fd: int32(fd), Events: wait}}
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		tries := askAgain
		for !t.over.Load() {
			switch moved, done, problem := do(fd); {
			case done:
				return
			case problem == 0:
				tries = askAgain
				if moved >= fast {
					tries = 0
				}
			case problem == unix.EAGAIN && tries < askAgain:
				tries++
			case problem == unix.EAGAIN:
				_, _ = unix.Poll(poll, int(slice/time.Millisecond))
			case problem != 0 && problem != unix.EINTR:
				result = problem
				return
			}
		}
		result = errOver
	})
	return true, errors.Join(err, result)
}

// sendDirectly sends as send does.
func (t *Transfer) sendDirectly(c net.Conn, end time.Time) (bool, error) {
	left, at := t.Bytes, 0
	return t.directly(c, unix.POLLOUT, func(fd uintptr) (int, bool, syscall.Errno) {
		if !time.Now().Before(end) || t.Bytes > 0 && left <= 0 {
			return 0, true, 0
		}
		n := len(block) - at
		if t.Bytes > 0 {
			n = int(min(int64(n), left))
		}
		k, _, problem := unix.RawSyscall6(unix.SYS_SENDTO, fd, uintptr(unsafe.Pointer(&block[at])), uintptr(n), unix.MSG_DONTWAIT|unix.MSG_NOSIGNAL, 0, 0)
		if problem == 0 {
			t.count(int(k))
			left -= int64(k)
			at = (at + int(k)) % len(block)
		}
		return int(k), false, problem
	})
}

// receiveDirectly receives as receive does.
func (t *Transfer) receiveDirectly(c net.Conn) (bool, error) {
	b := make([]byte, chunk)
	return t.directly(c, unix.POLLIN, func(fd uintptr) (int, bool, syscall.Errno) {
		n, _, problem := unix.RawSyscall6(unix.SYS_RECVFROM, fd, uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)), unix.MSG_DONTWAIT, 0, 0)
		if problem == 0 {
			t.count(int(n))
		}
		return int(n), problem == 0 && n == 0, problem
	})
}
