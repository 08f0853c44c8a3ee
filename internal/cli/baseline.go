package cli

import (
	"fmt"
	"net/http"
	"net/url"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
)

var baselineCommand = command{
	name: "baseline", summary: "what is normal for each path: list, show, take, pin, unpin",
	usage:   "list\nshow -from AGENT -to TARGET\ntake -from AGENT -to TARGET [-last 24h] [-pin]\npin -from AGENT -to TARGET\nunpin -from AGENT -to TARGET",
	example: "woodlark baseline list\nwoodlark baseline show -from northquay -to terminal.gannetbay.example",
	more:    "A rolling baseline is learnt anew each night, without the episodes in which the path was\ndegraded or lost. A pinned one stays until it is unpinned.",
	run:     runBaseline,
}

func runBaseline(c *call) error {
	var o pathOptions
	var last string
	var pin bool
	c.withFormat()
	c.withService()
	o.register(c)
	c.flags.StringVar(&last, "last", "", "take it from this far back, such as 24h; the training window when left out")
	c.flags.BoolVar(&pin, "pin", false, "pin what is taken")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("say one of list, show, take, pin, unpin")
	}
	verb := c.args[0]
	switch verb {
	case "list", "show", "take", "pin", "unpin":
	default:
		return wrongCall("%q is none of list, show, take, pin, unpin", short(verb))
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	if verb == "list" {
		var all []apitype.Baseline
		if err := api.Get(c.ctx, "/baselines", url.Values{}, &all); err != nil {
			return err
		}
		return c.writeBaselines(all)
	}
	p, err := o.find(c, api)
	if err != nil {
		return err
	}
	b, err := c.baseline(api, verb, "/paths/"+p.ID+"/baseline", last, pin)
	if err != nil {
		return err
	}
	return c.writeBaseline(b)
}

func (c *call) baseline(api *client.Client, verb, path, last string, pin bool) (b apitype.Baseline, err error) {
	switch verb {
	case "take":
		err = api.Do(c.ctx, http.MethodPost, path, map[string]any{"last": last, "pin": pin}, &b)
	case "pin", "unpin":
		err = api.Do(c.ctx, http.MethodPatch, path, map[string]bool{"pinned": verb == "pin"}, &b)
	default:
		err = api.Get(c.ctx, path, nil, &b)
	}
	return b, err
}

func band(b *apitype.Band) string {
	if b == nil {
		return "–"
	}
	return fmt.Sprintf("%s  (%s to %s)", figure.FormatMs(b.Median), figure.FormatMs(b.Low), figure.FormatMs(b.High))
}

func (c *call) writeBaselines(all []apitype.Baseline) error {
	if c.format == "json" {
		return report.JSON(c.out, all)
	}
	var rows [][]string
	for _, b := range all {
		kind := "rolling"
		if b.Pinned {
			kind = "pinned"
		}
		rows = append(rows, []string{b.From + " → " + b.To, fmt.Sprintf("IPv%d", b.Family), band(b.RTTMs), band(b.JitterMs), report.Percent(b.Loss), fmt.Sprint(b.Readings), kind, report.When(b.TakenAt, zone())})
	}
	if c.format == "csv" {
		return report.CSV(c.out, append([][]string{{"path", "family", "rtt", "jitter", "loss", "readings", "kind", "taken"}}, rows...))
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.out, "No baselines yet. A path has one after 30 readings.")
		return nil
	}
	return report.Table(c.out, c.ink, []report.Column{{Name: "path"}, {Name: ""}, {Name: "RTT (5 % to 95 %)", Right: true}, {Name: "jitter (5 % to 95 %)", Right: true}, {Name: "loss", Right: true}, {Name: "readings", Right: true}, {Name: "kind"}, {Name: "taken"}}, rows)
}

func (c *call) writeBaseline(b apitype.Baseline) error {
	if c.format != "text" {
		return c.writeBaselines([]apitype.Baseline{b})
	}
	kind := "rolling"
	if b.Pinned {
		kind = "pinned"
	}
	fmt.Fprintf(c.out, "%s  %s baseline of %d readings, %s to %s\n", c.ink.Strong(b.From+" → "+b.To), kind, b.Readings, report.When(b.FromAt, zone()), report.When(b.ToAt, zone()))
	fmt.Fprintf(c.out, "  RTT      %s\n  jitter   %s\n  loss     %s\n", band(b.RTTMs), band(b.JitterMs), report.Percent(b.Loss))
	if len(b.Hours) == 0 {
		fmt.Fprintln(c.out, "  One normal for all hours: an hour has its own once it was seen on three days.")
		return nil
	}
	var rows [][]string
	for _, h := range b.Hours {
		rows = append(rows, []string{fmt.Sprintf("%02d:00", h.Hour), figure.FormatMs(h.RTTMs.Low), figure.FormatMs(h.RTTMs.Median), figure.FormatMs(h.RTTMs.High)})
	}
	fmt.Fprintln(c.out)
	return report.Table(c.out, c.ink, []report.Column{{Name: "hour"}, {Name: "5 %", Right: true}, {Name: "median", Right: true}, {Name: "95 %", Right: true}}, rows)
}
