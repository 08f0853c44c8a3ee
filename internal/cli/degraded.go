package cli

import (
	"net/url"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
)

var degradedCommand = command{
	name: "degraded", summary: "the report of paths that are, or were, worse than their baselines",
	usage:   "[-last 24h] [options]\n-replay READINGS [-routes ROUTES] [-zone ZONE] [options]",
	example: "woodlark degraded\nwoodlark degraded -last 168h -format csv\nwoodlark degraded -replay readings.ndjson -tolerance rtt=2ms,20%",
	run:     runDegraded,
}

func runDegraded(c *call) error {
	var last time.Duration
	var again replayOptions
	again.register(c)
	c.withFormat()
	c.withService()
	c.flags.DurationVar(&last, "last", 24*time.Hour, "how far back to look for episodes that are over")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("there is nothing to do with %q", short(c.args[0]))
	}
	if again.readings != "" {
		if c.format == "csv" {
			return wrongCall("-replay is written as text or json, not as csv")
		}
		return again.run(c)
	}
	if name := again.asked(); name != "" {
		return wrongCall("%s belongs to -replay READINGS", name)
	}
	if last <= 0 {
		return wrongCall("-last %v is not above zero", last)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	var d apitype.Degraded
	query := url.Values{"from_at": {time.Now().Add(-last).UTC().Format(time.RFC3339)}}
	if err := api.Get(c.ctx, "/degraded", query, &d); err != nil {
		return err
	}
	switch c.format {
	case "json":
		err = report.JSON(c.out, d)
	case "csv":
		err = report.DegradedCSV(c.out, d)
	default:
		err = report.Degraded(c.out, c.ink, d, zone())
	}
	if err == nil && len(d.Now) > 0 {
		return exit{status: exitNotGood}
	}
	return err
}
