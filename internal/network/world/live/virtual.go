package live

import (
	"context"
	"slices"
	"sync"
	"time"

	"woodlark.example/internal/network/world"
)

// virtual is a clock that goes on as soon as all goroutines that it started have
// something to wait for.
type virtual struct {
	n *Network

	mu    sync.Mutex
	now   time.Time
	busy  int // goroutines that do not wait
	waits []*wait
}

// wait is a goroutine that waits.
type wait struct {
	at      time.Time // zero is for ever
	wake    <-chan struct{}
	ctx     context.Context
	ready   chan struct{}
	again   chan struct{} // in the place of ready, after time has stalled
	resumed bool
	on      bool // what Until returns
}

// Now is the virtual time.
func (v *virtual) Now() time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.now
}

// Go runs f and counts it in.
func (v *virtual) Go(group *sync.WaitGroup, f func()) {
	v.mu.Lock()
	v.busy++
	v.mu.Unlock()
	group.Go(func() {
		defer func() {
			v.mu.Lock()
			v.busy--
			v.turn()
			v.mu.Unlock()
		}()
		f()
	})
}

// Until waits in virtual time. It may also return false for no reason.
func (v *virtual) Until(ctx context.Context, t time.Time, wake <-chan struct{}) bool {
	v.mu.Lock()
	if !t.IsZero() && !v.now.Before(t) {
		v.mu.Unlock()
		return true
	}
	w := &wait{at: t, wake: wake, ctx: ctx, ready: make(chan struct{})}
	v.waits = append(v.waits, w)
	v.busy--
	v.turn()
	v.mu.Unlock()
	<-w.ready
	if w.again == nil {
		return w.on
	}
	select {
	case <-w.again:
		return w.on
	case <-wake: // from a goroutine that is not counted
	case <-ctx.Done():
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, other := range slices.Clone(v.waits) {
		v.resume(other, false) // they look again, and wait anew
	}
	return w.on
}

// resume lets a waiting goroutine go on.
func (v *virtual) resume(w *wait, on bool) {
	if w.resumed {
		return
	}
	w.resumed, w.on = true, on
	v.busy++
	i := slices.Index(v.waits, w)
	v.waits = slices.Delete(v.waits, i, i+1)
	if w.again != nil {
		close(w.again)
	} else {
		close(w.ready)
	}
}

// stall makes those who wait look for messages themselves, when nothing will
// happen otherwise. While time goes on turn looks for them, so that no message
// is taken and not yet acted on when time takes a step.
func (v *virtual) stall() {
	for _, w := range v.waits {
		if w.again == nil {
			w.again = make(chan struct{})
			close(w.ready)
		}
	}
}

// turn lets time go on while nobody is busy.
func (v *virtual) turn() {
	for v.busy == 0 && len(v.waits) > 0 {
		v.listen()
		if v.busy == 0 && !v.step() {
			v.stall()
			return
		}
	}
}

// listen lets those go on who have a message, or whose context has ended.
func (v *virtual) listen() {
	for i := 0; i < len(v.waits); {
		w := v.waits[i]
		if len(w.wake) == 0 && w.ctx.Err() == nil {
			i++
			continue
		}
		select {
		case <-w.wake:
		default:
		}
		v.resume(w, false) // which takes it out of the list
	}
}

// step brings the time to what somebody waits for next: a time, or a packet that
// arrives. It is false when nothing will happen.
func (v *virtual) step() bool {
	limit, some := world.Never, false
	for _, w := range v.waits {
		if !w.at.IsZero() && w.at.Before(limit) {
			limit, some = w.at, true
		}
	}
	if v.packets(limit) {
		return true
	}
	if !some {
		return false
	}
	v.now = limit
	for i := 0; i < len(v.waits); {
		if w := v.waits[i]; !w.at.IsZero() && !w.at.After(limit) {
			v.resume(w, true)
			continue
		}
		i++
	}
	return true
}

// packets moves packets on up to a time; true when one was delivered before it.
func (v *virtual) packets(limit time.Time) bool {
	v.n.mu.Lock()
	defer v.n.mu.Unlock()
	for {
		next, ok := v.n.traffic.Next()
		if !ok || next.After(limit) {
			return false
		}
		v.now = next
		v.n.traffic.Advance(next)
		if v.n.delivered {
			v.n.delivered = false
			return true
		}
	}
}
