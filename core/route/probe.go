package route

import (
	"fmt"
	"net/netip"
	"time"
)

// Outcome is what became of a probe with a limited TTL.
type Outcome int

const (
	// Silent: nothing came back in time.
	Silent Outcome = iota
	// Expired: a router told that the TTL ran out there.
	Expired
	// Reached: the target itself answered.
	Reached
	// Refused: somebody on the way sent it back with a reason.
	Refused
)

// Label is an entry of the MPLS label stack that a probe had when its TTL ran out
// (RFC 4950).
type Label struct {
	Value uint32
	Class uint8
	TTL   uint8
}

// Probe is one probe towards a target, and its answer.
type Probe struct {
	TTL    int
	Flow   int // probes of one flow share all fields that routers hash
	SentAt time.Time
	// Search says that it was sent to find the route. Such probes come in bursts that
	// make routers spare their answers: where others were sent too, they do not count
	// as lost or answered.
	Search  bool
	Outcome Outcome
	Addr    netip.Addr // that answered; not valid when it is silent
	RTT     time.Duration
	Cause   string // of a refusal
	Labels  []Label
	MTU     int // that a packet-too-big names, in bytes
	// Interface is what the router says of the interface that the probe came in by
	// (RFC 5837): a name, an address or an index; empty when it says nothing.
	Interface string
	// BackTTL is that of the answer when it arrived; 0 when not known. A router
	// sends with 64, 128 or 255, so it tells the hops of the way back.
	BackTTL int
	// Quoted is the header of the probe as the answering router saw it.
	Quoted Quoted
}

// Quoted is what an ICMP error says of the probe that it is about.
type Quoted struct {
	Known bool
	TTL   int // 1 at the hop where it ran out; more when a hop before did not count it down
	// DSCP that it had by then; another than was sent was changed on the way.
	DSCP int
	To   netip.Addr // its target by then; another than was sent was rewritten on the way
}

// HopsBack is how many hops an answer came over, by the TTL it arrived with; false
// when that is not known.
func (p Probe) HopsBack() (int, bool) {
	for _, sent := range []int{64, 128, 255} {
		if p.BackTTL > 0 && p.BackTTL <= sent {
			return sent - p.BackTTL + 1, true
		}
	}
	return 0, false
}

// String writes the label with its traffic class and TTL, if they say anything.
func (l Label) String() string {
	switch {
	case l.Class != 0:
		return fmt.Sprintf("%d class %d TTL %d", l.Value, l.Class, l.TTL)
	case l.TTL != 0:
		return fmt.Sprintf("%d TTL %d", l.Value, l.TTL)
	}
	return fmt.Sprint(l.Value)
}
