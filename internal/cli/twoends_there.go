package cli

import (
	"errors"
	"flag"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/plan"
)

// given are those of some options that the call names.
func (c *call) given(names ...string) (found []string) {
	c.flags.Visit(func(f *flag.Flag) {
		if slices.Contains(names, f.Name) {
			found = append(found, "-"+f.Name)
		}
	})
	return found
}

// notThere refuses options that an agent of the service is not told: what it would
// leave out must not look as if it had been done.
func (c *call) notThere(names ...string) error {
	given := c.given(names...)
	if len(given) == 0 {
		return nil
	}
	return wrongCall("an agent of the service has no %s; leave it out, or measure from this machine without -from", strings.Join(given, ", "))
}

// twoEndsThere has an agent of the service measure towards another, and waits for it.
func (c *call) twoEndsThere(o farOptions, kind, to string, length time.Duration, dscp string, r plan.TwoRequest) (apitype.TwoEnded, error) {
	var x apitype.TwoEnded
	service, err := c.client()
	if err != nil {
		return x, err
	}
	key := o.stampKey
	if !r.Reflector {
		if key, err = sharedKey(o.key, o.keyFile); err != nil {
			return x, err
		}
	}
	if r.Family, err = familyOf(o.family); err != nil {
		return x, err
	}
	order := apitype.TwoEndedOrder{Kind: kind, From: o.from, To: to, For: length.String(), DSCP: dscp, Key: key, Request: r}
	if err := service.Do(c.ctx, "POST", "/two-ended", order, &x); err != nil {
		return x, err
	}
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for x.Outcome == string(plan.Running) {
		select {
		case <-tick.C:
		case <-c.ctx.Done():
			return x, exit{exitUnmeasured, errors.New("not waited for to its end; it goes on and is kept: 'woodlark results -kind " + kind + "' shows it")}
		}
		if err := service.Get(c.ctx, "/two-ended/"+url.PathEscape(x.ID), nil, &x); err != nil {
			return x, err
		}
		if isTerminal(c.err) && x.Says != "" {
			fmt.Fprintf(c.err, "\r\x1b[K%s   %.0f %%", x.Says, 100*x.Share)
		}
	}
	if isTerminal(c.err) {
		fmt.Fprint(c.err, "\r\x1b[K")
	}
	if x.Through == nil && x.Stream == nil {
		return x, exit{exitUnmeasured, fmt.Errorf("%s: %s", x.Outcome, x.Reason)}
	}
	return x, nil
}
