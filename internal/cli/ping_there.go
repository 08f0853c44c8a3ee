package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/report"
)

// pingThere measures at an agent, through the service.
func (c *call) pingThere(o pingOptions) error {
	for option, used := range map[string]bool{"ttl": o.ttl != 0, "source": o.source != "", "interface": o.iface != "", "dont-fragment": o.whole,
		"path-mtu": o.mtu, "stamp-key": o.stampKey != "", "all-addresses": o.all, "random": o.random, "objective": o.goal != nil} {
		if used {
			return wrongCall("-%s is not for a measurement at an agent; leave it out, or measure from this machine", option)
		}
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	order := apitype.Measurement{From: o.from, To: o.targets, Via: o.via, Family: o.family, Probes: o.probes, Interval: o.every.String(), Wait: o.wait.String(),
		Payload: o.payload, DSCP: o.dscp}
	var runs []apitype.Run
	if err := api.Do(c.ctx, http.MethodPost, "/runs", order, &runs); err != nil {
		return err
	}
	if o.apart {
		return c.leftRunning(runs)
	}
	bar := c.progress(o.probes * len(runs))
	results := make([]report.PingResult, len(runs))
	measured, places := make([]ping.Result, len(runs)), make([]int, len(runs))
	var targets []located
	for i := range runs {
		r, err := c.await(api, runs[i], func(heard int) { _ = bar.Set(i*o.probes + heard) })
		if err != nil {
			return err
		}
		results[i] = report.PingResult{Target: r.To, Address: r.Address, Via: r.Via, From: r.From, Outcome: r.Outcome, Reason: r.Reason, Findings: r.Findings}
		if r.Reading != nil {
			results[i].Figures = r.Reading.Figures
			measured[i] = ping.Result{Reading: r.Reading.Figures.Reading(), Probes: probesOf(r)}
		}
		if measured[i].Via, err = reading.ParseVia(r.Via); err != nil {
			return err
		}
		measured[i].Addr, _ = netip.ParseAddr(r.Address)
		places[i] = i
		if len(targets) == 0 || targets[len(targets)-1].target != r.To {
			targets = append(targets, located{target: r.To})
		}
	}
	compare(results, places, measured, targets)
	_ = bar.Finish()
	if err := c.writePing(results); err != nil {
		return err
	}
	return pingStatus(results)
}

// probesOf are the newest probes of a run, as far as they are told: what was not
// answered was lost, or refused.
func probesOf(r apitype.Run) []reading.Probe {
	list := make([]reading.Probe, len(r.RTTsMs))
	for i, ms := range r.RTTsMs {
		if ms != nil {
			list[i] = reading.Probe{Outcome: reading.Answered, RTT: figure.FromMillis(*ms)}
		}
	}
	return list
}

// leftRunning says what goes on at the agent.
func (c *call) leftRunning(runs []apitype.Run) error {
	if c.format == "json" {
		return report.JSON(c.out, runs)
	}
	for _, r := range runs {
		fmt.Fprintf(c.out, "%s  to %s by %s goes on at %s; 'woodlark results -from %s -to %s' shows it\n", r.ID, r.To, r.Via, r.From, r.From, r.To)
	}
	return nil
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
