// Package trace finds the route to a target, all its branches, and what is lost
// and delayed along it. One engine serves any number of traces over one set of
// sockets.
//
//	results, err := trace.Measure(ctx, kernel.Host(), host.Ground{}, trace.Request{Addr: addr, Probes: 20})
//
// The probes of one flow share all fields by which routers choose a way:
// addresses, protocol, ports or ICMP identifier and checksum, and the IPv6 flow
// label. Which hop and which probe it is stands in fields that they do not look
// at.
package trace

import (
	"context"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
)

// Ground tells how a host sends.
type Ground interface {
	FirstHop(to netip.Addr) (network.Hop, error)
}

// Request is one trace.
type Request struct {
	Addr netip.Addr
	// Via is the kind of probe: ICMP, UDP or TCP to a port.
	Via reading.Via
	// Probes are the rounds of probes to each hop after the route is known; none
	// when 0.
	Probes int
	// For, when longer than 0, measures rounds so long instead.
	For time.Duration
	// Interval between rounds; DefaultInterval when 0.
	Interval time.Duration
	Wait     time.Duration // for an answer; DefaultWait when 0
	FirstTTL int           // 1 when 0
	LastTTL  int           // DefaultLast when 0
	Silent   int           // hops without an answer, one after the other, that end it; DefaultSilent when 0
	Retries  int           // where a hop is silent; DefaultRetries when 0
	OneFlow  bool          // look for no branches
	Flows    int           // so many take turns in the rounds, though ways do not part; as many as it takes when 0
	PathMTU  bool          // find the largest packet that each hop gets
	Payload  int           // bytes behind the transport header; DefaultPayload when 0
	DSCP     uint8
	// Heard, if set, is called for each probe as soon as its fate is known. It is
	// called under the engine's lock, and must not call back.
	Heard func(route.Probe)
}

// What a request has where it says nothing.
const (
	DefaultInterval = time.Second
	DefaultWait     = time.Second
	DefaultLast     = 30
	DefaultSilent   = 5
	DefaultRetries  = 2
	DefaultPayload  = 24
	// DefaultPort of UDP probes is the one that IANA lists for tracing routes.
	DefaultPort = 33434
	MaxTTL      = 255
	// LeastPayload is the room that a probe's own mark needs.
	LeastPayload = 12
)

// Ended says why a trace went no further.
type Ended string

// The ends.
const (
	AtTarget  Ended = "the target answers"
	AtRefusal Ended = "it is refused"
	AtLoop    Ended = "it turns in a circle"
	AtSilence Ended = "nobody answers any more"
	AtLastTTL Ended = "the last TTL is used up"
	Cut       Ended = "it was ended early"
)

// Result is what a trace found.
type Result struct {
	Addr    netip.Addr
	Via     reading.Via
	Hop     network.Hop // by which probes left
	Started time.Time
	Took    time.Duration
	Ended   Ended
	Route   route.Route
	Faults  []route.Fault
	Spared  []route.Spared
	Dead    []route.Dead // ways by flow that let nothing through
	// Past are the routes that it saw before, when the route became another while it
	// measured: the oldest first. Route is the newest.
	Past []Past
	// Minutes is what each minute saw by itself, when it measured for longer than one.
	Minutes []Minute
	Sent    int           // probes, beyond those that only felt for the target or for sizes
	Stamp   reading.Stamp // the least exact of the times
	// Alive says that the target answered a probe with a large TTL, whether or not
	// the route to it was found.
	Alive bool
	// TargetSpares says that the target answers with ICMP errors, which hosts limit:
	// what it does not answer may not be lost.
	TargetSpares bool
	// Complete says that all branches were found, with route.Confidence for each
	// hop.
	Complete bool
	Flows    int // that were used
	MTU      MTU
	Dropped  int // packets that this host had no room for, of the whole engine
	Strays   int // answers that were to no probe of ours, of the whole engine
	Err      error
}

// MTU is what was found of packet sizes along the route.
type MTU struct {
	Link   int        // bytes, of the own link; 0 when not asked
	Path   int        // the largest packet that got to the end, or as far as any did
	TTL    int        // of the hop beyond which less fits than before; 0 when nothing shrinks
	By     netip.Addr // who said so; not valid when larger packets vanish with no word
	Before netip.Addr // the last hop that larger packets got to, when they vanish
	Lost   bool       // larger packets vanish
}

// Measure carries out requests side by side, all of one kind of probe. When ctx
// ends early the results hold what was found so far. The error is for what
// concerns all of them, such as missing permission.
func Measure(ctx context.Context, n network.Network, ground Ground, o Options, requests ...Request) ([]Result, error) {
	e, err := NewEngine(n, ground, o, requests)
	if err != nil {
		return nil, err
	}
	return e.measure(ctx, requests)
}
