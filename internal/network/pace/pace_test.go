package pace_test

import (
	"context"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"golang.org/x/sys/unix"

	"woodlark.example/internal/network/pace"
)

func TestItWaitsUntilThen(t *testing.T) {
	var late []time.Duration
	for i := range 60 {
		due := time.Now().Add(time.Duration(i%8) * time.Millisecond)
		assert.True(t, pace.Until(t.Context(), due, nil))
		d := time.Since(due)
		assert.GreaterOrEqual(t, d, time.Duration(0), "never early")
		late = append(late, d)
	}
	slices.Sort(late)
	assert.Less(t, late[30], 100*time.Millisecond, "how late exactly is for the benchmark to say")
}

func TestItEndsEarly(t *testing.T) {
	wake := make(chan struct{}, 1)
	wake <- struct{}{}
	began := time.Now()
	assert.False(t, pace.Until(t.Context(), began.Add(time.Hour), wake), "woken")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.False(t, pace.Until(ctx, began.Add(time.Hour), nil), "ended")
	assert.Less(t, time.Since(began), time.Minute)
	assert.True(t, pace.Until(ctx, began.Add(-time.Hour), nil), "a time that has passed is there")
}

// TestAheadAndBack: a thread goes ahead of the others where that is permitted, and back in
// any case.
func TestAheadAndBack(t *testing.T) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	policy := func() uintptr {
		p, _, problem := unix.RawSyscall(unix.SYS_SCHED_GETSCHEDULER, 0, 0, 0)
		assert.Zero(t, problem)
		return p
	}
	before := policy()
	back := pace.Ahead()
	assert.Contains(t, []uintptr{before, unix.SCHED_FIFO}, policy())
	back()
	assert.Equal(t, before, policy())
}
