package accept

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
	"woodlark.example/core/compare"
	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trial"
	"woodlark.example/wire"
)

// Result is what a test found: the plan that was run, what came of each trial, and what follows
// from them.
type Result struct {
	Target    string               `json:"target"`
	Address   string               `json:"address"`
	From      string               `json:"from"`
	To        string               `json:"to"`
	StartedAt time.Time            `json:"started_at"`
	EndedAt   time.Time            `json:"ended_at"`
	Plan      acceptance.Plan      `json:"plan"`
	Asked     int                  `json:"asked_family,omitempty"` // of the plan, before it was known
	Near      End                  `json:"near"`
	Far       End                  `json:"far"`
	Estimate  acceptance.Estimate  `json:"estimate"` // before it began
	Complete  bool                 `json:"complete"`
	Problem   string               `json:"problem,omitempty"`
	Found     acceptance.Result    `json:"found"`
	Findings  []finding.Finding    `json:"findings"`
	Made      []acceptance.Outcome `json:"trials"`
	// Cut is what was measured of a trial that was cut: it is made once more when the test goes on.
	Cut *acceptance.Outcome `json:"cut,omitempty"`
}

// End is what an end is.
type End struct {
	Name    string       `json:"name"`
	Is      string       `json:"is,omitempty"`
	Version string       `json:"version"`
	System  string       `json:"system"`
	Clock   string       `json:"clock"`
	Link    session.Link `json:"link,omitzero"`
}

// GoOn is by which spec it goes on: that the circuit is out of service was said before.
func (r *Result) GoOn() kind.Spec {
	s := &Spec{Plan: Plan{Plan: r.Plan}, FirstLook: true, HostCheck: true, OutOfService: true}
	s.Plan.Family = r.Asked
	return s
}

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists: the highest rates that were carried, each way.
func (r *Result) Listed() (f kind.Figures) {
	note := func(there bool, bps float64) {
		at := &f.ThereBps
		if !there {
			at = &f.BackBps
		}
		if *at == nil || bps > **at {
			*at = &bps
		}
	}
	for _, s := range r.Found.Sizes {
		for _, w := range s.Ways {
			if w.Throughput != nil {
				note(w.There, w.Throughput.Rates.FrameBps)
			}
		}
	}
	for _, s := range r.Found.Services {
		for _, w := range s.Ways {
			if w.Run != nil {
				note(w.There, w.Run.Received.FrameBps)
			}
		}
	}
	for _, o := range r.Made {
		for _, s := range o.Seen {
			f.SentBytes += s.SentBytes
		}
	}
	return f
}

const (
	// patience is for how long a far end that is gone is looked for again.
	patience  = 2 * time.Minute
	firstWait = 2 * time.Second
	mostWait  = 20 * time.Second
)

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	p, err := s.plan()
	if err != nil {
		return nil, err
	}
	for i, l := range j.Lanes {
		options, err := j.Near(ctx, i, s.FarFamily(), s.Source, kind.UsualPort)
		if err != nil {
			return nil, err
		}
		r := &Result{Target: l.Target, Address: options.To.String(), StartedAt: time.Now().UTC(), Plan: p, Asked: p.Family}
		if r.Plan.Family = 4; wire.FamilyOf(options.To.Addr()) == wire.IPv6 {
			r.Plan.Family = 6
		}
		if wrong := r.Plan.Check(); len(wrong) > 0 { // of IPv6 the smallest frames are larger
			return nil, fmt.Errorf("%w: plan %s", kind.ErrInvalid, wrong[0])
		}
		if err := allowed(j, r.Plan); err != nil {
			return nil, err
		}
		if j.Before != nil {
			if err := r.goOn(j.Before, p); err != nil {
				return nil, err
			}
		}
		t := &test{j: j, lane: i, r: r, bench: &trial.Bench{Options: options, Plan: r.Plan, Real: j.LinkTo != nil, Far: farOf(j)}}
		err = t.run(ctx)
		out[i].Ended = time.Now()
		if err != nil && len(r.Made) == 0 && ctx.Err() == nil {
			return nil, err
		}
		out[i].Result, out[i].Address = r, r.Address
		out[i].Close(r.Complete, r.Problem)
	}
	return out, nil
}

// allowed says what the owner of the host does not allow.
func allowed(j *kind.Job, p acceptance.Plan) error {
	if p.Over == acceptance.Frame && j.Beyond {
		return fmt.Errorf("%w: over: a simulated network carries IP, and no frames of a link without it", kind.ErrInvalid)
	}
	if j.Limits.Loads != nil && !j.Limits.Loads(time.Now()) {
		return fmt.Errorf("the owner of this agent allows load runs only at %s", j.Limits.Hours)
	}
	limit := j.Limits.Rate
	for _, h := range p.Hardest() {
		if limit > 0 && capacity.Rate(h.PayloadBps) > limit {
			return fmt.Errorf("it sends %v, and the owner of this agent allows %v", capacity.Rate(h.PayloadBps), limit)
		}
	}
	return nil
}

// farOf finds the far end of a service that has an address of its own.
func farOf(j *kind.Job) func(context.Context, string) (netip.AddrPort, error) {
	return func(ctx context.Context, text string) (netip.AddrPort, error) {
		name, port, err := kind.SplitPort(text, kind.UsualPort)
		if err != nil {
			return netip.AddrPort{}, err
		}
		a, err := kind.Address(ctx, j.Network, name, 0)
		return netip.AddrPortFrom(a, port), err
	}
}

// test is one that goes on.
type test struct {
	j     *kind.Job
	lane  int
	r     *Result
	bench *trial.Bench
}

// goOn takes over what was made of the same plan before.
func (r *Result) goOn(before any, p acceptance.Plan) error {
	b, is := before.(*Result)
	if !is {
		return fmt.Errorf("%w: that is no result of an acceptance test", kind.ErrInvalid)
	}
	was := b.Plan
	was.Family = p.Family
	if !same(was, p) {
		return fmt.Errorf("%w: it was made by another plan: what was measured does not go on with this one", kind.ErrInvalid)
	}
	r.StartedAt, r.Made, r.Estimate = b.StartedAt, b.Made, b.Estimate
	r.Near, r.Far, r.From, r.To = b.Near, b.Far, b.From, b.To
	return nil
}

// same reports whether two plans test the same.
func same(a, b acceptance.Plan) bool {
	x, err1 := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err1 == nil && err2 == nil && bytes.Equal(x, y)
}

// run makes trial after trial. What was made is in the result, however it ends.
func (t *test) run(ctx context.Context) error {
	r := t.r
	if r.Estimate.Most == 0 {
		r.Estimate = acceptance.EstimateOf(r.Plan, nil)
	}
	for {
		w := acceptance.Walk(r.Plan, r.Made)
		r.Found = w.Result
		if w.Next == nil {
			r.Complete = true
			t.conclude()
			return nil
		}
		t.tell(*w.Next, &w.Result)
		o, err := t.make(ctx, *w.Next)
		if err != nil {
			r.Problem = err.Error()
			if ctx.Err() != nil {
				r.Problem = nearend.Stopped
			}
			if w.Next.Part == acceptance.Performing && len(o.Seen) > 0 { // hours of it may be over
				r.Cut = &o
			}
			t.conclude()
			return err
		}
		r.Made = append(r.Made, o)
		if !t.rest(ctx, w.Next) {
			r.Problem = nearend.Stopped
			t.conclude()
			return ctx.Err()
		}
	}
}

// make makes a trial. A far end that is gone is looked for again for a while: it may have been
// started anew, and the trial that was cut is made once more then.
func (t *test) make(ctx context.Context, x acceptance.Trial) (acceptance.Outcome, error) {
	since := time.Now()
	for wait := firstWait; ; wait = min(2*wait, mostWait) {
		o, err := t.bench.Make(ctx, x, func(p nearend.Progress) { t.heard(x, p) })
		if t.bench.Seen != nil {
			t.r.Near, t.r.Far = endOf(t.bench.Seen.Near, t.bench.Link, t.bench.To.Addr()), endOf(t.bench.Seen.Far, nil, netip.Addr{})
			t.r.From, t.r.To = t.r.Near.Name, t.r.Far.Name
			if t.r.To == "" || t.r.To == t.r.From {
				t.r.To = t.r.Target
			}
		}
		switch {
		case err == nil, ctx.Err() != nil:
			return o, err
		case len(t.r.Made) == 0 && t.bench.Seen == nil, !passing(err), time.Since(since) > patience:
			return o, err
		}
		t.j.TellEnds(t.lane, "the far end is gone, and looked for again: "+x.Says, nearend.Progress{})
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return o, ctx.Err()
		}
	}
}

// passing reports whether an error may be over in a while.
func passing(err error) bool {
	return !errors.Is(err, session.ErrKey) && !errors.Is(err, nearend.ErrRefused) && !errors.Is(err, network.ErrNotPermitted) && !errors.Is(err, kind.ErrInvalid)
}

// rest waits between trials; false when it is stopped meanwhile.
func (t *test) rest(ctx context.Context, x *acceptance.Trial) bool {
	if x.Part == acceptance.OfHost {
		return ctx.Err() == nil
	}
	timer := time.NewTimer(t.r.Plan.Rest())
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// tell tells which trial begins, what is left, and what was found so far.
func (t *test) tell(x acceptance.Trial, found *acceptance.Result) {
	left := acceptance.EstimateOf(t.r.Plan, t.r.Made)
	t.say(x, nearend.Progress{}, left, found)
}

// heard tells how far a trial is.
func (t *test) heard(x acceptance.Trial, p nearend.Progress) {
	t.say(x, p, acceptance.EstimateOf(t.r.Plan, t.r.Made), nil)
}

func (t *test) say(x acceptance.Trial, p nearend.Progress, left acceptance.Estimate, found *acceptance.Result) {
	spent := time.Duration(0)
	for _, o := range t.r.Made {
		spent += o.Took.D() + t.r.Plan.Rest()
	}
	spent += p.Elapsed
	rest := max(0, (left.Least.D()+left.Most.D())/2-p.Elapsed)
	t.j.Tell(kind.Progress{Lane: t.lane, Done: spent.Milliseconds(), Of: (spent + rest).Milliseconds(), Says: x.Says, More: Told{Progress: p, Made: len(t.r.Made), Left: left, Result: found}, Partial: t.partial(found)})
}

// partial is the result so far, when a trial is over.
func (t *test) partial(found *acceptance.Result) any {
	if found == nil || len(t.r.Made) == 0 {
		return nil
	}
	r := *t.r
	r.Made = slices.Clone(r.Made)
	r.EndedAt, r.Problem = time.Now().UTC(), "cut"
	r.Findings = finding.OfAcceptance(r.Found, false)
	return &r
}

// conclude says what was found, and when that was.
func (t *test) conclude() {
	r := t.r
	r.EndedAt = time.Now().UTC()
	made := r.Made
	if r.Cut != nil {
		made = append(slices.Clone(made), *r.Cut)
	}
	r.Found = acceptance.Walk(r.Plan, made).Result
	if r.Cut != nil && r.Found.Verdict == acceptance.Pass { // of a part of the time
		r.Found.Verdict = acceptance.Unknown
	}
	r.Findings = finding.OfAcceptance(r.Found, r.Complete)
}

// endOf is what an end said of itself.
func endOf(e session.End, link func(netip.Addr) session.Link, to netip.Addr) End {
	x := End{Name: e.Name, Is: e.Is, Version: e.Version, System: e.System, Link: e.Link}
	if link != nil {
		x.Link = link(to)
	}
	switch c := e.Clock; {
	case c.Synchronised && c.ErrorMs != nil:
		x.Clock = fmt.Sprintf("in step to %.3g ms", *c.ErrorMs)
	case c.Known:
		x.Clock = "runs free"
	default:
		x.Clock = "not known"
	}
	return x
}

// estimate is how long a test takes and what it sends, before anything is sent.
func estimate(s kind.Spec) (any, error) {
	p, err := s.(*Spec).plan()
	if err != nil {
		return nil, err
	}
	return &Estimated{Plan: p, Estimate: acceptance.EstimateOf(p, nil)}, nil
}

// Compared are the figures that were held to limits, to be laid beside others.
func (r *Result) Compared() (s compare.Side) {
	for _, c := range r.Found.Criteria {
		key := fmt.Sprintf("%s %s %s %d %s", c.Part, c.Figure, c.Service, c.Size, c.At)
		name := figureName(c.Figure) + " of " + where(c)
		s.Figures = append(s.Figures, compare.Known(key, name, wayName(r.Plan, c.There), c.Unit, c.Measured, c.Low, c.High, c.AtLeast))
	}
	return s
}
