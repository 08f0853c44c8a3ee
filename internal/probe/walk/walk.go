// Package walk goes from near to far towards a target: the neighbour, the
// gateway, the resolvers, the target by its address, by its name and by a port.
// It stops explaining where it breaks.
//
//	r, err := walk.Go(ctx, kernel.Host(), host.Ground{}, walk.Request{Target: "terminal.holm.example", Port: 443})
package walk

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/wire"
)

// Ground tells how a host sends and what it knows of its links.
type Ground interface {
	FirstHop(to netip.Addr) (network.Hop, error)
	Neighbour(hop network.Hop, a netip.Addr) (network.Neighbour, error)
}

// Request is a walk.
type Request struct {
	Target   string      // a name or an address
	Address  netip.Addr  // of a target that is a name, known otherwise; not valid when it is not
	Port     uint16      // TCP; none when 0
	Family   wire.Family // of a name; IPv4 if it has such an address, else IPv6, when 0
	Probes   int         // to the gateway and to the target; 100 when 0
	Interval time.Duration
	Wait     time.Duration
	Mark     uint64 // see ping.Options
	// Met, if set, is called with each step as it is known.
	Met func(finding.Step)
}

// Result is what was met.
type Result struct {
	finding.WalkReport
	Walk finding.Walk
}

// walker is a walk that goes on.
type walker struct {
	Request
	n      network.Network
	ground Ground
	result Result
	hop    network.Hop
}

const (
	defaultProbes   = 100
	defaultInterval = 20 * time.Millisecond
	defaultWait     = time.Second
	knocks          = 3 // probes that make the kernel ask for its neighbour
)

// Go makes the walk. The error is for what keeps it from being made at all.
func Go(ctx context.Context, n network.Network, ground Ground, r Request) (Result, error) {
	if r.Probes == 0 {
		r.Probes = defaultProbes
	}
	if r.Interval == 0 {
		r.Interval = defaultInterval
	}
	if r.Wait == 0 {
		r.Wait = defaultWait
	}
	w := &walker{Request: r, n: n, ground: ground, result: Result{WalkReport: finding.WalkReport{Target: r.Target, Steps: []finding.Step{}}}}
	err := w.towards(ctx)
	w.result.Findings = finding.OfWalk(w.result.Walk)
	return w.result, err
}

func (w *walker) met(s finding.Step) {
	w.result.Steps = append(w.result.Steps, s)
	if w.Met != nil {
		w.Met(s)
	}
}

func truth(v bool) *bool { return &v }

func (w *walker) towards(ctx context.Context) error {
	literal, err := netip.ParseAddr(w.Target)
	isName := err != nil
	target := w.Address
	if !isName {
		target = literal
	}
	// The first hop is looked at first, towards the target or, as long as its
	// address is not known, towards a resolver.
	toward := target
	if !toward.IsValid() {
		if list := w.n.Resolvers(); len(list) > 0 {
			toward = list[0]
		}
	}
	if toward.IsValid() {
		if goes, err := w.near(ctx, toward); !goes || err != nil {
			return err
		}
	}
	if isName {
		found, err := w.names(ctx)
		if err != nil {
			return err
		}
		if !target.IsValid() {
			target = found
		}
		if !target.IsValid() {
			return nil
		}
		if !toward.IsValid() {
			if goes, err := w.near(ctx, target); !goes || err != nil {
				return err
			}
		}
	}
	w.result.Address = target.String()
	return w.far(ctx, target, isName)
}

// near looks at the way and the neighbour; false when it ends there.
func (w *walker) near(ctx context.Context, to netip.Addr) (bool, error) {
	hop, err := w.ground.FirstHop(to)
	if err != nil {
		w.met(finding.Step{Name: "way", Good: truth(false), About: to.String(), Says: err.Error()})
		return false, nil
	}
	w.hop = hop
	next, says := to, "on the own link"
	if hop.Gateway.IsValid() {
		next, says = hop.Gateway, "through "+hop.Gateway.String()
		w.result.Walk.Gateway = hop.Gateway
	}
	if hop.Source.IsValid() {
		says = "from " + hop.Source.String() + ", " + says
	}
	if hop.Interface != "" {
		says += ", by " + hop.Interface
	}
	w.met(finding.Step{Name: "way", Good: truth(true), About: to.String(), Says: says})
	// The entry is only made when something is sent.
	if _, err := w.ping(ctx, knocks, next); err != nil {
		return false, err
	}
	n, err := w.ground.Neighbour(hop, next)
	if err != nil {
		return false, err
	}
	switch {
	case !n.Known:
		w.met(finding.Step{Name: "neighbour", About: next.String(), Says: "the kernel has no entry for it"})
	case !n.Resolved:
		w.result.Walk.Unresolved, w.result.Walk.State = true, n.State
		w.met(finding.Step{Name: "neighbour", Good: truth(false), About: next.String(), Says: "does not resolve (" + n.State + ")"})
		return false, nil
	default:
		says := "resolved (" + n.State + ")"
		if n.Hardware != "" {
			says = "resolved to " + n.Hardware + " (" + n.State + ")"
		}
		w.met(finding.Step{Name: "neighbour", Good: truth(true), About: next.String(), Says: says})
	}
	return true, nil
}

// ping asks several addresses at the same time.
func (w *walker) ping(ctx context.Context, probes int, addrs ...netip.Addr) ([]finding.Asked, error) {
	return w.ask(ctx, probes, nil, addrs...)
}

func (w *walker) ask(ctx context.Context, probes int, vias []reading.Via, addrs ...netip.Addr) ([]finding.Asked, error) {
	results, err := ping.Measure(ctx, w.n, ping.Request{Addrs: addrs, Vias: vias, Probes: probes, Interval: w.Interval, Wait: w.Wait, Mark: w.Mark})
	if err != nil {
		return nil, err
	}
	out := make([]finding.Asked, len(results))
	for i, r := range results {
		if r.Err != nil {
			return nil, r.Err
		}
		out[i] = finding.Asked{Addr: r.Addr, Via: r.Via.String(), Reading: r.Reading, Probes: r.Probes}
	}
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	return out, nil
}

// names asks each resolver for the name, and returns the address to measure.
func (w *walker) names(ctx context.Context) (netip.Addr, error) {
	name := finding.Name{Name: w.Target}
	resolvers := w.n.Resolvers()
	var answers []finding.NameAnswer
	// The first question is asked as programs ask: by the hosts file, the search
	// list and the resolvers in their order.
	own := w.lookup(ctx, func(ctx context.Context) (network.Resolved, error) { return w.n.Lookup(ctx, w.Target, w.Family) })
	if own.Resolver == "" || len(resolvers) < 2 {
		answers = append(answers, own)
	} else {
		for _, r := range resolvers {
			a := w.lookup(ctx, func(ctx context.Context) (network.Resolved, error) { return w.n.LookupAt(ctx, r, w.Target, w.Family) })
			a.Resolver = r.String()
			answers = append(answers, a)
		}
	}
	name.Answers = answers
	w.result.Walk.Name = &name
	var found netip.Addr
	for _, a := range answers {
		took := figure.Millis(a.Took)
		s := finding.Step{Name: "resolver", Good: truth(a.Err == ""), About: a.Resolver, TookMs: &took, Says: a.Err}
		if a.Resolver == "" {
			s.About = "no resolver was needed"
		}
		if a.Err == "" {
			s.Says = w.Target + " is " + joined(a.Addrs)
		}
		w.met(s)
	}
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		for _, a := range append([]finding.NameAnswer{own}, answers...) {
			for _, x := range a.Addrs {
				if !found.IsValid() && wire.FamilyOf(x) == f {
					found = x
				}
			}
		}
	}
	return found, ctx.Err()
}

const lookupLimit = 15 * time.Second

// lookup asks in the network's own time.
func (w *walker) lookup(ctx context.Context, ask func(context.Context) (network.Resolved, error)) finding.NameAnswer {
	ctx, cancel := context.WithTimeout(ctx, lookupLimit)
	defer cancel()
	var a finding.NameAnswer
	var wg sync.WaitGroup
	w.n.Clock().Go(&wg, func() {
		began := w.n.Clock().Now()
		r, err := ask(ctx)
		a = finding.NameAnswer{Resolver: r.Resolver, Addrs: r.Addrs, Took: w.n.Clock().Now().Sub(began)}
		if err != nil {
			a.Err, a.Absent = err.Error(), errors.Is(err, network.ErrNoName)
		}
	})
	wg.Wait()
	return a
}

// far measures the gateway and the target in the same moments, and the port.
func (w *walker) far(ctx context.Context, target netip.Addr, isName bool) error {
	addrs := []netip.Addr{target}
	if w.hop.Gateway.IsValid() && w.hop.Gateway != target {
		addrs = append(addrs, w.hop.Gateway)
	}
	asked, err := w.ping(ctx, w.Probes, addrs...)
	if err != nil {
		return err
	}
	w.result.Walk.AtTarget = &asked[0]
	if len(asked) > 1 {
		w.result.Walk.AtGateway = &asked[1]
		w.met(stepOf("gateway", asked[1]))
	}
	w.met(stepOf("address", asked[0]))
	if isName && w.result.Walk.Name != nil {
		s := finding.Step{Name: "name", Good: truth(false), About: w.Target, Says: "does not lead to " + target.String()}
		for _, a := range w.result.Walk.Name.Answers {
			for _, x := range a.Addrs {
				if x == target {
					s.Good, s.Says = truth(true), "leads to "+target.String()
				}
			}
		}
		w.met(s)
	}
	if w.Port == 0 {
		return w.otherwise(ctx, target)
	}
	via := reading.Via{Kind: reading.ByTCP, Port: w.Port}
	port, err := w.ask(ctx, max(knocks, min(w.Probes, 10)), []reading.Via{via}, target)
	if err != nil {
		return err
	}
	w.result.Walk.AtPort = &port[0]
	w.met(stepOf("port", port[0]))
	return nil
}

// others are tried where a target loses probes and the gateway does not: what is most
// often open, or refused in so many words.
var others = []reading.Via{{Kind: reading.ByTCP, Port: 443}, {Kind: reading.ByTCP, Port: 80}, {Kind: reading.ByTCP, Port: 22}}

// otherwise asks a target that loses some of its probes by another kind, as many times:
// a target may spare its answers of one kind, a link that loses does so with all.
func (w *walker) otherwise(ctx context.Context, target netip.Addr) error {
	low, _, ok := w.result.Walk.AtTarget.Reading.Loss().Interval()
	if !ok || low <= 0.002 || w.result.Walk.AtTarget.Reading.Answered == 0 {
		return nil
	}
	for _, via := range others {
		first, err := w.ask(ctx, knocks, []reading.Via{via}, target)
		if err != nil {
			return err
		}
		if !first[0].There() {
			continue
		}
		asked, err := w.ask(ctx, w.Probes, []reading.Via{via}, target)
		if err != nil {
			return err
		}
		w.result.Walk.AtOther = &asked[0]
		w.met(stepOf("port", asked[0]))
		return nil
	}
	return nil
}

// stepOf says what was measured.
func stepOf(name string, a finding.Asked) finding.Step {
	f := a.Reading.Figures()
	s := finding.Step{Name: name, About: a.Addr.String(), Figures: &f, Good: truth(a.Reading.Answered > 0)}
	if name == "port" {
		s.About = a.Addr.String() + " " + a.Via
	}
	switch r := a.Reading; {
	case r.Answered > 0 && r.Lost > 0:
		s.Says = fmt.Sprintf("%d of %d probes answered, RTT %s", r.Answered, r.Sent, figure.FormatMs(figure.Millis(r.RTT.Median.Or(0))))
	case r.Answered > 0:
		s.Says = fmt.Sprintf("answers all %d probes, RTT %s", r.Sent, figure.FormatMs(figure.Millis(r.RTT.Median.Or(0))))
	case r.Refused > 0:
		s.Says = r.Cause
	case r.Sent == 0:
		s.Says = "no probe could be sent: " + r.Cause
		s.Good = nil
	default:
		s.Says = fmt.Sprintf("no answer to %d probes", r.Sent)
		if name == "gateway" {
			s.Good = nil // it may spare its answers
		}
	}
	return s
}

func joined(list []netip.Addr) string {
	texts := make([]string, len(list))
	for i, a := range list {
		texts[i] = a.String()
	}
	return strings.Join(texts, ", ")
}
