package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
)

var resultsCommand = command{
	name: "results", summary: "stored readings of a path, runs, and traces",
	usage:   "-from AGENT -to TARGET [-last 1h] [options]\n-format ndjson [-from AGENT] [-to TARGET] [-last 672h]\n-runs [options]\n-traces [-from AGENT] [-to TARGET]",
	example: "woodlark results -from northquay -to kiosk.oxwater.example -last 30m\nwoodlark results -format ndjson -last 672h > readings.ndjson\nwoodlark results -runs -outcome missed\nwoodlark results -traces -to terminal.holm.example",
	run:     runResults,
}

// pathOptions select one path.
type pathOptions struct{ from, to, family, via string }

func (o *pathOptions) register(c *call) {
	c.flags.StringVar(&o.from, "from", "", "agent that the path begins at")
	c.flags.StringVar(&o.to, "to", "", "target that the path leads to")
	c.flags.StringVar(&o.family, "family", "", "4 or 6, where the path is measured by both")
	c.flags.StringVar(&o.via, "via", "", "icmp, tcp:PORT, udp:PORT or stamp, where the path is measured by several")
}

// means reports whether a path is measured as is asked for.
func (o pathOptions) means(p apitype.Path) bool {
	return (o.family == "" || o.family == strconv.Itoa(p.Family)) && (o.via == "" || o.via == p.Via)
}

// find returns the one path that is meant.
func (o pathOptions) find(c *call, to *client.Client) (apitype.Path, error) {
	if o.from == "" || o.to == "" {
		return apitype.Path{}, wrongCall("name the path with -from AGENT and -to TARGET")
	}
	var all api.PathList
	if err := to.Get(c.ctx, "/paths", url.Values{"agent": {o.from}, "all": {"true"}, "limit": {"20000"}}, &all); err != nil {
		return apitype.Path{}, err
	}
	var there []apitype.Path
	var targets []string
	for _, p := range all.Paths {
		targets = append(targets, p.To)
		if p.To == o.to {
			there = append(there, p)
		}
	}
	found := slices.DeleteFunc(slices.Clone(there), func(p apitype.Path) bool { return !o.means(p) })
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0 && len(there) > 0:
		return apitype.Path{}, wrongCall("the path from %s to %s is measured %s, and not as asked for", short(o.from), short(o.to), ways(there))
	case len(found) == 0:
		if len(targets) == 0 {
			return apitype.Path{}, wrongCall("no path begins at %q; 'woodlark degraded' and the console show the paths there are", short(o.from))
		}
		return apitype.Path{}, wrongCall("no path leads from %s to %q; from there paths lead to %s", short(o.from), short(o.to), some(targets))
	}
	return apitype.Path{}, wrongCall("the path from %s to %s is measured %s; say which with -family and -via", short(o.from), short(o.to), ways(found))
}

// ways names by what paths between the same ends are measured.
func ways(list []apitype.Path) string {
	var names []string
	for _, p := range list {
		names = append(names, fmt.Sprintf("by %s over IPv%d", p.Via, p.Family))
	}
	return joined(names)
}

func runResults(c *call) error {
	var o pathOptions
	var last time.Duration
	var runs, traces bool
	var outcome string
	c.withFormat()
	c.withService()
	o.register(c)
	c.flags.DurationVar(&last, "last", time.Hour, "how far back")
	c.flags.BoolVar(&runs, "runs", false, "runs instead of readings: what was done, failed or missed")
	c.flags.BoolVar(&traces, "traces", false, "traces instead of readings, newest first")
	c.formats = []string{"ndjson"}
	c.flags.Lookup("format").Usage = "text, json or csv; ndjson for the readings of many paths in the order of time, or with -traces their routes, as 'degraded -replay' reads them"
	c.flags.StringVar(&outcome, "outcome", "", "only runs that ended so: done, failed, missed, cancelled")
	if err := c.parse(); err != nil {
		return err
	}
	if last <= 0 {
		return wrongCall("-last %v is not above zero", last)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	if runs && traces {
		return wrongCall("-runs and -traces exclude each other")
	}
	if c.format == "ndjson" && runs {
		return wrongCall("-format ndjson is for readings and traces, not for runs")
	}
	if (o.family != "" || o.via != "") && (traces && c.format != "ndjson" || runs && o.to == "") {
		return wrongCall("-family and -via say which path is meant; %s are listed whatever they were made by", map[bool]string{true: "traces", false: "runs of all paths"}[traces])
	}
	if c.format == "ndjson" && traces {
		return c.streamRoutes(api, o, last)
	}
	if traces {
		return c.listTraces(api, o)
	}
	if runs {
		return c.listRuns(api, o, outcome)
	}
	if c.format == "ndjson" {
		return c.streamReadings(api, o, last)
	}
	p, err := o.find(c, api)
	if err != nil {
		return err
	}
	readings, err := c.readings(api, p.ID, time.Now().Add(-last))
	if err != nil {
		return err
	}
	return c.writeReadings(p, readings, last)
}

// readings are all readings of a path since a time, page by page.
func (c *call) readings(to *client.Client, path string, from time.Time) ([]apitype.Reading, error) {
	var all []apitype.Reading
	next := &from
	for next != nil {
		var page api.ReadingList
		query := url.Values{"from_at": {next.UTC().Format(time.RFC3339Nano)}, "limit": {"5000"}}
		if err := to.Get(c.ctx, "/paths/"+path+"/readings", query, &page); err != nil {
			return nil, err
		}
		all = append(all, page.Readings...)
		next = page.NextFrom
	}
	return all, nil
}

func (c *call) writeReadings(p apitype.Path, readings []apitype.Reading, last time.Duration) error {
	switch c.format {
	case "json":
		return report.JSON(c.out, readings)
	case "csv":
		rows := [][]string{report.ReadingColumns}
		for _, r := range readings {
			rows = append(rows, report.ReadingCells(r))
		}
		return report.CSV(c.out, rows)
	}
	fmt.Fprintf(c.out, "%s  %s\n", c.ink.Ends(p), c.ink.State(p.State))
	if len(readings) == 0 {
		fmt.Fprintf(c.out, "No readings in the last %s. 'woodlark results -runs' says what failed or was missed.\n", figure.FormatSpan(last))
		return nil
	}
	columns := []report.Column{{Name: "began"}, {Name: "answered", Right: true}, {Name: "loss", Right: true}, {Name: "median", Right: true}, {Name: "p95", Right: true}, {Name: "longest", Right: true}, {Name: "jitter", Right: true}, {Name: "notes"}}
	var rows [][]string
	for _, r := range readings {
		rows = append(rows, []string{r.StartedAt.In(zone()).Format("Mon 2 Jan 15:04:05"), fmt.Sprintf("%d of %d", r.Answered, r.Sent),
			report.Percent(r.LossRatio), report.Ms(r.RTTMedianMs), report.Ms(r.RTTP95Ms), report.Ms(r.RTTMaxMs), report.Ms(r.JitterMs), strings.Join(r.Notes, ", ")})
	}
	return report.Table(c.out, c.ink, columns, rows)
}

func (c *call) listRuns(to *client.Client, o pathOptions, outcome string) error {
	query := url.Values{"limit": {"100"}}
	if o.from != "" || o.to != "" {
		p, err := o.find(c, to)
		if err != nil {
			return err
		}
		query.Set("path", p.ID)
	}
	if outcome != "" {
		query.Set("outcome", outcome)
	}
	var runs []apitype.Run
	if err := to.Get(c.ctx, "/runs", query, &runs); err != nil {
		return err
	}
	if c.format == "json" {
		return report.JSON(c.out, runs)
	}
	var rows [][]string
	for _, r := range runs {
		lasted := ""
		if r.EndedAt != nil {
			lasted = figure.FormatSpan(r.EndedAt.Sub(r.StartAt))
		}
		watch := r.Watch
		if watch == "" && r.Outcome != "missed" { // what nobody asked for was missed by no watch that is known
			watch = "on demand"
		}
		rows = append(rows, []string{report.When(r.StartAt, zone()), lasted, r.From + " → " + r.To, watch, r.Outcome, r.Reason})
	}
	if c.format == "csv" {
		return report.CSV(c.out, append([][]string{{"began", "lasted", "path", "watch", "outcome", "reason"}}, rows...))
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.out, "No such runs. The minutes of continuous watches are readings, not runs.")
		return nil
	}
	return report.Table(c.out, c.ink, []report.Column{{Name: "began"}, {Name: "lasted", Right: true}, {Name: "path"}, {Name: "watch"}, {Name: "outcome"}, {Name: "reason"}}, rows)
}
