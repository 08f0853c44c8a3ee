package ping

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Request is a measurement of several targets at once that ends by itself.
type Request struct {
	Addrs    []netip.Addr
	Vias     []reading.Via // of each address; ICMP for those beyond its end
	Probes   int
	Interval time.Duration
	Wait     time.Duration
	Payload  int
	Poisson  bool
	Seed     uint64
	Socket   network.SocketOptions
	Mark     uint64 // see Options; for measurements that must be the same again
	StampKey []byte // see Options
	// Heard, if set, is called for each probe as soon as its fate is known,
	// with the index of its target.
	Heard func(target int, p reading.Probe)
}

// Result is what one target of a request gave.
type Result struct {
	Addr    netip.Addr
	Via     reading.Via
	Dropped int // packets of the whole measurement that this host had no room for
	Started time.Time
	Reading reading.Reading
	Probes  []reading.Probe
	Err     error // it could not be measured at all
}

// Measure carries a request out. When ctx ends early the results hold what was
// measured so far. The error is for what concerns all targets, such as missing
// permission.
func Measure(ctx context.Context, n network.Network, r Request) ([]Result, error) {
	seen := map[wire.Family]bool{}
	var families []wire.Family
	for _, a := range r.Addrs {
		if f := wire.FamilyOf(a); !seen[f] {
			seen[f] = true
			families = append(families, f)
		}
	}
	r.Socket.Room = max(r.Socket.Room, max(r.Payload, wire.StampAuthSize)+100)
	e, err := NewEngine(n, Options{Families: families, Vias: r.Vias, Socket: r.Socket, Mark: r.Mark, StampKey: r.StampKey})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	var mu sync.Mutex
	results := make([]Result, len(r.Addrs))
	done := make(chan struct{}, len(r.Addrs))
	waiting := 0
	for i, addr := range r.Addrs {
		results[i] = Result{Addr: addr, Started: e.clock.Now()}
		if i < len(r.Vias) {
			results[i].Via = r.Vias[i]
		}
		target := Target{Addr: addr, Via: results[i].Via, Interval: r.Interval, Count: r.Probes, Wait: r.Wait, Payload: r.Payload, Poisson: r.Poisson,
			Seed: r.Seed + uint64(i), Phase: spread(i, len(r.Addrs), r.Interval)}
		target.Settled = func(p reading.Probe) {
			mu.Lock()
			defer mu.Unlock()
			results[i].Probes = append(results[i].Probes, p)
		}
		target.Done = func() { done <- struct{}{} }
		if r.Heard != nil {
			target.Heard = func(p reading.Probe) { r.Heard(i, p) }
		}
		if _, err := e.Add(target); err != nil {
			results[i].Err = err
			continue
		}
		waiting++
	}
	go func() { ended <- e.Run(ctx) }()
	for ; waiting > 0; waiting-- {
		select {
		case <-done:
			continue
		case <-ctx.Done():
			e.Stop()
		case err = <-ended:
			return nil, fmt.Errorf("measuring broke off: %w", err)
		}
		break
	}
	dropped := e.Dropped()
	cancel()
	<-ended
	mu.Lock()
	defer mu.Unlock()
	for i := range results {
		x := &results[i]
		x.Dropped = dropped
		if len(x.Probes) > 0 {
			x.Started = x.Probes[0].DueAt
		}
		x.Reading = reading.Of(x.Started, e.clock.Now().Sub(x.Started), 0, r.Interval, x.Probes)
	}
	return results, nil
}

// spread gives targets different phases in the interval, but not so that a few
// targets wait for long.
func spread(i, n int, interval time.Duration) time.Duration {
	if n < 2 {
		return 0
	}
	// Adding many targets takes a while: the first must not be due before the last
	// is there.
	const adding = 5 * time.Microsecond
	step := min(interval/time.Duration(n), 10*time.Millisecond)
	return time.Duration(n)*adding + time.Duration(i)*step
}
