package ready

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/compare"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/readiness"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/wire"
)

// Result is the answer, and all that it rests on.
type Result struct {
	Target    string            `json:"target"`
	Address   string            `json:"address"`
	From      string            `json:"from"`
	To        string            `json:"to"`
	StartedAt time.Time         `json:"started_at"`
	EndedAt   time.Time         `json:"ended_at"`
	Need      readiness.Need    `json:"need"`
	Quick     bool              `json:"quick"`
	Complete  bool              `json:"complete"`
	Problem   string            `json:"problem,omitempty"`
	Found     readiness.Result  `json:"found"`
	Facts     readiness.Facts   `json:"facts"`
	Findings  []finding.Finding `json:"findings"`
}

// Concluded are its findings.
func (r *Result) Concluded() []finding.Finding { return r.Findings }

// Listed are the figures of lists: what came through each way, and how calls sound.
func (r *Result) Listed() (f kind.Figures) {
	for _, x := range r.Facts.Rates {
		if x.There {
			f.ThereBps = x.Bps
		} else {
			f.BackBps = x.Bps
		}
	}
	for _, x := range r.Facts.Streams {
		if x.MOS != nil && (f.MOS == nil || *x.MOS < *f.MOS) {
			f.MOS = x.MOS
		}
	}
	return f
}

// test is one that goes on.
type test struct {
	j       *kind.Job
	lane    int
	s       *Spec
	n       readiness.Need
	seats   int
	options nearend.Options
	far     netip.Addr
	name    string // of the far end, when it is one
	began   time.Time

	mu    sync.Mutex
	facts readiness.Facts
	to    string
	load  []float64 // round trips beside a load, by direction: there, back
}

func run(ctx context.Context, j *kind.Job) ([]kind.Outcome, error) {
	s := j.Spec.(*Spec)
	out := j.Fail(time.Now(), "")
	for i, l := range j.Lanes {
		options, err := j.Near(ctx, i, s.FarFamily(), s.Source, kind.UsualPort)
		if err != nil {
			return nil, err
		}
		t := &test{j: j, lane: i, s: s, n: s.Need.Need, options: options, far: options.To.Addr(), began: time.Now()}
		t.seats = t.n.SeatsOr(s.Seats)
		if err := t.allowed(); err != nil {
			return nil, err
		}
		if name, _, err := kind.SplitPort(l.Target, kind.UsualPort); err == nil && j.Far.Address == "" { // else it is an agent's name
			if _, err := netip.ParseAddr(name); err != nil {
				t.name = name
			}
		}
		r := &Result{Target: l.Target, Address: options.To.String(), From: j.Name, StartedAt: time.Now().UTC(), Need: t.n, Quick: s.Quick}
		err = t.all(ctx)
		r.Facts, r.EndedAt = t.facts, time.Now().UTC()
		r.To = t.to
		if r.To == "" || r.To == r.From {
			r.To = l.Target
		}
		r.Found = readiness.Judge(t.n, t.seats, t.facts)
		if r.Complete = err == nil; err != nil {
			r.Problem = err.Error()
			if ctx.Err() != nil {
				r.Problem = nearend.Stopped
			}
			if r.Found.Answer != readiness.NotFit { // the rest is not known
				r.Found.Answer, r.Found.FitFor = readiness.NotTold, nil
				r.Found.Sentence = fmt.Sprintf("Whether it is fit for %s could not be told: %s.", t.n.Name, r.Problem)
			}
		}
		r.Findings = finding.OfReadiness(r.Found)
		out[i].Ended, out[i].Result, out[i].Address = time.Now(), r, r.Address
		out[i].Close(r.Complete, r.Problem)
	}
	return out, nil
}

// allowed says what the owner of the host does not allow.
func (t *test) allowed() error {
	l := t.j.Limits
	if l.Loads != nil && !l.Loads(time.Now()) {
		return fmt.Errorf("the owner of this agent allows load runs only at %s", l.Hours)
	}
	most := max(t.n.BpsOf(t.seats, true), t.n.BpsOf(t.seats, false))
	if l.Rate > 0 && capacity.Rate(most) > l.Rate {
		return fmt.Errorf("%d seats send %v, and the owner of this agent allows %v", t.seats, capacity.Rate(most), l.Rate)
	}
	return nil
}

// all looks at everything, from near to far. The error is for what ends the test: that it was
// stopped, or that there is no far end.
func (t *test) all(ctx context.Context) error {
	if err := t.atRest(ctx); err != nil {
		return err
	}
	for _, step := range []func(context.Context) error{t.packets, t.streams, t.rates, t.wayBack} {
		if err := step(ctx); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// tell tells what is looked at now.
func (t *test) tell(p readiness.Part, says string) {
	t.mu.Lock()
	f := t.facts
	f.Streams, f.Rates, f.Untold = slices.Clone(f.Streams), slices.Clone(f.Rates), maps.Clone(f.Untold)
	t.mu.Unlock()
	whole := longest
	if t.s.Quick {
		whole = quickest
	}
	done := min(time.Since(t.began), whole-time.Second)
	t.j.Tell(kind.Progress{Lane: t.lane, Done: done.Milliseconds(), Of: whole.Milliseconds(), Says: says, More: Told{Part: p, Facts: f}})
}

// untold notes why a part could not be told.
func (t *test) untold(p readiness.Part, why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.facts.Untold == nil {
		t.facts.Untold = map[readiness.Part]string{}
	}
	t.facts.Untold[p] = why
}

// atRest looks, side by side, at what takes no load: the first hop, the round trip, names, ports,
// and the way there.
func (t *test) atRest(ctx context.Context) error {
	t.tell(readiness.Rest, "the first hop, names, ports, the round trip and the way there")
	var all sync.WaitGroup
	var failed error
	all.Go(func() { failed = t.trips(ctx) })
	all.Go(func() { t.names(ctx) })
	all.Go(func() { t.ports(ctx) })
	all.Go(func() { t.wayThere(ctx) })
	all.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return failed
}

// trips pings the first hop and the far end.
func (t *test) trips(ctx context.Context) error {
	const every = 100 * time.Millisecond
	q := ping.Request{Addrs: []netip.Addr{t.far}, Probes: int(t.s.lengths().rest / every), Interval: every, Wait: time.Second, Socket: network.SocketOptions{Source: t.s.Source.Addr}}
	gateway := netip.Addr{}
	if t.j.Ground != nil {
		if hop, err := t.j.Ground.FirstHop(t.far); err == nil && hop.Gateway.IsValid() && hop.Gateway != t.far {
			gateway = hop.Gateway
			q.Addrs = append(q.Addrs, gateway)
		}
	}
	found, err := ping.Measure(ctx, t.j.Network, q)
	if err != nil {
		t.untold(readiness.Rest, err.Error())
		return nil
	}
	trip := func(r ping.Result) *readiness.Trip {
		x := &readiness.Trip{Sent: r.Reading.Sent, Lost: r.Reading.Lost}
		x.MedianMs, x.P95Ms = figure.Ms(r.Reading.RTT.Median), figure.Ms(r.Reading.RTT.P95)
		return x
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if r := found[0]; r.Err == nil && r.Reading.Lost < r.Reading.Sent {
		t.facts.Rest = trip(r)
	}
	if len(found) > 1 && found[1].Err == nil {
		t.facts.Near, t.facts.Gateway = trip(found[1]), gateway.String()
	}
	return nil
}

// names looks for the names that the service has; where it has none, for that of the far end's
// address, which asks the resolver as well.
func (t *test) names(ctx context.Context) {
	if t.n.Resolver <= 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	var list []string
	for _, h := range t.n.Hosts {
		if _, err := netip.ParseAddr(h.Name); err != nil {
			list = append(list, h.Name)
		}
	}
	if t.name != "" {
		list = append(list, t.name)
	}
	for _, name := range slices.Compact(slices.Sorted(slices.Values(list))) {
		began := time.Now()
		found, err := t.j.Network.Lookup(ctx, name, 0)
		l := readiness.Lookup{Name: name, Resolver: found.Resolver}
		took := found.Took
		if took == 0 {
			took = time.Since(began)
		}
		if err != nil {
			l.Problem = err.Error()
		} else {
			l.TookMs = msOf(took)
		}
		t.mu.Lock()
		t.facts.Names = append(t.facts.Names, l)
		t.mu.Unlock()
	}
	if len(list) > 0 {
		return
	}
	began := time.Now()
	_, err := t.j.Network.Reverse(ctx, t.far)
	if err != nil && !errors.Is(err, network.ErrNoName) || ctx.Err() != nil {
		t.untold(readiness.Names, "no name belongs to it, and the resolver does not answer for the far end's address")
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.facts.Names = append(t.facts.Names, readiness.Lookup{Name: "the name of " + t.far.String(), TookMs: msOf(time.Since(began))})
}

func msOf(d time.Duration) *float64 {
	x := float64(d) / 1e6
	return &x
}

// wayThere finds the route, without figures.
func (t *test) wayThere(ctx context.Context) {
	if t.j.Ground == nil {
		t.untold(readiness.Route, "this host does not know its own links")
		return
	}
	ctx, cancel := context.WithTimeout(ctx, session.MostWayBack)
	defer cancel()
	hops, err := trace.Hops(ctx, t.j.Network, t.j.Ground, t.far)
	if err != nil {
		t.untold(readiness.Route, err.Error())
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.facts.There = hops
}

// wayBack asks the far end for the route back.
func (t *test) wayBack(ctx context.Context) error {
	t.tell(readiness.WayBack, "the way back")
	hops, err := nearend.WayBack(ctx, t.options)
	if err != nil {
		if ctx.Err() == nil {
			t.untold(readiness.WayBack, err.Error())
		}
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.facts.Back = hops
	return nil
}

// packets finds whether packets as large as the service needs come through whole.
func (t *test) packets(ctx context.Context) error {
	if t.n.MTU <= 0 {
		return nil
	}
	t.tell(readiness.Packets, "how large packets may be")
	around := 28
	if wire.FamilyOf(t.far) == wire.IPv6 {
		around = 48
	}
	// A session of frames of a test is one whose datagrams are not cut up; none is sent.
	shape := paced.Shape{Format: paced.Test, Calls: 1, Interval: time.Millisecond, Sizes: []int{wire.TestFrameSize}, For: time.Second, First: 1, Bulk: true, FPS: 1}
	o := session.Order{There: &shape, Largest: t.n.MTU - around}
	r, err := nearend.Open(ctx, t.options, o)
	if err != nil {
		return t.without(ctx, readiness.Packets, err)
	}
	defer r.Close()
	t.met(r.Far())
	there, back, err := r.Largest(ctx)
	if err != nil {
		return t.without(ctx, readiness.Packets, err)
	}
	m := &readiness.MTU{Tried: t.n.MTU}
	if there > 0 {
		m.There = there + around
	}
	if back > 0 {
		m.Back = back + around
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if m.There > 0 {
		t.facts.MTU = m
	}
	return nil
}

func (t *test) met(far session.End) {
	if far.Name != "" {
		t.to = far.Name
	}
}

// without goes on without a part, where the far end is there, and only this does not go.
func (t *test) without(ctx context.Context, p readiness.Part, err error) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, nearend.ErrNoUDP), errors.Is(err, nearend.ErrRefused):
		t.untold(p, err.Error())
		return nil
	}
	return err
}

// says writes how far it is.
func says(p kind.Progress) string {
	return fmt.Sprintf("%.0f %%: %s", 100*float64(p.Done)/float64(max(1, p.Of)), p.Says)
}

// good reports whether the place is fit.
func good(all []any) bool {
	return !slices.ContainsFunc(all, func(x any) bool {
		r, is := x.(*Result)
		return is && r.Found.Answer != readiness.Fit
	})
}

// Compared are the figures of all that was asked, to be laid beside others.
func (r *Result) Compared() (s compare.Side) {
	for _, c := range r.Found.Criteria {
		if c.Measured == nil || c.Unit == "" || c.Part == readiness.Ports {
			continue
		}
		low, high := c.Low, c.High
		if low == nil && high == nil && c.Part == readiness.Packets { // it is exact
			low, high = c.Measured, c.Measured
		}
		s.Figures = append(s.Figures, compare.Known(string(c.Part)+" "+c.What, c.What, c.Way, c.Unit, c.Measured, low, high, c.AtLeast))
	}
	s.Route = r.Facts.There
	return s
}
