package ping

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/compare"
	"woodlark.example/core/finding"
	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/report"
)

// Result is what the measurement of one target, by one kind of probe, gave.
type Result struct{ report.PingResult }

// Probed is what a path may be judged by.
func (r *Result) Probed() baseline.Point {
	p := baseline.Point{At: r.StartedAt, Span: time.Duration(r.SpanS * float64(time.Second)), Sent: r.Sent, Answered: r.Answered, Lost: r.Lost}
	if r.RTTMedianMs != nil {
		p.Set(baseline.RTT, *r.RTTMedianMs)
	}
	if r.JitterMs != nil {
		p.Set(baseline.Jitter, *r.JitterMs)
	}
	return p
}

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Figures are those of lists.
func (r *Result) Listed() kind.Figures {
	answered, sent := int64(r.Answered), int64(r.Sent)
	return kind.Figures{Answered: &answered, Of: &sent}
}

// job is a measurement that goes on.
type job struct {
	*kind.Job
	spec     *Spec
	goal     *objective.Objective
	out      []kind.Outcome
	places   []int // of each that was measured, in out
	measured []ping.Result
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	x := &job{Job: j, spec: j.Spec.(*Spec)}
	if x.spec.Objective != "" {
		goal, err := objective.Find(x.spec.Objective)
		if err != nil {
			return nil, err
		}
		x.goal = &goal
	}
	kind.Resolve(ctx, j.Network, j.Lanes)
	x.out = j.Fail(time.Now(), "")
	q := x.spec.Request()
	for i, l := range j.Lanes {
		via, err := reading.ParseVia(l.Via)
		if err != nil {
			return nil, err
		}
		r := &Result{report.PingResult{Target: l.Target, Via: l.Via, From: j.Name}}
		if n := l.Named; n != nil {
			r.Resolved = &report.Resolved{Resolver: n.Resolver, TookMs: n.TookMs, Addresses: n.Addresses}
		}
		x.out[i].Result = r
		if l.Problem != "" {
			r.Outcome, r.Reason, r.Findings = string(kind.Failed), l.Problem, list(l.Named.Conclusions())
			continue
		}
		r.Address = l.Address.String()
		x.out[i].Address = r.Address
		q.Addrs, q.Vias, x.places = append(q.Addrs, l.Address), append(q.Vias, via), append(x.places, i)
	}
	if len(q.Addrs) == 0 {
		return x.out, nil
	}
	of := int64(q.Probes)
	heard := make([]int64, len(j.Lanes))
	q.Heard = func(i int, p reading.Probe) {
		at := x.places[i]
		heard[at]++
		told := kind.Progress{Lane: at, Done: heard[at], Of: of, More: p}
		if told.Done == 1 {
			told.Address = j.Lanes[at].Address.String()
		}
		j.Tell(told)
	}
	var err error
	if x.measured, err = ping.Measure(ctx, j.Network, q); err != nil {
		return nil, err
	}
	for i, m := range x.measured {
		x.fill(x.places[i], m, q.Probes)
	}
	x.compare()
	if x.spec.PathMTU {
		if err := x.sizes(ctx); err != nil {
			return nil, err
		}
	}
	return x.out, nil
}

func (x *job) result(i int) *Result { return x.out[i].Result.(*Result) }

// fill completes the outcome of one address.
func (x *job) fill(i int, m ping.Result, of int) {
	r, out := x.result(i), &x.out[i]
	r.Figures = m.Reading.Figures()
	r.Dropped = m.Dropped
	r.Pattern = report.PatternOf(m.Probes)
	found := finding.OfReading(m.Reading, m.Probes)
	if x.goal != nil {
		v := x.goal.Judge(m.Reading, m.Probes)
		r.Objective = &v
		found = append(found, finding.OfVerdict(v)...)
	}
	r.Findings = list(found)
	out.State, out.Started, out.Ended = kind.Done, m.Started, x.Network.Clock().Now()
	if len(m.Probes) > 0 {
		out.Reading, out.Probes = &m.Reading, m.Probes
	}
	switch {
	case m.Err != nil:
		out.State, out.Reason = kind.Failed, m.Err.Error()
	case len(m.Probes) < of:
		out.State, out.Reason = kind.Cancelled, "stopped before its end; these are the probes so far"
	case m.Reading.Unsent > 0 && m.Reading.Sent == 0:
		out.State, out.Reason = kind.Failed, "no probe could be sent: "+m.Reading.Cause
	case m.Reading.Unsent > 0:
		out.Reason = fmt.Sprintf("%d probes could not be sent: %s", m.Reading.Unsent, m.Reading.Cause)
	}
	if m.Dropped > 0 {
		out.Reason = fmt.Sprintf("this host's own buffer had no room for %d packets; what looks lost may be those", m.Dropped)
	}
	r.Outcome, r.Reason = string(out.State), out.Reason
}

// compare puts what the differences between the ways of asking one target mean beside its
// first result, in the place of what one way alone would say.
func (x *job) compare() {
	var targets []string
	ways := map[string][]int{}
	for i := range x.measured {
		t := x.Lanes[x.places[i]].Target
		if ways[t] == nil {
			targets = append(targets, t)
		}
		ways[t] = append(ways[t], i)
	}
	for _, t := range targets {
		var asked []finding.Asked
		var own []*Result
		var named *kind.Named
		for _, i := range ways[t] {
			m := x.measured[i]
			asked = append(asked, finding.Asked{Addr: m.Addr, Via: m.Via.String(), Reading: m.Reading, Probes: m.Probes})
			own = append(own, x.result(x.places[i]))
			if n := x.Lanes[x.places[i]].Named; n != nil {
				named = n
			}
		}
		found := append(finding.OfKinds(asked), named.Conclusions()...)
		explained := map[finding.Code]bool{}
		for _, f := range found {
			switch f.Code {
			case finding.ICMPFiltered, finding.PortFiltered:
				explained[finding.NoAnswer], explained[finding.Refusals] = true, true
			case finding.PortClosed:
				explained[finding.Refusals], explained[finding.PortClosed] = true, true
			}
		}
		for i, r := range own {
			spares := finding.Spares(asked[i], asked)
			kept := []finding.Finding{}
			for _, f := range r.Findings {
				if !explained[f.Code] && !(spares && f.Code.OfLoss()) {
					kept = append(kept, f)
				}
			}
			r.Findings = kept
		}
		own[0].Findings = append(own[0].Findings, found...)
	}
}

// sizes searches for the path MTU of each address.
func (x *job) sizes(ctx context.Context) error {
	searched := map[netip.Addr]bool{}
	for i, m := range x.measured {
		if searched[m.Addr] || m.Err != nil || ctx.Err() != nil {
			continue
		}
		searched[m.Addr] = true
		size := ping.SizeRequest{Addr: m.Addr, Wait: min(time.Duration(x.spec.Wait), time.Second), Socket: x.spec.Out()}
		if x.Ground != nil {
			if hop, err := x.Ground.FirstHop(m.Addr); err == nil {
				size.Link = hop.MTU
			}
		}
		found, err := ping.FindMTU(ctx, x.Network, size)
		if err != nil {
			return err
		}
		r := x.result(x.places[i])
		r.PathMTU = &found
		r.Findings = append(r.Findings, finding.OfMTU(found)...)
	}
	return nil
}

// list is a list of findings that is never null.
func list(found []finding.Finding) []finding.Finding { return append([]finding.Finding{}, found...) }

// Compared are its figures, to be laid beside others.
func (r *Result) Compared() compare.Side {
	jitter := compare.Known("jitter", "jitter", "", "ms", r.JitterMs, nil, nil, false)
	return compare.Side{Figures: []compare.Figure{compare.RTT(r.RTTMeanMs, r.RTTSDMs, r.Answered), compare.Loss("", r.Lost, r.Sent), jitter}}
}
