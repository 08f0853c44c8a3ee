package nearend

import (
	"context"
	"errors"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/session"
)

// sized is the far end's word about a size.
type sized struct {
	step session.Step
	size int
}

const (
	// sizeTries is how often a size is tried, as datagrams may be lost for other reasons: of a way
	// that loses one of ten each way, all of them are lost once in 20,000 times.
	sizeTries = 6
	leastSize = session.DatagramSize
)

// Largest finds the largest datagrams that come through whole, by their payload, up to those of the
// order: there and back. It is called before Run, of frames of a test, whose datagrams are not cut
// up; 0 is that none of them comes back at all.
func (r *Run) Largest(ctx context.Context) (there, back int, err error) {
	if there, err = r.search(ctx, r.order.Largest, session.Came); err != nil || there == 0 {
		return 0, 0, err
	}
	back, err = r.search(ctx, there, session.Again)
	return there, back, err
}

// search halves between what comes and what does not.
func (r *Run) search(ctx context.Context, most int, by session.Step) (int, error) {
	wait := time.Second
	come := func(size int) (bool, error) {
		took, ok, err := r.comes(ctx, size, by, wait)
		if ok { // what does not come is waited for as long as is plausible then
			wait = min(wait, max(100*time.Millisecond, 4*took))
		}
		return ok, err
	}
	// The smallest tells how long an answer takes; then most ways carry all.
	if ok, err := come(leastSize); err != nil || !ok {
		return 0, err
	}
	if ok, err := come(most); err != nil || ok {
		return most, err
	}
	comes, not := leastSize, most
	for comes < not-1 {
		try := (comes + not) / 2
		ok, err := come(try)
		if err != nil {
			return 0, err
		}
		if ok {
			comes = try
		} else {
			not = try
		}
	}
	return comes, nil
}

// comes reports whether one of a size comes through, and how long that took.
func (r *Run) comes(ctx context.Context, size int, by session.Step, wait time.Duration) (took time.Duration, ok bool, err error) {
	clock := r.o.Network.Clock()
	for range sizeTries {
		sent := clock.Now()
		_, err := r.duplex.Conn.Send(r.peer, session.MarshalSized(session.Sized, r.name, size, r.channel.Secret()))
		if errors.Is(err, network.ErrTooBig) {
			return 0, false, nil
		}
		if err != nil {
			return 0, false, err
		}
		timer := time.NewTimer(wait)
		for heard := true; heard; {
			select {
			case x := <-r.sizes:
				if x.step == by && x.size == size {
					timer.Stop()
					return clock.Now().Sub(sent), true, nil
				}
			case <-timer.C:
				heard = false
			case <-ctx.Done():
				timer.Stop()
				return 0, false, ctx.Err()
			}
		}
	}
	return 0, false, nil
}
