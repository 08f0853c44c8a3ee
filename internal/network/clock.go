package network

import (
	"context"
	"sync"
	"time"

	"woodlark.example/internal/network/pace"
)

// Clock is the time of a network: the machine's, or that of a simulated network
// in virtual time, which runs on as soon as all have something to wait for.
type Clock interface {
	Now() time.Time
	// Until waits until t. It returns early, with false, when ctx ends or wake,
	// which must have room for one message, is sent to. A zero t waits for that
	// alone.
	Until(ctx context.Context, t time.Time, wake <-chan struct{}) bool
	// Go runs f in a goroutine of the group. All goroutines that wait by the
	// clock, or receive from the network, must be started so.
	Go(group *sync.WaitGroup, f func())
}

// SystemClock is the machine's.
type SystemClock struct{}

// Now is the time with its monotonic part.
func (SystemClock) Now() time.Time { return time.Now() }

// Until waits as pace.Until does.
func (SystemClock) Until(ctx context.Context, t time.Time, wake <-chan struct{}) bool {
	if !t.IsZero() {
		return pace.Until(ctx, t, wake)
	}
	select {
	case <-wake:
	case <-ctx.Done():
	}
	return false
}

// Go runs f.
func (SystemClock) Go(group *sync.WaitGroup, f func()) { group.Go(f) }
