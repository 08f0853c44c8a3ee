package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/report"
	"woodlark.example/wire"
)

var pingCommand = command{
	name: "ping", summary: "reachability, round-trip time, jitter and loss to one or more targets",
	usage:   "[options] TARGET …",
	example: "woodlark ping -probes 50 -every 20ms 127.0.0.1 ::1\nwoodlark ping -from northquay terminal.holm.example       (through the demo's service)\nwoodlark ping -world demo/skerry.yaml -from ops.northquay.example terminal.holm.example",
	run:     runPing,
}

type pingOptions struct {
	from, world, family, dscp string
	probes, payload           int
	every, wait, duration     time.Duration
	random                    bool
	seed                      uint64
}

func runPing(c *call) error {
	var o pingOptions
	c.withFormat()
	c.withService()
	c.flags.StringVar(&o.from, "from", "", "agent of the service to measure from, or with -world the host; this machine when left out")
	c.flags.StringVar(&o.world, "world", "", "file of a simulated network to measure in")
	c.flags.StringVar(&o.family, "family", "", "4, 6 or both; of targets that are names (default 4, else 6)")
	c.flags.IntVar(&o.probes, "probes", 10, "probes to send to each target")
	c.flags.DurationVar(&o.duration, "for", 0, "how long to send, instead of -probes")
	c.flags.DurationVar(&o.every, "every", 200*time.Millisecond, "time between probes to a target")
	c.flags.DurationVar(&o.wait, "wait", 2*time.Second, "how long to wait for an answer")
	c.flags.IntVar(&o.payload, "payload", ping.DefaultPayload, "bytes after the ICMP header")
	c.flags.StringVar(&o.dscp, "dscp", "", "service class, by name such as EF or by number")
	c.flags.BoolVar(&o.random, "random", false, "random intervals (Poisson) instead of even ones")
	c.flags.Uint64Var(&o.seed, "seed", 1, "of the random intervals")
	if err := c.parse(); err != nil {
		return err
	}
	if err := o.check(c); err != nil {
		return err
	}
	var results []report.PingResult
	var err error
	if o.from != "" && o.world == "" {
		results, err = c.pingThere(o)
	} else {
		results, err = c.pingHere(o)
	}
	if err != nil {
		return err
	}
	if err := c.writePing(results); err != nil {
		return err
	}
	return pingStatus(results)
}

func (o *pingOptions) check(c *call) error {
	set := map[string]bool{}
	c.flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	switch {
	case len(c.args) == 0:
		return wrongCall("name at least one target")
	case set["for"] && set["probes"]:
		return wrongCall("-for and -probes exclude each other")
	case o.every <= 0:
		return wrongCall("-every %v is not above zero", o.every)
	case o.every < time.Millisecond:
		return wrongCall("-every %v is less than 1ms", o.every)
	case set["for"] && o.duration <= 0:
		return wrongCall("-for %v is not above zero", o.duration)
	case o.wait <= 0 || o.wait > time.Minute:
		return wrongCall("-wait %v is not between 0 and 1m", o.wait)
	case o.payload < ping.MinPayload || o.payload > 65000:
		return wrongCall("-payload %d is not between %d bytes (it carries the mark by which an answer is known) and 65000", o.payload, ping.MinPayload)
	case o.family != "" && o.family != "4" && o.family != "6" && o.family != "both":
		return wrongCall("-family %q is none of 4, 6, both", short(o.family))
	case o.world != "" && o.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	}
	if set["for"] {
		o.probes = int(o.duration / o.every)
	}
	if o.probes < 1 || o.probes > 10_000_000 {
		return wrongCall("-probes %d is not between 1 and 10,000,000", o.probes)
	}
	if _, err := api.ParseDSCP(o.dscp); err != nil {
		return wrongCall("%v", err)
	}
	for _, target := range c.args {
		if err := controller.CheckTarget(target); err != nil {
			return exit{exitWrongCall, err}
		}
	}
	return nil
}

// place is the network to measure through and its name.
func (c *call) place(o pingOptions) (network.Network, string, error) {
	if o.world == "" {
		name, err := os.Hostname()
		if err != nil {
			name = "this machine"
		}
		return kernel.Host(), name, nil
	}
	data, err := os.ReadFile(o.world)
	if err != nil {
		return nil, "", exit{exitWrongCall, fmt.Errorf("read the world: %w", err)}
	}
	m, err := world.Read(data, world.Options{Zone: time.Local})
	if err != nil {
		return nil, "", exit{exitWrongCall, fmt.Errorf("%s: %w", o.world, err)}
	}
	n, err := m.At(o.from)
	if err != nil {
		return nil, "", exit{exitWrongCall, err}
	}
	return n, o.from, nil
}

// pingHere measures from this machine, or in a world, without a service.
func (c *call) pingHere(o pingOptions) ([]report.PingResult, error) {
	n, from, err := c.place(o)
	if err != nil {
		return nil, err
	}
	var results []report.PingResult
	var addrs []netip.Addr
	var places []int // in results, of each address
	for _, target := range c.args {
		found, err := resolve(c.ctx, n, target, o.family)
		if err != nil {
			results = append(results, report.PingResult{Target: target, Via: "icmp", From: from, Outcome: "failed", Reason: err.Error(), Findings: []apitype.Finding{}})
			continue
		}
		for _, a := range found {
			addrs, places = append(addrs, a), append(places, len(results))
			results = append(results, report.PingResult{Target: target, Address: a.String(), Via: "icmp", From: from})
		}
	}
	if len(addrs) == 0 {
		return results, nil
	}
	dscp, _ := api.ParseDSCP(o.dscp)
	bar := c.progress(o.probes * len(addrs))
	measured, err := ping.Measure(c.ctx, n, ping.Request{Addrs: addrs, Probes: o.probes, Interval: o.every, Wait: o.wait, Payload: o.payload,
		Poisson: o.random, Seed: o.seed, Socket: network.SocketOptions{DSCP: dscp}, Heard: func(int, reading.Probe) { _ = bar.Add(1) }})
	_ = bar.Finish()
	if err != nil {
		return nil, exit{exitUnmeasured, err}
	}
	for i, m := range measured {
		r := &results[places[i]]
		r.Figures = m.Reading.Figures()
		r.Outcome = "done"
		r.Findings = apitype.FindingsOf(finding.OfReading(m.Reading, m.Probes))
		switch {
		case m.Err != nil:
			r.Outcome, r.Reason = "failed", m.Err.Error()
		case c.ctx.Err() != nil:
			r.Outcome, r.Reason = "cancelled", "stopped before its end; these are the probes so far"
		case m.Reading.Unsent > 0 && m.Reading.Sent == 0:
			r.Outcome, r.Reason = "failed", "no probe could be sent: "+m.Reading.Cause
		case m.Reading.Unsent > 0:
			r.Reason = fmt.Sprintf("%d probes could not be sent: %s", m.Reading.Unsent, m.Reading.Cause)
		}
	}
	return results, nil
}

func resolve(ctx context.Context, n network.Network, target, family string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(target); err == nil {
		return []netip.Addr{a}, nil
	}
	wanted := []wire.Family{wire.IPv4, wire.IPv6}
	switch family {
	case "4":
		wanted = wanted[:1]
	case "6":
		wanted = wanted[1:]
	}
	var found []netip.Addr
	var last error
	for _, f := range wanted {
		addrs, err := n.Lookup(ctx, target, f)
		if err != nil {
			last = err
			continue
		}
		found = append(found, addrs[0])
		if family != "both" {
			break
		}
	}
	if len(found) == 0 {
		return nil, last
	}
	return found, nil
}

// progress is a bar on standard error, at a terminal only.
func (c *call) progress(total int) *progressbar.ProgressBar {
	if !isTerminal(c.err) {
		return progressbar.DefaultSilent(int64(total))
	}
	return progressbar.NewOptions(total, progressbar.OptionSetWriter(c.err), progressbar.OptionSetDescription("probes"),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionShowCount())
}

// pingThere measures at an agent, through the service.
func (c *call) pingThere(o pingOptions) ([]report.PingResult, error) {
	api, err := c.client()
	if err != nil {
		return nil, err
	}
	order := apitype.Measurement{From: o.from, To: c.args, Family: o.family, Probes: o.probes, Interval: o.every.String(), Wait: o.wait.String(),
		Payload: o.payload, DSCP: o.dscp}
	var runs []apitype.Run
	if err := api.Do(c.ctx, http.MethodPost, "/runs", order, &runs); err != nil {
		return nil, err
	}
	bar := c.progress(o.probes * len(runs))
	defer func() { _ = bar.Finish() }()
	results := make([]report.PingResult, len(runs))
	for i := range runs {
		r, err := c.await(api, runs[i], func(heard int) { _ = bar.Set(heard) })
		if err != nil {
			return nil, err
		}
		results[i] = report.PingResult{Target: r.To, Address: r.Address, Via: "icmp", From: r.From, Outcome: r.Outcome, Reason: r.Reason, Findings: r.Findings}
		if r.Reading != nil {
			results[i].Figures = r.Reading.Figures
		}
	}
	return results, nil
}

// await follows a run until it is over.
func (c *call) await(api *client.Client, r apitype.Run, heard func(int)) (apitype.Run, error) {
	for {
		if err := api.Get(c.ctx, "/runs/"+r.ID, url.Values{}, &r); err != nil {
			if errors.Is(c.ctx.Err(), context.Canceled) {
				return r, exit{exitUnmeasured, fmt.Errorf("no longer waiting; the run goes on at the agent and is kept as %s", r.ID)}
			}
			return r, err
		}
		if r.Outcome != "running" {
			return r, nil
		}
		heard(r.Heard)
		select {
		case <-c.ctx.Done():
		case <-time.After(150 * time.Millisecond):
		}
	}
}

func (c *call) writePing(results []report.PingResult) error {
	switch c.format {
	case "json":
		return report.JSON(c.out, results)
	case "csv":
		return report.PingCSV(c.out, results)
	}
	return report.Ping(c.out, c.ink, results)
}

// pingStatus is the status that results end with: the worst of them.
func pingStatus(results []report.PingResult) error {
	measured, silent := 0, 0
	for _, r := range results {
		if r.Sent > 0 {
			measured++
			if r.Answered == 0 {
				silent++
			}
		}
	}
	switch {
	case silent > 0:
		return exit{status: exitNotGood}
	case measured < len(results):
		return exit{status: exitUnmeasured}
	}
	return nil
}

func joined(list []string) string { return strings.Join(list, ", ") }
