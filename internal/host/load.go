package host

import (
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Load is how busy a machine was in a stretch of time.
type Load struct {
	Process float64  `json:"process_ratio"` // processors' time that this program took ÷ time: 1 is one processor
	Machine *float64 `json:"machine_ratio"` // share of all processors' time that was not idle; nil where the system does not tell
}

// Meter measures load between two calls of Since.
type Meter struct {
	mu         sync.Mutex
	at         time.Time
	own        time.Duration
	busy, idle uint64
	told       bool
}

// NewMeter begins to measure.
func NewMeter() *Meter {
	m := &Meter{}
	m.Since()
	return m
}

// Since is the load since it was last asked.
func (m *Meter) Since() Load {
	m.mu.Lock()
	defer m.mu.Unlock()
	now, own := time.Now(), processTime()
	busy, idle, told := processors()
	var l Load
	if passed := now.Sub(m.at); !m.at.IsZero() && passed > 0 {
		l.Process = float64(own-m.own) / float64(passed)
	}
	if all := busy - m.busy + idle - m.idle; told && m.told && all > 0 {
		share := float64(busy-m.busy) / float64(all)
		l.Machine = &share
	}
	m.at, m.own, m.busy, m.idle, m.told = now, own, busy, idle, told
	return l
}

func processTime() time.Duration {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// processors reads what all processors did since the start, in ticks (proc(5), stat).
func processors() (busy, idle uint64, ok bool) {
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, 0, false
	}
	line, _, _ := strings.Cut(string(text), "\n")
	for i, field := range strings.Fields(strings.TrimPrefix(line, "cpu ")) {
		n, err := strconv.ParseUint(field, 10, 64)
		switch {
		case err != nil:
			return 0, 0, false
		case i == 3 || i == 4: // idle, and waiting for a disk
			idle += n
		case i < 8: // what guests took is counted twice
			busy += n
		}
	}
	return busy, idle, busy+idle > 0
}

// Boot names the start of this machine's kernel: two programs with the same one share
// its clock. Empty where the system does not tell.
func Boot() string {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

// Kernel is the system's name and release.
func Kernel() string {
	var u unix.Utsname
	if unix.Uname(&u) != nil {
		return ""
	}
	return unix.ByteSliceToString(u.Sysname[:]) + " " + unix.ByteSliceToString(u.Release[:])
}

// ReadClock is how the kernel sees its own clock.
func ReadClock() Clock { return clock() }
