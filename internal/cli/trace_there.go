package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
)

// traceThere traces at an agent, through the service.
func (c *call) traceThere(o traceOptions) error {
	for option, used := range map[string]bool{"source": o.source != "", "interface": o.iface != "", "capture": o.capture != "", "ttl": isSet(c, "ttl"), "first": isSet(c, "first"),
		"silent": isSet(c, "silent"), "retries": isSet(c, "retries"), "payload": isSet(c, "payload")} {
		if used {
			return wrongCall("-%s is not for a trace at an agent; leave it out, or trace from this machine", option)
		}
	}
	if o.duration > 0 {
		o.probes = int(o.duration / o.every)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	order := apitype.TraceOrder{From: o.from, To: c.args, Via: o.kind.String(), Family: o.family, Probes: o.probes, Interval: o.every.String(), Wait: o.wait.String(), DSCP: o.dscp,
		OneFlow: o.one, PathMTU: o.mtu, BothWays: o.both}
	var list []apitype.Trace
	if err := api.Do(c.ctx, http.MethodPost, "/traces", order, &list); err != nil {
		return err
	}
	if o.apart {
		if c.format == "json" {
			return report.JSON(c.out, list)
		}
		for _, t := range list {
			fmt.Fprintf(c.out, "%s  %s goes on at %s; 'woodlark results -traces' and the path's page show it\n", t.ID, t.To, t.From)
		}
		return nil
	}
	var reports []finding.TraceReport
	var failed []error
	for _, t := range list {
		if err := c.awaitTrace(api.Get, &t, o); err != nil {
			return err
		}
		if t.Report == nil {
			failed = append(failed, fmt.Errorf("%s: %s: %s", t.To, t.Outcome, t.Reason))
			continue
		}
		r := *t.Report
		c.own(o, &r)
		reports = append(reports, r)
	}
	return c.writeTraces(reports, failed)
}

func isSet(c *call, name string) bool {
	set := false
	c.flags.Visit(func(f *flag.Flag) { set = set || f.Name == name })
	return set
}

// awaitTrace waits for the end of a trace, drawing what comes meanwhile.
func (c *call) awaitTrace(get func(context.Context, string, url.Values, any) error, t *apitype.Trace, o traceOptions) error {
	compare := url.Values{}
	if o.compare == "last" || o.compare == "baseline" {
		compare.Set("compare", o.compare)
	}
	screen := &screen{c: c, began: time.Now()}
	draws := c.format == "text" && isTerminal(c.out)
	for t.Outcome == "running" {
		select {
		case <-c.ctx.Done():
			return exit{exitUnmeasured, fmt.Errorf("no longer waiting; the trace goes on at the agent and is kept as %s", t.ID)}
		case <-time.After(redraw):
		}
		if err := get(c.ctx, "/traces/"+t.ID, compare, t); err != nil {
			if errors.Is(c.ctx.Err(), context.Canceled) {
				continue
			}
			return err
		}
		if draws && t.Report != nil && t.Outcome == "running" {
			screen.show(report.LanesText(c.ink, *t.Report))
		}
	}
	screen.clear()
	return nil
}

// own adds what this machine knows: owners of prefixes, and a file to compare with.
func (c *call) own(o traceOptions, r *finding.TraceReport) {
	if !o.table.Empty() {
		r.Own(o.table)
	}
	if o.earlier != nil {
		r.CompareWith(*o.earlier, o.compare)
	}
}
