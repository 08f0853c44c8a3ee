package cli

import (
	"bytes"
	"fmt"
	"net/url"
	"os"
)

var reportCommand = command{
	name: "report", summary: "degraded paths in a period, to hand on: HTML, PDF, CSV, JSON",
	usage: "[-last 7d | -since TIME | -between FROM,TO] [-out FILE] [options]",
	example: "woodlark report -last 24h\nwoodlark report -last 7d -objective voice -format pdf -out week.pdf\n" +
		"woodlark report -between '2026-11-01 00:00,2026-12-01 00:00' -tags islands -format html -out november.html",
	more: "Before and after with intervals, since when, where, whose, why and what to do next; incidents;\nhow available each path was, and whether it kept an objective; addresses that came and went;\nthroughput against usual; and what could not be judged. A TIME is as in 'woodlark help degraded'.",
	run:  runReport,
}

type chosen struct{ sites, agents, targets, tags, labels string }

// withChoice registers flags that choose paths; of says what they belong to, such as "of make: ".
func (c *call) withChoice(x *chosen, of string) {
	c.flags.StringVar(&x.sites, "sites", "", of+"of paths with these sites at either end only, with commas between")
	c.flags.StringVar(&x.agents, "agents", "", of+"of paths from these agents only")
	c.flags.StringVar(&x.targets, "targets", "", of+"of paths to these targets only")
	c.flags.StringVar(&x.tags, "tags", "", of+"of paths of watches with these tags only")
	c.flags.StringVar(&x.labels, "labels", "", of+"of paths from agents with these labels only")
}

// into puts them into a call over HTTP.
func (x chosen) into(query url.Values) {
	for name, list := range map[string]string{"sites": x.sites, "agents": x.agents, "targets": x.targets, "tags": x.tags, "labels": x.labels} {
		if list != "" {
			query.Set(name, list)
		}
	}
}

// spanOf is a time that is asked for: so far back, since a time, or between two.
type spanOf struct{ last, since, between string }

// withSpan registers its flags; of says what they belong to, such as "of make: ".
func (c *call) withSpan(x *spanOf, of string) {
	c.flags.StringVar(&x.last, "last", "24h", of+"how far back, such as 24h or 7d")
	c.flags.StringVar(&x.since, "since", "", of+"since a time, such as 'Mon 08:00'")
	c.flags.StringVar(&x.between, "between", "", of+"of a time that is over: FROM,TO")
}

// query is the time as a call over HTTP takes it.
func (x spanOf) query(c *call) (url.Values, error) {
	last, err := readSpan(x.last)
	if err != nil {
		return nil, wrongCall("-last: %v", err)
	}
	return c.period(last, x.since, x.between)
}

func runReport(c *call) error {
	var out, objective, title string
	var span spanOf
	var of chosen
	c.withFormat()
	c.formats = []string{"html", "pdf"}
	c.withService()
	c.withSpan(&span, "")
	c.flags.StringVar(&out, "out", "", "file to write it to; the output when left out")
	c.flags.StringVar(&objective, "objective", "", "hold paths against this objective; 'woodlark objective' lists them")
	c.flags.StringVar(&title, "title", "", "title of one's own")
	c.withChoice(&of, "")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	}
	if c.format == "pdf" && out == "" {
		return wrongCall("a PDF needs a file: give -out FILE")
	}
	query, err := span.query(c)
	if err != nil {
		return err
	}
	of.into(query)
	query.Set("format", c.format)
	for name, v := range map[string]string{"objective": objective, "title": title} {
		if v != "" {
			query.Set(name, v)
		}
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	var file bytes.Buffer
	if err := api.Fetch(c.ctx, "/reports/period/file", query, &file); err != nil {
		return err
	}
	return c.hand(&file, out, "report")
}

// hand writes what was fetched to a file, or to the output when none is named; what it is says
// what was made and not kept.
func (c *call) hand(file *bytes.Buffer, out, what string) error {
	if out == "" {
		_, err := file.WriteTo(c.out)
		return err
	}
	size := file.Len()
	if err := os.WriteFile(out, file.Bytes(), 0o644); err != nil {
		return fmt.Errorf("the %s was made but not kept: %w", what, err)
	}
	fmt.Fprintf(c.out, "%s written, %d kB.\n", out, (size+999)/1000)
	return nil
}
