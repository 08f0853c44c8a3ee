// Package reading gathers the fates of probes into the figures that one run,
// or one minute of a continuous watch, produced for one path.
//
//	b := reading.NewBuilder(start, time.Minute, 60)
//	b.Add(reading.Probe{DueAt: start, Outcome: reading.Answered, RTT: 12 * time.Millisecond})
//	r := b.Reading()
package reading

import (
	"fmt"
	"net/netip"
	"time"
)

// Outcome is what became of a probe.
type Outcome uint8

const (
	// Lost: no answer came within the wait.
	Lost Outcome = iota
	// Answered: an answer came within the wait.
	Answered
	// Late: an answer came after the wait. It counts as lost, told apart.
	Late
	// Refused: an error answer came (unreachable, prohibited, hop limit
	// exceeded). Neither answered nor lost.
	Refused
	// Unsent: this host could not send it; it counts in no figure but its own.
	Unsent
)

var outcomeNames = [...]string{"lost", "answered", "late", "refused", "unsent"}

func (o Outcome) String() string {
	if int(o) < len(outcomeNames) {
		return outcomeNames[o]
	}
	return fmt.Sprintf("outcome(%d)", uint8(o))
}

// Stamp says where the two times of a round-trip time were taken.
type Stamp uint8

const (
	// StampNone: no round trip was timed.
	StampNone Stamp = iota
	// StampUser: in user space, on the monotonic clock.
	StampUser
	// StampKernel: by the kernel, in software, on sending and on receiving.
	StampKernel
	// StampWorld: by a simulated network, which knows its own times exactly.
	StampWorld
)

var stampNames = [...]string{"none", "user", "kernel", "world"}

func (s Stamp) String() string {
	if int(s) < len(stampNames) {
		return stampNames[s]
	}
	return fmt.Sprintf("stamp(%d)", uint8(s))
}

// StampFrom reads a name that String gave.
func StampFrom(name string) Stamp {
	for i, n := range stampNames {
		if n == name {
			return Stamp(i)
		}
	}
	return StampNone
}

// PortRefused is how the Cause of a refusal begins that the target's own port
// sent: the target is there.
const PortRefused = "connection refused by "

// Probe is one probe and its fate.
type Probe struct {
	Number   int           // of those to one target, from 0
	DueAt    time.Time     // its deadline
	SentLate time.Duration // how long after the deadline it left
	Outcome  Outcome
	RTT      time.Duration // of Answered, Late and Refused
	Stamp    Stamp         // where RTT was taken
	TTL      int           // TTL or hop limit of the answer; 0 when unknown
	Cause    string        // of Refused and Unsent: what was said
	Copies   int           // further copies of the answer (RFC 5560)
	// As is how it was answered where that was otherwise than asked, such as by
	// "a datagram of its own"; empty for the answer that was asked for.
	As        string
	Peer      netip.Addr // that answered, where it was another than was asked
	Overtaken bool       // the answer to a later probe came first (RFC 4737)
	Shut      bool       // refused by the target's own port: the target is there
	MTU       int        // of a refusal for its size: what fits, in bytes; 0 when it was not told
	Damaged   bool       // an answer came whose payload was not what was sent; it counts as none
}

// LateSent reports whether a probe that left late by d counts as late-sent: by
// more than 1 ms, or by more than a tenth of the interval if that is less.
func LateSent(d, interval time.Duration) bool {
	limit := time.Millisecond
	if tenth := interval / 10; interval > 0 && tenth < limit {
		limit = tenth
	}
	return d > limit
}
