package cli

import (
	"net/url"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
)

var degradedCommand = command{
	name: "degraded", summary: "the report of paths that are, or were, worse than their baselines",
	usage:   "[-last 24h | -since TIME | -between FROM,TO] [options]\n-replay READINGS [-routes ROUTES] [-zone ZONE] [options]",
	example: "woodlark degraded\nwoodlark degraded -since 'yesterday 06:00' -format csv\nwoodlark degraded -between '2026-11-02 08:00,2026-11-02 12:00'\nwoodlark degraded -replay readings.ndjson -tolerance rtt=2ms,20%",
	more:    "A TIME is such as 14:20, 'yesterday 14:20', 'Fri 14:20', '2026-11-02 14:20' or RFC 3339.\nThe status is 1 when a path is worse than normal at the end of that time.",
	run:     runDegraded,
}

func runDegraded(c *call) error {
	var last time.Duration
	var since, between string
	var again replayOptions
	again.register(c)
	c.withFormat()
	c.withService()
	c.flags.DurationVar(&last, "last", 24*time.Hour, "how far back to look for episodes that are over")
	c.flags.StringVar(&since, "since", "", "episodes since a time, such as 'yesterday 14:20'")
	c.flags.StringVar(&between, "between", "", "how it was in a time that is over: FROM,TO")
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
	query, err := c.period(last, since, between)
	if err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	var d apitype.Degraded
	if err := api.Get(c.ctx, "/reports/degraded", query, &d); err != nil {
		return err
	}
	err = c.write(d, report.Degraded(d, zone()))
	if err == nil && len(d.Now) > 0 {
		return exit{status: exitNotGood}
	}
	return err
}

// period is the stretch of time that is asked for: of -last, -since and -between one.
func (c *call) period(last time.Duration, since, between string) (url.Values, error) {
	given := 0
	for _, name := range []string{"last", "since", "between"} {
		if c.isSet(name) {
			given++
		}
	}
	now := time.Now()
	from, to := now.Add(-last), time.Time{}
	var err error
	switch {
	case given > 1:
		return nil, wrongCall("-last, -since and -between exclude each other")
	case since != "":
		if from, err = parseWhen(since, now, zone()); err != nil {
			return nil, wrongCall("-since: %v", err)
		}
	case between != "":
		a, b, ok := strings.Cut(between, ",")
		if !ok {
			return nil, wrongCall("-between %q: write two times with a comma between, such as '2026-11-02 08:00,2026-11-02 12:00'", short(between))
		}
		if from, err = parseWhen(a, now, zone()); err != nil {
			return nil, wrongCall("-between: %v", err)
		}
		if to, err = parseWhen(b, now, zone()); err != nil {
			return nil, wrongCall("-between: %v", err)
		}
		if !to.After(from) {
			return nil, wrongCall("-between: %s is not before %s", strings.TrimSpace(a), strings.TrimSpace(b))
		}
	case last <= 0:
		return nil, wrongCall("-last %v is not above zero", last)
	}
	if from.After(now) {
		return nil, wrongCall("%s is still to come", from.Format("2006-01-02 15:04"))
	}
	query := url.Values{"from_at": {from.UTC().Format(time.RFC3339)}}
	if !to.IsZero() {
		query.Set("to_at", to.UTC().Format(time.RFC3339))
	}
	return query, nil
}
