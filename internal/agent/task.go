package agent

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
)

const (
	resolveAgain = 5 * time.Minute  // a name that resolved
	resolveRetry = 15 * time.Second // one that did not, or a socket that did not open
	resolveLimit = 5 * time.Second
)

// address finds the address of a task's target.
func (a *Agent) address(ctx context.Context, t protocol.Task) (netip.Addr, error) {
	if addr, err := netip.ParseAddr(t.Target); err == nil {
		return addr, nil
	}
	ctx, cancel := context.WithTimeout(ctx, resolveLimit)
	defer cancel()
	found, err := a.options.Network.Lookup(ctx, t.Target, t.Family)
	if err != nil {
		return netip.Addr{}, err
	}
	return found.Addrs[0], nil
}

// failing keeps the record of a measurement that cannot be made: one failed
// run, from its first try to its last.
type failing struct {
	run   protocol.Run
	spool *spool
}

func (f *failing) note(t protocol.Task, err error) {
	now := time.Now()
	if f.run.ID.IsZero() || f.run.Reason != err.Error() {
		f.run = protocol.Run{ID: ident.New(), Watch: t.Watch, Path: t.Path, Started: now, Outcome: protocol.Failed, Reason: err.Error()}
	}
	f.run.Ended = now
	f.spool.addRun(f.run)
}

func (f *failing) over() { f.run = protocol.Run{} }

// watchContinuously keeps a target pinged until ctx ends, and follows its name.
func (a *Agent) watchContinuously(ctx context.Context, t protocol.Task, m *minutes) {
	fails := failing{spool: a.spool}
	var current netip.Addr
	var running *engine
	stop := func() {}
	defer func() { stop() }()
	for ctx.Err() == nil {
		wait := resolveAgain
		addr, err := a.address(ctx, t)
		if ctx.Err() != nil {
			return
		}
		var e *engine
		if err == nil {
			e, err = a.engineFor(t)
		}
		if err == nil && (addr != current || e != running) {
			stop()
			stop = func() {}
			current, running = netip.Addr{}, nil
			var remove func()
			remove, err = e.Add(ping.Target{Addr: addr, Via: t.Via, Interval: t.Interval, Wait: t.Wait, Payload: t.Payload, Phase: t.Phase, Poisson: t.Poisson, Seed: t.Seed, Settled: m.add})
			if err == nil {
				stop, current, running = remove, addr, e
			}
		}
		if err != nil {
			// While a name does not resolve, the address that it had is still
			// measured: that the name fails is a fact of its own.
			fails.note(t, err)
			wait = resolveRetry
		} else {
			fails.over()
		}
		var broke <-chan struct{}
		if running != nil {
			broke = running.ended
		}
		select {
		case <-ctx.Done():
		case <-broke:
			running = nil
		case <-time.After(wait):
		}
	}
}

// watchPeriodically makes a run each t.Every, on times that are multiples of it, until ctx
// ends.
func (a *Agent) watchPeriodically(ctx context.Context, t protocol.Task) {
	fails := failing{spool: a.spool}
	when, err := schedule.Times{}.With(t.Every, t.Phase, 0)
	if err != nil { // it was checked
		return
	}
	none := func(id ident.ID, from, to time.Time, outcome protocol.Outcome, reason string) {
		a.spool.addRun(protocol.Run{ID: id, Watch: t.Watch, Path: t.Path, Started: from, Ended: to, Outcome: outcome, Reason: reason})
	}
	a.atTimes(ctx, periodic{
		key: taskKey{t.Watch, t.Path}.String(), when: when,
		do:     func(ctx context.Context, x due) { a.runOnce(ctx, x.ID, t, &fails) },
		missed: func(from, to time.Time, reason string) { none(ident.New(), from, to, protocol.Missed, reason) },
		broken: func(x due) { none(x.ID, x.Began, time.Now(), protocol.Failed, wasKilled) },
	})
}

// runOnce makes one run of a periodic task.
func (a *Agent) runOnce(ctx context.Context, id ident.ID, t protocol.Task, fails *failing) {
	addr, err := a.address(ctx, t)
	if ctx.Err() != nil {
		return
	}
	var e *engine
	if err == nil {
		e, err = a.engineFor(t)
	}
	run := protocol.Run{ID: id, Watch: t.Watch, Path: t.Path, Started: time.Now(), Outcome: protocol.Done}
	b := reading.NewBuilder(run.Started, time.Duration(t.Probes)*t.Interval, t.Probes)
	done := make(chan struct{})
	var stop func()
	if err == nil {
		stop, err = e.Add(ping.Target{Addr: addr, Via: t.Via, Interval: t.Interval, Count: t.Probes, Wait: t.Wait, Payload: t.Payload, Phase: t.Phase, Poisson: t.Poisson, Seed: t.Seed,
			Settled: b.Add, Done: func() { close(done) }})
	}
	if err != nil {
		fails.note(t, err)
		return
	}
	fails.over()
	select {
	case <-done:
	case <-e.ended:
		run.Outcome, run.Reason = protocol.Failed, "measuring broke off"
	case <-ctx.Done():
		stop()
		run.Outcome, run.Reason = protocol.Cancelled, fmt.Sprintf("stopped after %d of %d probes", b.Len(), t.Probes)
	}
	run.Ended, run.Address = time.Now(), addr.String()
	if cause, all := allUnsent(b.Probes()); all {
		run.Outcome, run.Reason = protocol.Failed, "no probe could be sent: "+cause
	}
	if b.Len() > 0 {
		a.spool.add(protocol.Record{Path: t.Path, Watch: t.Watch, Run: run.ID, Reading: b.Reading(), Packed: reading.PackSecond(b.At(), b.Probes())})
	}
	a.spool.addRun(run)
}
