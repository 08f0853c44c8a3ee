package agent

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/throughput"
	"woodlark.example/wire"
)

// TwoEnded measures towards a far end; see plan.TwoEnder.
func (a *Agent) TwoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing)) plan.TwoEnded {
	x := plan.TwoEnded{ID: o.ID, Far: o.Far, Target: o.Target, Kind: o.Kind, Started: time.Now(), Outcome: plan.Failed}
	err := a.twoEnded(ctx, o, heard, &x)
	x.Ended = time.Now()
	if err != nil {
		x.Reason = err.Error()
	}
	a.spool.addTwoEnded(x) // the service may be gone by now, and the answer with it
	return x
}

func (a *Agent) twoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing), x *plan.TwoEnded) error {
	to, err := a.farAddress(ctx, o.Address, o.Request.Family)
	if err != nil {
		return err
	}
	options := near.Options{Network: a.options.Network, To: to, Key: o.Key, KeyName: o.KeyName, Wall: a.options.Wall, End: a.end()}
	if heard == nil {
		heard = func(plan.TwoGoing) {}
	}
	tell := func(step string, p near.Progress) {
		heard(plan.TwoGoing{Says: step, Share: min(1, p.Elapsed.Seconds()/max(1, p.Length.Seconds())), Seconds: p.Elapsed.Seconds(), There: p.There, Back: p.Back})
	}
	switch o.Kind {
	case plan.Stream:
		return a.stream(ctx, options, o, func(p near.Progress) { tell("streaming", p) }, x)
	case plan.Throughput:
		return a.throughput(ctx, options, o, tell, x)
	}
	return fmt.Errorf("no measurement %q with two ends", o.Kind)
}

func (a *Agent) stream(ctx context.Context, options near.Options, o plan.TwoEndedOrder, heard func(near.Progress), x *plan.TwoEnded) error {
	measure, rate, err := streaming(o, options.To.Addr().Is6())
	if err != nil {
		return err
	}
	if limit := a.options.MostRate; limit > 0 && rate > limit {
		return fmt.Errorf("it sends %v, and the owner of this agent allows %v", rate, limit)
	}
	report, err := measure(ctx, options, heard)
	if err != nil {
		return err
	}
	for _, d := range report.Directions {
		if d.Quality != nil && d.Quality.MOS != nil && (x.MOS == nil || *d.Quality.MOS < *x.MOS) {
			x.MOS = d.Quality.MOS // the worse direction is what a caller hears of
		}
		x.SentBytes += int64(d.Bps / 8 * report.ElapsedMs / 1000)
	}
	return keep(x, report, report.Complete, report.Problem)
}

func (a *Agent) throughput(ctx context.Context, options near.Options, o plan.TwoEndedOrder, heard throughput.Heard, x *plan.TwoEnded) error {
	r := throughputOf(o.Request)
	switch limit := a.options.MostRate; {
	case !a.options.LoadHours.Allow(time.Now()):
		return fmt.Errorf("the owner of this agent allows load runs only at %s", a.options.LoadHours)
	case limit > 0 && r.Protocol != capacity.UDP:
		return fmt.Errorf("the owner of this agent allows %v at most, and TCP keeps to no rate: measure with -protocol udp", limit)
	case limit > 0 && (r.Rate > limit || r.Search && r.Rate == 0):
		return fmt.Errorf("the owner of this agent allows %v at most", limit)
	}
	r.Target = o.Target
	report, err := throughput.Measure(ctx, options, r, heard)
	if err != nil {
		return err
	}
	for i := range report.Directions {
		d := &report.Directions[i]
		x.SentBytes += d.SentBytes * int64(max(1, len(report.Repeats)/max(1, len(report.Directions))))
		if d.There {
			x.ThereBps = d.Trimmed
		} else {
			x.BackBps = d.Trimmed
		}
	}
	return keep(x, report, report.Complete, report.Problem)
}

// keep packs a report up with its outcome: what broke off is failed and what was stopped
// cancelled, and what was measured until then is kept.
func keep[T finding.ThroughputReport | finding.StreamReport](x *plan.TwoEnded, report T, complete bool, problem string) (err error) {
	if x.Report, err = json.Marshal(report); err != nil {
		return err
	}
	switch x.Outcome = plan.Done; {
	case problem == near.Stopped:
		x.Outcome, x.Reason = plan.Cancelled, problem
	case !complete:
		x.Outcome, x.Reason = plan.Failed, problem
	}
	return nil
}

// farAddress is the address and port of a far end, whose host may be a name.
func (a *Agent) farAddress(ctx context.Context, text string, family int) (netip.AddrPort, error) {
	if at, err := netip.ParseAddrPort(text); err == nil {
		return netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), nil
	}
	host, port, err := splitHostPort(text)
	if err != nil {
		return netip.AddrPort{}, err
	}
	found, err := a.options.Network.Lookup(ctx, host, wire.Family(family))
	if err != nil {
		return netip.AddrPort{}, err
	}
	for _, addr := range found.Addrs {
		if addr.Is4() || family != 0 {
			return netip.AddrPortFrom(addr, port), nil
		}
	}
	return netip.AddrPortFrom(found.Addrs[0], port), nil
}
