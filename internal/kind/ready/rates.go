package ready

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/readiness"
	"woodlark.example/internal/probe/bulk"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/throughput"
)

// rates fills the line, each way.
func (t *test) rates(ctx context.Context) error {
	if t.n.Rate.IsZero() && t.n.Limits.LoadedRTT <= 0 {
		return nil
	}
	t.tell(readiness.Rates, "how much fits, each way")
	d := t.s.lengths()
	q := throughput.Request{Target: t.j.Lanes[t.lane].Target, Direction: throughput.Each, Streams: 4, For: d.load, WarmUp: time.Second, Short: true}
	r, err := throughput.Measure(ctx, t.options, q, func(string, nearend.Progress) {})
	if err != nil {
		return t.without(ctx, readiness.Rates, err)
	}
	most := t.withinHosts(ctx, r)
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, x := range r.Directions {
		seen := readiness.RateSeen{There: x.There, Bps: x.ReceivedBps, LoadedMs: x.RTTLoadMs, OfHost: x.HeldBy == string(finding.HeldByHost) || t.ofHost(x, most), Rising: x.Rising}
		if !r.Complete {
			seen.Problem = r.Problem
		}
		t.facts.Rates = append(t.facts.Rates, seen)
	}
	if !r.Complete && len(r.Directions) == 0 {
		return errors.New(r.Problem)
	}
	return nil
}

const (
	// nearHost is which part of what a host reaches within itself is the host's own limit.
	nearHost = 0.7
	// inFull is how much of a processor a simulated network takes that is carried at this machine's
	// limit.
	inFull   = 0.9
	aloneFor = time.Second
	// carried is how much of a simulated network any machine carries.
	carried = 100e6
)

// withinHosts is what the slower of both ends reaches within itself, asked where the line seems to
// carry too little: what a host does not carry is not the line's; 0 when it is not known.
func (t *test) withinHosts(ctx context.Context, r finding.ThroughputReport) float64 {
	short := slices.ContainsFunc(r.Directions, func(x finding.ThroughputDirection) bool {
		return x.ReceivedBps != nil && *x.ReceivedBps < t.n.BpsOf(t.seats, x.There)
	})
	if !short || t.j.Beyond || ctx.Err() != nil {
		return 0
	}
	most := 0.0
	if v, err := bulk.Loopback(ctx, 4, aloneFor); err == nil {
		most = v
	}
	if v, err := nearend.Yardstick(ctx, t.options, 4, aloneFor); err == nil && (most == 0 || v < most) {
		most = v
	}
	return most
}

// ofHost reports whether a rate is about what a host reaches by itself, or, in a simulated network,
// what this machine carries of one.
func (t *test) ofHost(x finding.ThroughputDirection, most float64) bool {
	if t.j.Beyond {
		return x.ReceivedBps != nil && *x.ReceivedBps > carried && x.BusyNear != nil && *x.BusyNear*float64(runtime.NumCPU()) > inFull
	}
	return most > 0 && x.ReceivedBps != nil && *x.ReceivedBps > nearHost*most
}
