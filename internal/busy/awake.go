package busy

import (
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// awake names the environment variable that makes a test program one that only keeps a
// processor awake: the number of that processor.
const awake = "WOODLARK_KEEP_AWAKE"

// longest is how long a helper lives when nobody ends it.
const longest = 10 * time.Minute

func init() {
	if n, err := strconv.Atoi(os.Getenv(awake)); err == nil {
		keep(n)
		os.Exit(0)
	}
	if os.Getenv(watch) != "" {
		tellStalls(os.Stdout)
		os.Exit(0)
	}
}

// alive counts while the program that started this one is there.
func alive() func() bool {
	parent, end := os.Getppid(), time.Now().Add(longest)
	return func() bool { return os.Getppid() == parent && time.Now().Before(end) }
}

// keep has a processor do nothing, with lower weight than all else, so that it does not
// fall asleep.
func keep(processor int) {
	runtime.LockOSThread()
	var one unix.CPUSet
	one.Set(processor)
	if unix.SchedSetaffinity(0, &one) != nil {
		return
	}
	if unix.SchedSetAttr(0, &unix.SchedAttr{Size: unix.SizeofSchedAttr, Policy: unix.SCHED_IDLE}, 0) != nil {
		return // it would take time from who measures
	}
	// Where sessions share processors evenly, the weight is that of the session (sched(7)).
	if err := os.WriteFile("/proc/self/autogroup", []byte("19"), 0); err != nil && !os.IsNotExist(err) {
		return
	}
	for there := alive(); there(); {
		for range 10_000_000 {
		}
	}
}

// helper starts this program again as one that does something else.
func helper(as, value string) *exec.Cmd {
	cmd := exec.Command("/proc/self/exe")
	cmd.Env = append(os.Environ(), as+"="+value)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return cmd
}

func end(cmd *exec.Cmd) {
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
}

var (
	wakers  sync.Mutex
	users   int
	spinner []*exec.Cmd
)

// Awake keeps the processors from falling asleep until a test ends: on a virtual machine
// whose host is busy, a processor that slept is given back tens of milliseconds late,
// which is no fault of what is measured. A test that asks how busy the machine is does
// without.
func Awake(t *testing.T) {
	t.Helper()
	wakers.Lock()
	defer wakers.Unlock()
	if users++; users == 1 {
		var mine unix.CPUSet
		if err := unix.SchedGetaffinity(0, &mine); err != nil {
			t.Logf("processors are not kept awake: %v", err)
		}
		for n := range 8 * len(mine) * int(unix.SizeofPtr) {
			if !mine.IsSet(n) {
				continue
			}
			cmd := helper(awake, strconv.Itoa(n))
			if err := cmd.Start(); err != nil {
				t.Logf("processor %d is not kept awake: %v", n, err)
				continue
			}
			spinner = append(spinner, cmd)
		}
	}
	t.Cleanup(func() {
		wakers.Lock()
		defer wakers.Unlock()
		if users--; users > 0 {
			return
		}
		for _, cmd := range spinner {
			end(cmd)
		}
		spinner = nil
	})
}
