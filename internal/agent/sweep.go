package agent

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/reading"
	space "woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/sweep"
)

// sweepBits is how many bits a probe of a sweep has at most, to hold a sweep to a rate.
const sweepBits = 64 * 8

type sweepLinks = sweep.Links

// sweeps are the sweeps of an agent.
type sweeps struct {
	repeated[plan.SweepTask]

	// timing guards times: whoever holds the tasks may wait for a sweep to end.
	timing sync.Mutex
	times  map[[32]byte]map[netip.Addr]time.Duration // of the last sweep of each scope
}

// SetSweeps replaces the sweeps that the agent is to make.
func (a *Agent) SetSweeps(tasks []plan.SweepTask) {
	byWatch := map[ident.ID]plan.SweepTask{}
	for _, t := range tasks {
		if t.Every < leastEvery {
			a.log.Error("a sweep of the plan cannot be made so often", "watch", t.Watch, "every", t.Every)
			continue
		}
		byWatch[t.Watch] = t
	}
	a.mu.Lock()
	a.given.Sweeps = tasks
	a.mu.Unlock()
	a.sweeps.want(byWatch)
	a.tellChanged()
}

// sweepPeriodically makes a sweep at each multiple of its interval.
func (a *Agent) sweepPeriodically(ctx context.Context, t plan.SweepTask) {
	a.atMultiples(ctx, periodic{
		key: t.Watch.String(), every: t.Every,
		do: func(ctx context.Context, id ident.ID) { a.sweep(ctx, id, t.Watch, t.Order, nil) },
		missed: func(from, to time.Time, reason string) {
			a.spool.addSweep(plan.Sweep{ID: ident.New(), Watch: t.Watch, Started: from, Ended: to, Outcome: plan.Missed, Reason: reason})
		},
		broken: func(x due) {
			a.spool.addSweep(plan.Sweep{ID: x.ID, Watch: t.Watch, Started: x.Began, Ended: time.Now(), Outcome: plan.Failed, Reason: wasKilled})
		},
	})
}

// Sweep makes one sweep; see plan.Sweeper.
func (a *Agent) Sweep(ctx context.Context, id ident.ID, o plan.SweepOrder, sent func(uint64)) {
	a.sweep(ctx, id, ident.ID{}, o, sent)
}

func (a *Agent) sweep(ctx context.Context, id, watch ident.ID, o plan.SweepOrder, sent func(uint64)) {
	made := plan.Sweep{ID: id, Watch: watch, Started: time.Now(), Outcome: plan.Done}
	report, scope, err := a.sweepOnce(ctx, o, sent)
	made.Ended, made.Scope = time.Now(), scope
	switch {
	case err != nil:
		made.Outcome, made.Reason = plan.Failed, err.Error()
	case report.Cut:
		made.Outcome, made.Reason = plan.Cancelled, "stopped before its end; what was found is kept"
	case report.Sent == 0:
		made.Outcome, made.Reason = plan.Failed, "nothing could be sent: "+report.UnsentReason
	}
	if err == nil {
		made.Report = &report
	}
	a.spool.addSweep(made)
}

func (a *Agent) sweepOnce(ctx context.Context, o plan.SweepOrder, sent func(uint64)) (space.Report, [32]byte, error) {
	s, err := space.Parse(o.Entries, o.Exclude, space.Options{Low: o.Low})
	if err != nil {
		return space.Report{}, [32]byte{}, err
	}
	scope := s.Scope()
	vias, err := reading.ParseVias(o.Via)
	if err != nil {
		return space.Report{}, scope, err
	}
	if most := float64(a.options.MostRate) / sweepBits; most > 0 && (o.Rate <= 0 || o.Rate > most) {
		o.Rate = max(1, most) // as fast as the owner allows
	}
	q := sweep.Request{Space: s, Vias: vias, Rate: o.Rate, Wait: o.Wait, Rounds: o.Rounds, Random: o.Random, Seed: uint64(time.Now().UnixNano()), Sent: sent}
	a.sweeps.timing.Lock()
	before := a.sweeps.times[scope]
	a.sweeps.timing.Unlock()
	if before != nil {
		q.Before = func(x netip.Addr) time.Duration { return before[x] }
	}
	result, err := sweep.Go(ctx, a.options.Network, q)
	if err != nil {
		return space.Report{}, scope, err
	}
	r := result.Report(q)
	r.From, r.Excluded = a.options.Name, append(r.Excluded, o.Exclude...)
	if a.options.Ground != nil {
		if err := sweep.AddLinks(&r, s, a.options.Ground); err != nil {
			a.log.Warn("the hardware addresses are not known", "error", err)
		}
	}
	if o.Names && !r.Cut {
		sweep.AddNames(ctx, a.options.Network, &r)
	}
	times := map[netip.Addr]time.Duration{}
	for _, h := range r.Heard() {
		times[h.Addr] = h.RTT
	}
	a.sweeps.timing.Lock()
	a.sweeps.times[scope] = times
	a.sweeps.timing.Unlock()
	return r, scope, nil
}
