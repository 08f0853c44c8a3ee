package sweep

import (
	"net/netip"
	"slices"
	"time"
)

// Heard is one address that answered.
type Heard struct {
	Addr netip.Addr
	RTT  time.Duration // 0 when it was not timed
}

// Slower is an address that answers later than it did.
type Slower struct {
	Addr        netip.Addr
	Before, Now time.Duration
}

// Difference is how a sweep differs from the one before it of the same
// addresses.
type Difference struct {
	New, Gone []netip.Addr
	Slower    []Slower
}

// What is slower by less than this says nothing: one round trip is one sample.
const (
	slowerFactor = 1.5
	slowerLeast  = time.Millisecond
)

// LooksSlower reports whether a round trip is so much longer than the one before
// that it is worth to ask again.
func LooksSlower(before, now time.Duration) bool {
	return before > 0 && now > time.Duration(slowerFactor*float64(before))+slowerLeast
}

// Compare tells two sweeps apart. The round trips are to be the least of several
// where they look slower.
func Compare(before, now []Heard) Difference {
	var d Difference
	old := make(map[netip.Addr]time.Duration, len(before))
	for _, h := range before {
		old[h.Addr] = h.RTT
	}
	there := make(map[netip.Addr]bool, len(now))
	for _, h := range now {
		there[h.Addr] = true
		rtt, known := old[h.Addr]
		switch {
		case !known:
			d.New = append(d.New, h.Addr)
		case LooksSlower(rtt, h.RTT):
			d.Slower = append(d.Slower, Slower{h.Addr, rtt, h.RTT})
		}
	}
	for _, h := range before {
		if !there[h.Addr] {
			d.Gone = append(d.Gone, h.Addr)
		}
	}
	slices.SortFunc(d.New, netip.Addr.Compare)
	slices.SortFunc(d.Gone, netip.Addr.Compare)
	slices.SortFunc(d.Slower, func(a, b Slower) int { return a.Addr.Compare(b.Addr) })
	return d
}
