package ping

import (
	"math/rand/v2"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
)

// Target is one address that is pinged, and how.
type Target struct {
	Addr     netip.Addr
	Via      reading.Via   // by what it is asked
	Interval time.Duration // between deadlines; the mean of it when Poisson
	Count    int           // probes to send; without end when 0
	Wait     time.Duration // for an answer; DefaultWait when 0
	Payload  int           // bytes after the ICMP or UDP header; DefaultPayload when 0
	Phase    time.Duration // of the first deadline after the start
	Poisson  bool          // random intervals (RFC 2330 §11.1.1)
	Seed     uint64        // of the random intervals

	// The functions are called by the engine in the middle of its work: they
	// must return at once and not call the engine.

	// Heard, if set, is called at once for each answer or refusal, and for a
	// probe whose wait has passed.
	Heard func(reading.Probe)
	// Settled is called once for each probe when its fate is final, in the
	// order of sending.
	Settled func(reading.Probe)
	// Done, if set, is called after the last of Count probes has settled.
	Done func()
}

// Defaults of Target.
const (
	DefaultWait     = 2 * time.Second
	DefaultPayload  = 48
	DefaultInterval = time.Second
)

// flight is a probe on its way.
type flight struct {
	probe    reading.Probe
	number   uint64
	sent     time.Time     // user space
	departed time.Time     // kernel; zero when not known
	stamped  time.Time     // as the STAMP packet says that it was sent
	dwelt    time.Duration // at the STAMP reflector
	heard    bool
}

// aim is the engine's own state of a target.
type aim struct {
	Target
	stopped bool
	random  *rand.Rand
	due     time.Time // next deadline
	sent    int
	highest uint64    // number of the probes that were answered
	flights []*flight // in the order of sending
	index   int       // in the heap of deadlines; −1 when not in it
	anchor  time.Time // a deadline of which it is known what time of day it was
	day     time.Time // that
}

// jitter is how far two readings of the two clocks may be apart for no reason but that one is read
// behind the other.
const jitter = 100 * time.Microsecond

// dueAt is the time of day of the deadline, of which now is late. As long as nobody sets the clock,
// deadlines are as far apart by the time of day as they are by the steady clock: reading both afresh
// for each would only add noise.
func (a *aim) dueAt(now time.Time, late time.Duration) time.Time {
	is := now.Round(0).Add(-late)
	if expected := a.day.Add(a.due.Sub(a.anchor)); !a.anchor.IsZero() && is.Sub(expected).Abs() < jitter {
		return expected
	}
	a.anchor, a.day = a.due, is
	return is
}

func (a *aim) step() time.Duration {
	if a.Poisson {
		return time.Duration(a.random.ExpFloat64() * float64(a.Interval))
	}
	return a.Interval
}

// finished reports whether all probes are sent and none is still awaited.
func (a *aim) finished() bool {
	if a.Count == 0 || a.sent < a.Count {
		return false
	}
	for _, f := range a.flights {
		if !f.heard {
			return false
		}
	}
	return true
}

// deadlines is a heap of aims by their next deadline.
type deadlines []*aim

func (d deadlines) Len() int           { return len(d) }
func (d deadlines) Less(i, j int) bool { return d[i].due.Before(d[j].due) }
func (d deadlines) Swap(i, j int) {
	d[i], d[j] = d[j], d[i]
	d[i].index, d[j].index = i, j
}
func (d *deadlines) Push(x any) {
	a := x.(*aim)
	a.index = len(*d)
	*d = append(*d, a)
}
func (d *deadlines) Pop() any {
	old := *d
	a := old[len(old)-1]
	old[len(old)-1] = nil
	*d = old[:len(old)-1]
	a.index = -1
	return a
}
