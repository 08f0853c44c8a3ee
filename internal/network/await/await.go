// Package await waits in the kernel for what may take long.
//
// A thread that waits by an ordinary system call keeps its processor (of the runtime's) until the
// runtime's monitor finds it waiting and takes the processor away: so the monitor has to look each
// 20 µs, which costs more than a thousand probes a second do. Here the processor is given back
// first.
package await

import (
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The runtime keeps these for callers outside (go.dev/issue/67401).

//go:linkname entersyscallblock runtime.entersyscallblock
func entersyscallblock()

//go:linkname exitsyscall runtime.exitsyscall
func exitsyscall()

// Poll waits until one of the files is ready, for as long as is given; for ever when that is nil.
// See poll(2). It returns how many are ready, and EINTR where a signal came.
func Poll(fds []unix.PollFd, most *unix.Timespec) (int, error) {
	if len(fds) == 0 {
		return 0, unix.EINVAL
	}
	n, problem := ppoll(unsafe.Pointer(&fds[0]), uintptr(len(fds)), unsafe.Pointer(most))
	if problem != 0 {
		return 0, problem
	}
	return int(n), nil
}

// Sleep waits for a while. A signal may end it early.
func Sleep(d time.Duration) {
	if d <= 0 {
		return
	}
	most := unix.NsecToTimespec(int64(d))
	_, _ = ppoll(nil, 0, unsafe.Pointer(&most))
}

// ppoll has no processor between the two calls of the runtime: nothing in it may grow the stack.
//
//go:nosplit
//go:norace
func ppoll(fds unsafe.Pointer, n uintptr, most unsafe.Pointer) (uintptr, syscall.Errno) {
	entersyscallblock()
	ready, _, problem := syscall.RawSyscall6(unix.SYS_PPOLL, uintptr(fds), n, uintptr(most), 0, 0, 0)
	exitsyscall()
	return ready, problem
}
