// Package pace waits for deadlines more exactly than a runtime timer does,
// whose grain is a millisecond.
package pace

import (
	"context"
	"time"

	"woodlark.example/internal/network/await"
)

// exact is the last part of a wait, spent in the kernel's own sleep.
const exact = 3 * time.Millisecond

// Until waits until t by the monotonic clock, usually to within a tenth of a
// millisecond. It returns early, with false, when ctx ends or wake is sent to.
func Until(ctx context.Context, t time.Time, wake <-chan struct{}) bool {
	for {
		left := time.Until(t)
		if left <= 0 {
			return true
		}
		if left > exact {
			timer := time.NewTimer(left - exact/2)
			select {
			case <-timer.C:
			case <-wake:
				timer.Stop()
				return false
			case <-ctx.Done():
				timer.Stop()
				return false
			}
			continue
		}
		await.Sleep(left)
	}
}
