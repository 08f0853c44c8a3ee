package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/capture"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/internal/report"
)

func (c *call) checkTargets() error {
	for _, t := range c.args {
		if err := controller.CheckTarget(t); err != nil {
			return exit{exitWrongCall, err}
		}
	}
	return nil
}

func joinErrors(list []error) error { return errors.Join(list...) }

// readTrace reads a trace that -format json wrote.
func readTrace(name string) (r finding.TraceReport, err error) {
	b, err := os.ReadFile(name)
	if err != nil {
		return r, wrongCall("-compare: %v", err)
	}
	if err := json.Unmarshal(b, &r); err != nil || r.Hops == nil {
		return r, wrongCall("-compare %s: this is no trace that -format json wrote of one target", name)
	}
	return r, nil
}

// traced is one target's trace to make.
type traced struct {
	target string
	addr   netip.Addr
}

// traceHere traces from this machine, or in a world, without a service.
func (c *call) traceHere(o traceOptions) error {
	n, from, err := place(o.world, o.from)
	if err != nil {
		return err
	}
	targets, failed := c.traceTargets(n, o)
	if len(targets) == 0 {
		return exit{exitUnmeasured, joinErrors(failed)}
	}
	point, _ := dscp.Parse(o.dscp)
	options := trace.Options{Socket: o.socket()}
	var file *capture.File
	if o.capture != "" {
		if file, err = capture.Create(o.capture); err != nil {
			return exit{exitWrongCall, err}
		}
		options.Sent, options.Came = file.Packet, file.Packet
	}
	var requests []trace.Request
	live, ctx := c.liveTrace(o, targets)
	for i, t := range targets {
		requests = append(requests, trace.Request{Addr: t.addr, Via: o.kind, Probes: o.probes, For: o.duration, Interval: o.every, Wait: o.wait, FirstTTL: o.first, LastTTL: o.last,
			Silent: o.silent, Retries: o.retries, OneFlow: o.one, PathMTU: o.mtu, Payload: o.payload, DSCP: uint8(point), Heard: func(p route.Probe) { live.heard(i, p) }})
	}
	back := c.tracesBack(n, o, targets)
	results, err := trace.Measure(ctx, n, groundOf(n), options, requests...)
	live.close()
	backs := back()
	if file != nil {
		if problem := file.Close(); problem != nil {
			return exit{exitUnmeasured, problem}
		}
	}
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	var list []finding.TraceReport
	for i, r := range results {
		if r.Err != nil {
			failed = append(failed, r.Err)
			continue
		}
		about := trace.Context{Target: targets[i].target, From: from, Names: o.names, Owners: o.table, Socket: options.Socket, Back: backs[i]}
		list = append(list, c.aboutTrace(n, o, r, about))
	}
	return c.writeTraces(list, failed)
}

// aboutTrace describes a result, compares it where that was asked for, and keeps
// it for the next to be compared with.
func (c *call) aboutTrace(n network.Network, o traceOptions, r trace.Result, about trace.Context) finding.TraceReport {
	kept := last{"traces", []string{o.world, about.From, r.Addr.String(), o.kind.String()}}
	earlier, when := o.earlier, o.compare
	if o.compare == "last" {
		var before finding.TraceReport
		known, err := kept.read(&before)
		switch {
		case err != nil:
			fmt.Fprintf(c.err, "note: %v\n", err)
		case !known:
			fmt.Fprintf(c.err, "note: there is no earlier trace of %s by %s from here to compare with\n", about.Target, o.kind)
		default:
			earlier, when = &before, "the last trace"
		}
	}
	if earlier != nil {
		was := earlier.Route()
		about.Earlier, about.When = &was, when
	}
	// The names are looked up even when it was cut: it is what there is.
	ctx := c.ctx
	if ctx.Err() != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
	}
	out := r.Report(ctx, n, groundOf(n), about)
	if earlier != nil && out.Compared != nil {
		at := earlier.StartedAt
		out.Compared.At = &at
	}
	if r.Ended != trace.Cut {
		if err := kept.write(out); err != nil && !errors.Is(err, errNoState) {
			fmt.Fprintf(c.err, "note: this trace is not kept for comparison: %v\n", err)
		}
	}
	return out
}

// traceTargets resolves the targets.
func (c *call) traceTargets(n network.Network, o traceOptions) (list []traced, failed []error) {
	for _, l := range c.locate(n, pingOptions{targets: c.args, family: o.family}) {
		if l.err != nil {
			failed = append(failed, l.err)
			continue
		}
		for _, a := range l.addrs {
			list = append(list, traced{l.target, a})
		}
	}
	return list, failed
}

// tracesBack begins to trace back from the targets, in a world; the function that
// it returns waits for what came of it.
func (c *call) tracesBack(n network.Network, o traceOptions, targets []traced) func() []*finding.TraceReport {
	reports := make([]*finding.TraceReport, len(targets))
	if !o.both {
		return func() []*finding.TraceReport { return reports }
	}
	var wg sync.WaitGroup
	for i, t := range targets {
		wg.Go(func() {
			home, err := trace.Source(groundOf(n), t.addr)
			if err == nil {
				reports[i], err = c.traceBack(n, o, t, home)
			}
			if err != nil {
				fmt.Fprintf(c.err, "note: the way back from %s is not traced: %v\n", t.target, err)
			}
		})
	}
	return func() []*finding.TraceReport {
		wg.Wait()
		return reports
	}
}

func (c *call) traceBack(n network.Network, o traceOptions, t traced, home netip.Addr) (*finding.TraceReport, error) {
	neighbour, ok := n.(interface {
		Neighbouring(a netip.Addr) (network.Network, string, error)
	})
	if !ok {
		return nil, fmt.Errorf("nobody of ours stands there")
	}
	there, name, err := neighbour.Neighbouring(t.addr)
	if err != nil {
		return nil, err
	}
	results, err := trace.Measure(c.ctx, there, groundOf(there), trace.Options{}, trace.Request{Addr: home, Via: o.kind, Probes: o.probes, For: o.duration, Interval: o.every, Wait: o.wait,
		LastTTL: o.last, Silent: o.silent, Retries: o.retries, OneFlow: o.one})
	if err != nil {
		return nil, err
	}
	if results[0].Err != nil {
		return nil, results[0].Err
	}
	r := results[0].Report(c.ctx, there, groundOf(there), trace.Context{Target: home.String(), From: name, Names: o.names, Owners: o.table})
	return &r, nil
}

// liveTraces shows traces as they go.
type liveTraces struct {
	mu      sync.Mutex
	gathers []*route.Gather
	close   func()
}

func (l *liveTraces) heard(i int, p route.Probe) {
	if len(l.gathers) == 0 {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.gathers[i].Add(p)
}

// liveTrace begins to draw, at a terminal; 'q' or Ctrl-C ends the trace and keeps
// what there is.
func (c *call) liveTrace(o traceOptions, targets []traced) (*liveTraces, context.Context) {
	long := o.duration >= liveFrom || time.Duration(o.probes)*o.every >= liveFrom
	if c.format != "text" || !isTerminal(c.out) || len(targets) > 2 || !o.live && !long {
		return &liveTraces{close: func() {}}, c.ctx
	}
	ctx, cancel := context.WithCancel(c.ctx)
	l := &liveTraces{}
	for _, t := range targets {
		l.gathers = append(l.gathers, route.NewGather(t.addr))
	}
	var wg sync.WaitGroup
	screen := &screen{c: c, began: time.Now()}
	keys, restore := c.keys(ctx, &wg)
	wg.Go(func() {
		tick := time.NewTicker(redraw)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case key := <-keys:
				if key == ctrlC || key == 'q' {
					cancel()
					return
				}
			case <-tick.C:
				screen.show(l.text(c.ink, targets) + c.ink.Faint(fmt.Sprintf("%s   Ctrl-C: end, keep what there is", time.Since(screen.began).Round(time.Second))) + "\n")
			}
		}
	})
	l.close = func() {
		cancel()
		wg.Wait()
		restore()
		screen.clear()
	}
	return l, ctx
}

func (l *liveTraces) text(ink report.Ink, targets []traced) string {
	var b strings.Builder
	for i, t := range targets {
		l.mu.Lock()
		r := l.gathers[i].Route()
		x := finding.Traced{Route: r}
		l.mu.Unlock()
		fmt.Fprintf(&b, "%s  %s\n", ink.Strong(t.target), t.addr)
		_ = report.TraceLanes(&b, ink, x.Report())
	}
	return b.String()
}
