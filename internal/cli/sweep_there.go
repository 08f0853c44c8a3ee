package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
)

// sweepThere sweeps at an agent, through the service.
func (c *call) sweepThere(o sweepOptions) error {
	for option, used := range map[string]bool{"source": o.source != "", "interface": o.iface != "", "neighbours": o.neighbours} {
		if used {
			return wrongCall("-%s is not for a sweep at an agent; leave it out, or sweep from this machine", option)
		}
	}
	if o.rate == "unlimited" {
		return wrongCall("-rate unlimited is not for a sweep at an agent; name a number")
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	c.announce(o)
	order := apitype.SweepOrder{From: o.from, To: o.entries, Exclude: o.exclude, Via: o.via, Rate: o.pace, Wait: o.wait.String(), Random: o.random, Low: o.low, Beyond: o.beyond}
	var s apitype.Sweep
	if err := api.Do(c.ctx, http.MethodPost, "/sweeps", order, &s); err != nil {
		return err
	}
	if o.apart {
		if c.format == "json" {
			return report.JSON(c.out, s)
		}
		fmt.Fprintf(c.out, "%s  goes on at %s; the console's Sweeps page shows it\n", s.ID, s.From)
		return nil
	}
	bar := c.progress(max(1, s.Of))
	for s.Outcome == "running" {
		select {
		case <-c.ctx.Done():
			return exit{exitUnmeasured, fmt.Errorf("no longer waiting; the sweep goes on at the agent and is kept as %s", s.ID)}
		case <-time.After(150 * time.Millisecond):
		}
		if err := api.Get(c.ctx, "/sweeps/"+s.ID, url.Values{}, &s); err != nil {
			if errors.Is(c.ctx.Err(), context.Canceled) {
				continue
			}
			return err
		}
		_ = bar.Set(s.Sent)
	}
	_ = bar.Finish()
	if s.Report == nil {
		return exit{exitUnmeasured, fmt.Errorf("%s: %s", s.Outcome, s.Reason)}
	}
	return c.writeSweep(*s.Report)
}
