// Package sweep finds which addresses answer: by ICMP echo, by opening TCP ports,
// or both, batched and at a given rate, with a second round for the silent ones.
//
//	r, err := sweep.Go(ctx, kernel.Host(), sweep.Request{Space: space, Rate: 5000})
package sweep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Request is a sweep.
type Request struct {
	Space  sweep.Space
	Vias   []reading.Via // ICMP and TCP ports; ICMP when there are none
	Rate   float64       // packets a second; as fast as it goes when 0
	Wait   time.Duration // for an answer, after each round; a second when 0
	Rounds int           // 2 when 0: the second asks those again that were silent
	Random bool          // in another order than that of the addresses
	Seed   uint64        // of that order
	Socket network.SocketOptions
	Mark   uint64 // what the sweep knows its packets by; chosen at random when 0
	// Before is how long an address took in the sweep before, 0 when that is not
	// known. What looks slower is asked again, several times.
	Before func(netip.Addr) time.Duration
	// Heard, if set, is called for each address that answers, in the middle of
	// the work.
	Heard func(Host)
	// Sent, if set, is called now and then with how many packets left.
	Sent func(packets uint64)
}

// Host is an address that answered.
type Host struct {
	Addr  netip.Addr
	RTT   time.Duration // meaningless when Stamp is none: it answered, but could not be timed
	Stamp reading.Stamp
	By    reading.Via // that answered first
	Open  []uint16    // TCP ports that accepted
	Shut  []uint16    // TCP ports that refused
	Other netip.Addr  // that answered in its place; not valid when it did itself
	// Times is how often it was timed; RTT is the least.
	Times int
}

// Result is what a sweep found.
type Result struct {
	Addresses uint64 // of the space
	Probed    uint64 // that were asked at least once
	Sent      uint64 // packets
	Unsent    uint64 // that this host did not let out
	Why       string // of the last of those
	Started   time.Time
	Elapsed   time.Duration // from the first packet to the last answer or wait
	Sending   time.Duration // that sending took, without the waits
	Dropped   int           // answers that this host had no room for
	Refused   map[string]uint64
	Hosts     []Host // in order of their addresses
	Cut       bool   // it was stopped before its end
}

// Rate is the packets a second that were sent while sending.
func (r Result) Rate() float64 {
	if r.Sending <= 0 {
		return 0
	}
	return float64(r.Sent) / r.Sending.Seconds()
}

const (
	defaultWait   = time.Second
	defaultRounds = 2
	exactUpTo     = 20_000 // packets a second whose departures are stamped one by one
	againSlow     = 4      // further probes of what looks slower
	tick          = time.Millisecond
	mostBatch     = 64 // so that the moment at which each left is known well enough
	mostTimed     = 5000
	unsure        = 100 * time.Microsecond
)

// Go makes a sweep. When ctx ends early the result holds what was found so far.
// At a high rate few answers can be timed; if they are not too many, those are
// asked once more, slowly.
func Go(ctx context.Context, n network.Network, r Request) (Result, error) {
	result, err := once(ctx, n, r)
	if err != nil || ctx.Err() != nil {
		return result, err
	}
	var untimed []string
	places := map[netip.Addr]int{}
	for i, h := range result.Hosts {
		if h.Stamp == reading.StampNone && len(untimed) <= mostTimed {
			untimed = append(untimed, h.Addr.String())
			places[h.Addr] = i
		}
	}
	if len(untimed) == 0 || len(untimed) > mostTimed {
		return result, nil
	}
	space, err := sweep.Parse(untimed, nil, sweep.Options{})
	if err != nil {
		return result, err
	}
	r.Space, r.Rate, r.Rounds, r.Heard, r.Sent, r.Before = space, exactUpTo/4, 1, nil, nil, nil
	timed, err := once(ctx, n, r)
	if err != nil {
		return result, err
	}
	for _, h := range timed.Hosts {
		own := &result.Hosts[places[h.Addr]]
		own.RTT, own.Stamp, own.Times = h.RTT, h.Stamp, own.Times+h.Times
	}
	result.Sent += timed.Sent
	result.Sending += timed.Sending
	result.Elapsed += timed.Elapsed
	return result, nil
}

// once makes all rounds of a sweep.
func once(ctx context.Context, n network.Network, r Request) (Result, error) {
	if len(r.Vias) == 0 {
		r.Vias = []reading.Via{{}}
	}
	r.Wait, r.Rounds = cmp.Or(r.Wait, defaultWait), cmp.Or(r.Rounds, defaultRounds)
	for r.Mark == 0 {
		r.Mark = rand.Uint64()
	}
	if len(r.Vias) > mostVias {
		return Result{}, fmt.Errorf("%d ways of asking are more than %d", len(r.Vias), mostVias)
	}
	s, err := open(n, r)
	if err != nil {
		return Result{}, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var receivers sync.WaitGroup
	for w, conn := range s.conns {
		s.clock.Go(&receivers, func() {
			if err := s.receive(w, conn); err != nil && ctx.Err() == nil {
				cancel(err)
			}
		})
	}
	var sender sync.WaitGroup
	s.clock.Go(&sender, func() { s.run(ctx) })
	sender.Wait()
	for _, conn := range s.conns {
		s.result.Dropped += conn.Dropped()
	}
	cause := context.Cause(ctx)
	cancel(nil)
	for _, conn := range s.conns {
		_ = conn.Close()
	}
	receivers.Wait()
	s.result.Hosts = s.found.hosts(s.Request)
	if cause != nil && !errors.Is(cause, context.Canceled) && !errors.Is(cause, context.DeadlineExceeded) {
		return s.result, fmt.Errorf("the sweep broke off: %w", cause)
	}
	return s.result, nil
}

// way is what a connection is for.
type way struct {
	kind   network.Kind
	family wire.Family
}

// sweeper is one sweep.
type sweeper struct {
	Request
	clock   network.Clock
	conns   map[way]network.Conn
	ring    ring
	batch   map[way]*outbox
	boxes   [][2]*outbox // of each way of asking, for IPv4 and IPv6
	polled  []network.Packet
	untimed bool

	mu     sync.Mutex
	found  table
	result Result
	news   chan struct{} // told when an address is found
	idle   chan struct{} // closed when the first round is sent: until then a bulk sweep polls by itself
}

func open(n network.Network, r Request) (*sweeper, error) {
	s := &sweeper{Request: r, clock: n.Clock(), conns: map[way]network.Conn{}, batch: map[way]*outbox{},
		polled: make([]network.Packet, 8*mostBatch), news: make(chan struct{}, 1), idle: make(chan struct{})}
	s.found.init(r.Space.Len())
	s.result = Result{Addresses: r.Space.Len(), Refused: map[string]uint64{}}
	s.Socket.Bulk = r.Rate == 0 || r.Rate > exactUpTo
	s.Socket.Untimed = r.Rate == 0
	var failed []error
	four, six := r.Space.Families()
	for _, v := range r.Vias {
		for f, used := range map[wire.Family]bool{wire.IPv4: four, wire.IPv6: six} {
			k, ok := carriers[v.Kind]
			w := way{k, f}
			if !used || s.conns[w] != nil {
				continue
			}
			if !ok {
				return nil, fmt.Errorf("a sweep asks by icmp or tcp:PORT, not by %s", v)
			}
			conn, err := n.Open(k, f, s.Socket)
			if err != nil {
				failed = append(failed, err)
				continue
			}
			s.conns[w], s.batch[w] = conn, newOutbox()
			// As fast as it goes, the moments are not known well enough.
			s.untimed = r.Rate == 0 && !conn.Exact()
		}
	}
	if len(s.conns) == 0 {
		return nil, errors.Join(failed...)
	}
	if !s.untimed {
		s.ring.init(r, n.Clock().Now())
	}
	for _, v := range r.Vias {
		s.boxes = append(s.boxes, [2]*outbox{s.batch[way{carriers[v.Kind], wire.IPv4}], s.batch[way{carriers[v.Kind], wire.IPv6}]})
	}
	return s, nil
}

var carriers = map[reading.Kind]network.Kind{reading.ByICMP: network.ICMP, reading.ByTCP: network.TCP}
