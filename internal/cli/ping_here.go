package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	standing "woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/probe/walk"
	"woodlark.example/internal/report"
	"woodlark.example/wire"
)

// located is a target and what its name was resolved to.
type located struct {
	target   string
	addrs    []netip.Addr // to measure
	resolved *report.Resolved
	findings []finding.Finding // about the name
	err      error
}

// pingHere measures from this machine, or in a world, without a service.
func (c *call) pingHere(o pingOptions) ([]report.PingResult, error) {
	n, from, err := place(o.world, o.from)
	if err != nil {
		return nil, err
	}
	if len(o.vias) == 0 {
		o.vias = []reading.Via{{}}
	}
	targets := c.locate(n, o)
	var results []report.PingResult
	request := ping.Request{Probes: o.probes, Interval: o.every, Wait: o.wait, Payload: o.payload, Poisson: o.random, Seed: o.seed, Socket: o.socket()}
	if o.stampKey != "" {
		request.StampKey = []byte(o.stampKey)
	}
	var places []int // in results, of each address
	for _, t := range targets {
		if t.err != nil {
			results = append(results, report.PingResult{Target: t.target, Via: o.vias[0].String(), From: from, Outcome: "failed", Reason: t.err.Error(),
				Resolved: t.resolved, Findings: apitype.FindingsOf(t.findings)})
			continue
		}
		for _, a := range t.addrs {
			for _, v := range o.vias {
				request.Addrs, request.Vias, places = append(request.Addrs, a), append(request.Vias, v), append(places, len(results))
				results = append(results, report.PingResult{Target: t.target, Address: a.String(), Via: v.String(), From: from, Resolved: t.resolved})
			}
		}
	}
	if len(request.Addrs) == 0 {
		return results, nil
	}
	watching := c.watching(o, results, places)
	request.Heard = watching.heard
	measured, err := ping.Measure(watching.ctx, n, request)
	watching.close()
	if err != nil {
		return nil, exit{exitUnmeasured, err}
	}
	for i, m := range measured {
		c.fill(&results[places[i]], m, o)
	}
	compare(results, places, measured, targets)
	if o.mtu {
		if err := c.sizes(n, o, results, places, measured); err != nil {
			return nil, err
		}
	}
	return results, nil
}

// fill completes the result of one address.
func (c *call) fill(r *report.PingResult, m ping.Result, o pingOptions) {
	r.Figures = m.Reading.Figures()
	r.Outcome, r.Dropped = "done", m.Dropped
	r.Pattern = report.PatternOf(m.Probes)
	found := finding.OfReading(m.Reading, m.Probes)
	if o.goal != nil {
		v := o.goal.Judge(m.Reading, m.Probes)
		r.Objective = &v
		found = append(found, finding.OfVerdict(v)...)
	}
	r.Findings = apitype.FindingsOf(found)
	switch {
	case m.Err != nil:
		r.Outcome, r.Reason = "failed", m.Err.Error()
	case len(m.Probes) < o.probes:
		r.Outcome, r.Reason = "cancelled", "stopped before its end; these are the probes so far"
	case m.Reading.Unsent > 0 && m.Reading.Sent == 0:
		r.Outcome, r.Reason = "failed", "no probe could be sent: "+m.Reading.Cause
	case m.Reading.Unsent > 0:
		r.Reason = fmt.Sprintf("%d probes could not be sent: %s", m.Reading.Unsent, m.Reading.Cause)
	}
	if m.Dropped > 0 {
		r.Reason = fmt.Sprintf("this host's own buffer had no room for %d packets; what looks lost may be those", m.Dropped)
	}
}

// compare puts what the differences between the ways of asking one target mean
// beside its first result, in the place of what one way alone would say.
func compare(results []report.PingResult, places []int, measured []ping.Result, targets []located) {
	ways := map[string][]int{}
	for i := range measured {
		target := results[places[i]].Target
		ways[target] = append(ways[target], i)
	}
	for _, t := range targets {
		var asked []finding.Asked
		var own []*report.PingResult
		for _, i := range ways[t.target] {
			m := measured[i]
			asked = append(asked, finding.Asked{Addr: m.Addr, Via: m.Via.String(), Reading: m.Reading, Probes: m.Probes})
			own = append(own, &results[places[i]])
		}
		if len(own) == 0 {
			continue
		}
		found := append(finding.OfKinds(asked), t.findings...)
		explained := map[string]bool{}
		for _, f := range found {
			switch f.Code {
			case finding.ICMPFiltered, finding.PortFiltered:
				explained[string(finding.NoAnswer)], explained[string(finding.Refusals)] = true, true
			case finding.PortClosed:
				explained[string(finding.Refusals)], explained[string(finding.PortClosed)] = true, true
			}
		}
		for i, r := range own {
			spares := finding.Spares(asked[i], asked)
			kept := []apitype.Finding{}
			for _, f := range r.Findings {
				if !explained[string(f.Code)] && !(spares && finding.Code(f.Code).OfLoss()) {
					kept = append(kept, f)
				}
			}
			r.Findings = kept
		}
		own[0].Findings = append(own[0].Findings, apitype.FindingsOf(found)...)
	}
}

// sizes searches for the path MTU of each address.
func (c *call) sizes(n network.Network, o pingOptions, results []report.PingResult, places []int, measured []ping.Result) error {
	searched := map[netip.Addr]bool{}
	for i, m := range measured {
		if searched[m.Addr] || m.Err != nil || c.ctx.Err() != nil {
			continue
		}
		searched[m.Addr] = true
		size := ping.SizeRequest{Addr: m.Addr, Wait: min(o.wait, time.Second), Socket: o.socket()}
		if hop, err := groundOf(n).FirstHop(m.Addr); err == nil {
			size.Link = hop.MTU
		}
		found, err := ping.FindMTU(c.ctx, n, size)
		if err != nil {
			return exit{exitUnmeasured, err}
		}
		r := &results[places[i]]
		r.PathMTU = &found
		r.Findings = append(r.Findings, apitype.FindingsOf(finding.OfMTU(found))...)
	}
	return nil
}

// groundOf is what a network tells of its own links.
func groundOf(n network.Network) walk.Ground {
	if g, ok := n.(walk.Ground); ok {
		return g
	}
	return standing.Ground{}
}

const lookupsAtOnce = 32

// locate resolves the targets that are names.
func (c *call) locate(n network.Network, o pingOptions) []located {
	list := make([]located, len(o.targets))
	gate := make(chan struct{}, lookupsAtOnce)
	var wg sync.WaitGroup
	for i, target := range o.targets {
		list[i].target = target
		if a, err := netip.ParseAddr(target); err == nil {
			list[i].addrs = []netip.Addr{a}
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			list[i].resolve(c.ctx, n, o.family, o.all)
		})
	}
	wg.Wait()
	return list
}

// resolve finds the addresses of a name, and what is to be said of it.
func (l *located) resolve(ctx context.Context, n network.Network, family string, all bool) {
	wanted := map[string]wire.Family{"4": wire.IPv4, "6": wire.IPv6}[family]
	found, err := n.Lookup(ctx, l.target, wanted)
	name := finding.NameAnswer{Resolver: found.Resolver, Addrs: found.Addrs, Took: found.Took}
	l.resolved = &report.Resolved{Resolver: found.Resolver, TookMs: figure.Millis(found.Took), Addresses: []string{}}
	for _, a := range found.Addrs {
		l.resolved.Addresses = append(l.resolved.Addresses, a.String())
	}
	if err != nil {
		name.Err, name.Absent = err.Error(), isNoName(err)
		l.err = err
	}
	l.findings = finding.OfName(finding.Name{Name: l.target, Answers: []finding.NameAnswer{name}})
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		taken := false
		for _, a := range found.Addrs {
			if wire.FamilyOf(a) == f && (all || !taken) && (all || family == "both" || len(l.addrs) == 0) {
				l.addrs = append(l.addrs, a)
				taken = true
			}
		}
	}
}

// watching shows a measurement as it goes.
type watching struct {
	ctx   context.Context
	heard func(int, reading.Probe)
	close func()
}

// liveFrom is how long a measurement lasts that is drawn at a terminal.
const liveFrom = 10 * time.Second

func (c *call) watching(o pingOptions, results []report.PingResult, places []int) watching {
	long := time.Duration(o.probes)*o.every >= liveFrom
	if c.format == "text" && len(places) <= mostLive && isTerminal(c.out) && (o.live || long) {
		return c.drawing(o, results, places)
	}
	if c.format == "ndjson" {
		return c.streaming(results, places)
	}
	bar := c.progress(o.probes * len(places))
	return watching{ctx: c.ctx, heard: func(int, reading.Probe) { _ = bar.Add(1) }, close: func() { _ = bar.Finish() }}
}

// streaming writes each probe as a line of JSON as soon as its fate is known.
func (c *call) streaming(results []report.PingResult, places []int) watching {
	out := bufio.NewWriter(c.out)
	var mu sync.Mutex
	return watching{ctx: c.ctx,
		heard: func(i int, p reading.Probe) {
			mu.Lock()
			defer mu.Unlock()
			r := results[places[i]]
			_ = report.ProbeLine(out, r.Target, r.Address, r.Via, p)
		},
		close: func() { _ = out.Flush() }}
}

// progress is a bar on standard error, at a terminal only.
func (c *call) progress(total int) *progressbar.ProgressBar {
	if !isTerminal(c.err) {
		return progressbar.DefaultSilent(int64(total))
	}
	return progressbar.NewOptions(total, progressbar.OptionSetWriter(c.err), progressbar.OptionSetDescription("probes"),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionShowCount())
}
