package cli

import (
	"flag"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/controller"
	"woodlark.example/internal/probe/walk"
	"woodlark.example/internal/report"
	"woodlark.example/wire"
)

type walkOptions struct {
	walk                         bool
	world, from, address, family string
	probes                       int
	every                        time.Duration
	port                         uint16
}

func (o *walkOptions) register(f *flag.FlagSet) {
	f.BoolVar(&o.walk, "walk", false, "go to the target from near to far, and say where it breaks")
	f.StringVar(&o.world, "world", "", "with -walk: file of a simulated network, or learn:NAME")
	f.StringVar(&o.from, "from", "", "an agent of the service; with -world the host to walk from")
	f.StringVar(&o.address, "address", "", "with -walk: the address of a target that is a name, where it is known")
	f.StringVar(&o.family, "family", "", "with -walk: 4 or 6; of a target that is a name (default 4, else 6)")
	f.IntVar(&o.probes, "probes", 100, "with -walk: probes to the gateway and to the target")
	f.DurationVar(&o.every, "every", 20*time.Millisecond, "with -walk: time between probes")
}

func (c *call) runWalk(o walkOptions) error {
	q := walk.Request{Port: o.port, Probes: o.probes, Interval: o.every, Family: map[string]wire.Family{"4": wire.IPv4, "6": wire.IPv6}[o.family]}
	var err error
	switch {
	case len(c.args) == 0:
		return wrongCall("name the target of the walk")
	case o.world != "" && o.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	case o.probes < 1 || o.probes > 100_000:
		return wrongCall("-probes %d is not between 1 and 100,000", o.probes)
	case o.every < time.Millisecond:
		return wrongCall("-every %v is less than 1ms", o.every)
	case o.family != "" && q.Family == 0:
		return wrongCall("-family %q is none of 4, 6", short(o.family))
	}
	q.Target = c.args[0]
	if err := controller.CheckTarget(q.Target); err != nil {
		return exit{exitWrongCall, err}
	}
	if o.address != "" {
		if q.Address, err = netip.ParseAddr(o.address); err != nil {
			return wrongCall("-address %q is not an IP address", short(o.address))
		}
	}
	if o.from != "" && o.world == "" {
		return c.walkThere(o, q)
	}
	n, from, err := place(o.world, o.from)
	if err != nil {
		return err
	}
	if c.format == "text" {
		fmt.Fprintf(c.out, "%s  from %s, near to far\n", c.ink.Strong(q.Target), from)
		q.Met = c.writeStep
	}
	r, err := walk.Go(c.ctx, n, groundOf(n), q)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	r.From = from
	return c.endWalk(r.WalkReport)
}

// endWalk writes what a walk concludes, and ends with its status.
func (c *call) endWalk(r finding.WalkReport) error {
	if c.format == "json" {
		if err := report.JSON(c.out, r); err != nil {
			return err
		}
	} else {
		c.writeFindings(r.Findings)
	}
	if slices.ContainsFunc(r.Findings, finding.Finding.Bad) {
		return exit{status: exitNotGood}
	}
	filtered := slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Code == finding.ICMPFiltered })
	for _, s := range r.Steps {
		if s.Good != nil && !*s.Good && !(filtered && s.Name == "address") { // the port answers: the host is good
			return exit{status: exitNotGood}
		}
	}
	return nil
}

// writeStep shows a step as it is met: by sign and word, not by colour alone.
func (c *call) writeStep(s finding.Step) {
	sign := "?"
	if s.Good != nil {
		sign = "✓"
		if !*s.Good {
			sign = c.ink.Lost("✗")
		}
	}
	took := ""
	if s.TookMs != nil {
		took = c.ink.Faint(" in " + report.Ms(s.TookMs))
	}
	fmt.Fprintf(c.out, "  %s %-10s %s  %s%s\n", sign, s.Name, s.About, strings.TrimSpace(s.Says), took)
}

func (c *call) writeFindings(list []finding.Finding) {
	if len(list) == 0 {
		fmt.Fprintf(c.out, "  › %s\n", "Nothing is wrong from here to there, as far as these probes tell.")
	}
	for _, f := range list {
		fmt.Fprintf(c.out, "  › %s\n", f.Sentence)
		if f.Advice != "" {
			fmt.Fprintf(c.out, "    %s\n", c.ink.Faint(f.Advice))
		}
	}
}

// walkThere walks at an agent, through the service.
func (c *call) walkThere(o walkOptions, q walk.Request) error {
	api, err := c.client()
	if err != nil {
		return err
	}
	order := apitype.WalkOrder{From: o.from, To: q.Target, Address: o.address, Port: int(o.port), Probes: o.probes, Interval: o.every.String()}
	if q.Family != 0 {
		order.Family = o.family
	}
	var r finding.WalkReport
	if err := api.Do(c.ctx, http.MethodPost, "/walks", order, &r); err != nil {
		return err
	}
	if c.format == "text" {
		fmt.Fprintf(c.out, "%s  from %s, near to far\n", c.ink.Strong(r.Target), r.From)
		for _, s := range r.Steps {
			c.writeStep(s)
		}
	}
	return c.endWalk(r)
}
