package pace

import (
	"encoding/binary"
	"fmt"
	"math"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/await"
)

// Alarm waits for a moment to within some tens of microseconds, and can be woken
// before it at any time. Wait belongs to one goroutine, which should keep to
// one thread: see Sharpen.
type Alarm struct {
	fd     int
	early  time.Duration // by which it wakes, learnt from how late the kernel was
	awake  time.Duration // that may still be spent
	waited time.Time     // for the last time
}

// NewAlarm opens an alarm.
func NewAlarm() (*Alarm, error) {
	fd, err := unix.Eventfd(0, unix.EFD_NONBLOCK|unix.EFD_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("open an alarm: %w", err)
	}
	return &Alarm{fd: fd, early: leastEarly}, nil
}

// Sharpen asks the kernel to be exact about the sleeps of the calling thread,
// which by default may last 50 µs longer. The goroutine must be locked to its
// thread.
func Sharpen() { _ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0) }

// Ahead lets the calling thread run before all others that the kernel shares time between
// (SCHED_FIFO at its least priority), where this is permitted, until back is called. It is
// for a thread that mostly sleeps: one that does not would leave the others nothing. The
// goroutine must be locked to its thread.
func Ahead() (back func()) {
	set := func(policy uintptr, priority int32) bool {
		_, _, problem := unix.RawSyscall(unix.SYS_SCHED_SETSCHEDULER, 0, policy, uintptr(unsafe.Pointer(&priority)))
		return problem == 0
	}
	if !set(unix.SCHED_FIFO, 1) {
		return func() {}
	}
	return func() { set(unix.SCHED_NORMAL, 0) }
}

const (
	leastEarly = 50 * time.Microsecond
	mostEarly  = 400 * time.Microsecond
	mostAwake  = 10 * time.Millisecond
)

// Wake ends a wait, or the next one.
func (a *Alarm) Wake() {
	var one [8]byte
	binary.NativeEndian.PutUint64(one[:], 1)
	_, _ = unix.Write(a.fd, one[:])
}

// Wait returns when t has come or the alarm is woken. A zero t waits for ever.
// exactly asks for t to within some microseconds, at the cost of some processor
// time.
func (a *Alarm) Wait(t time.Time, exactly bool) {
	left := time.Duration(math.MaxInt64)
	if !t.IsZero() {
		if left = time.Until(t); left <= 0 {
			return
		}
	}
	// The kernel wakes a sleeper some tens of microseconds late. They are spent
	// awake instead: always where that is asked for, else within a tenth of all
	// time. Between moments that come close upon each other it would only take
	// the processor from others.
	now := time.Now()
	a.awake = min(mostAwake, a.awake+now.Sub(a.waited)/10)
	a.waited = now
	awake := time.Duration(0)
	if left > 2*a.early && (exactly || a.awake >= a.early) {
		awake = a.early
		a.awake -= a.early
	}
	ts := unix.NsecToTimespec(int64(left - awake))
	fds := []unix.PollFd{{Fd: int32(a.fd), Events: unix.POLLIN}}
	if n, err := await.Poll(fds, &ts); n > 0 && err == nil {
		var count [8]byte
		_, _ = unix.Read(a.fd, count[:])
		return
	}
	if awake > 0 && !t.IsZero() {
		overslept := time.Since(t) + awake
		a.early = max(leastEarly, min(mostEarly, (7*a.early+2*overslept)/8))
		for time.Until(t) > 0 {
		}
	}
}

// Close frees the alarm. Nobody may wait for it.
func (a *Alarm) Close() error { return unix.Close(a.fd) }
