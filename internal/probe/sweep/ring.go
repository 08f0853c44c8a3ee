package sweep

import (
	"sync/atomic"
	"time"
)

// ring keeps, of the newest packets, when each left. A packet has a number, and
// its place in the ring is the number's remainder.
type ring struct {
	slots []slot
	next  uint64
	epoch time.Time
}

// slot is written by the sender and read by the receivers.
type slot struct {
	number   atomic.Uint64 // + 1; 0 is none
	sent     atomic.Int64  // nanoseconds since the epoch; 0 until it left
	departed atomic.Int64  // the same by the kernel's stamp
	within   atomic.Int64  // by how much sent may be wrong
	received atomic.Int64  // of an answer that came before sent was known; negative when user space timed it
	place    atomic.Uint64
}

const (
	leastRing = 1 << 12
	mostRing  = 1 << 20
)

func (r *ring) init(q Request, now time.Time) {
	// As many as can be under way: all at once, or what the rate sends within the
	// wait, twice over.
	need := q.Space.Len() * uint64(len(q.Vias))
	if q.Rate > 0 {
		need = min(need, uint64(2*q.Rate*q.Wait.Seconds()))
	}
	size := uint64(leastRing)
	for size < need && size < mostRing {
		size <<= 1
	}
	r.slots, r.epoch = make([]slot, size), now.Add(-time.Millisecond) // so that no moment is 0
}

func (r *ring) at(number uint64) *slot { return &r.slots[number&uint64(len(r.slots)-1)] }

// take gives the next packet its number.
func (r *ring) take(place uint64) uint64 {
	number := r.next
	r.next++
	s := r.at(number)
	s.sent.Store(0)
	s.departed.Store(0)
	s.received.Store(0)
	s.place.Store(place)
	s.number.Store(number + 1)
	return number
}

// find is the slot of a packet; nil when it is too long ago.
func (r *ring) find(number uint64) *slot {
	s := r.at(number)
	if s.number.Load() != number+1 {
		return nil
	}
	return s
}
