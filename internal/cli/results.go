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
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var resultsCommand = command{
	name: "results", summary: "what was measured: readings of a path, and what runs of every kind found",
	usage: "                                          the paths there are, and how they stand\n-from AGENT -to TARGET [-last 7d] [options]\n" +
		"-format ndjson [-from AGENT] [-to TARGET] [-last 28d]\n-runs|-kind KIND [-from AGENT] [-to TARGET] [-via PROBE] [-last 7d]\n-objective NAME,… [-from AGENT] [-to TARGET] [-last 7d]\n-traces [-from AGENT] [-to TARGET]\n-run ID",
	example: "woodlark results -from northquay -to kiosk.oxwater.example -last 30m\nwoodlark results -format ndjson -last 28d > readings.ndjson\nwoodlark results -runs -outcome missed\n" +
		"woodlark results -kind throughput -last 7d -format csv\nwoodlark results -traces -to terminal.holm.example",
	run: runResults,
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

// resultsOptions say what of all that was measured is meant.
type resultsOptions struct {
	pathOptions
	since, kind, run, outcome string
	objective                 string
	runs, traces              bool
	last                      time.Duration
}

func (o *resultsOptions) register(c *call) {
	o.pathOptions.register(c)
	f := c.flags
	f.StringVar(&o.since, "last", "1h", "how far back, such as 30m or 7d")
	f.StringVar(&o.kind, "kind", "", "what runs of this kind found: "+strings.Join(kind.Names(), ", "))
	f.StringVar(&o.run, "run", "", "what this run found")
	f.StringVar(&o.objective, "objective", "", "how much of the time paths were within an objective, such as voice, or several with commas between; see 'woodlark objective'")
	f.BoolVar(&o.runs, "runs", false, "runs of all kinds instead of readings: what was done, failed or missed")
	f.BoolVar(&o.traces, "traces", false, "traces instead of readings, newest first")
	f.StringVar(&o.outcome, "outcome", "", "only runs that ended so: done, failed, missed, cancelled")
}

func runResults(c *call) error {
	var o resultsOptions
	c.withFormat()
	c.withService()
	o.register(c)
	c.formats = []string{"ndjson"}
	c.flags.Lookup("format").Usage = "text, json or csv; ndjson for the readings of many paths in the order of time, or with -traces their routes, as 'degraded -replay' reads them"
	err := c.parse()
	if err != nil {
		return err
	}
	if o.last, err = readSpan(o.since); err != nil {
		return wrongCall("-last: %v", err)
	}
	if err := o.check(c); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch {
	case o.run != "":
		return c.showRun(api, o.run, false)
	case o.objective != "":
		return c.fitness(api, o)
	case o.traces && c.format == "ndjson":
		return c.streamRoutes(api, o.pathOptions, o.last)
	case o.traces:
		return c.listTraces(api, o.pathOptions)
	case o.runs, o.kind != "":
		return c.listResults(api, o)
	case c.format == "ndjson":
		return c.streamReadings(api, o.pathOptions, o.last)
	case o.from == "" || o.to == "":
		return c.listPaths(api, o.pathOptions)
	}
	p, err := o.find(c, api)
	if err != nil {
		return err
	}
	readings, err := c.readings(api, p.ID, time.Now().Add(-o.last))
	if err != nil {
		return err
	}
	return c.writeReadings(p, readings, o.last)
}

// check says which options exclude each other.
func (o resultsOptions) check(c *call) error {
	runs := o.runs || o.kind != ""
	switch {
	case runs && o.traces:
		return wrongCall("-runs or -kind, and -traces exclude each other")
	case o.run != "" && (runs || o.traces || o.from != "" || o.to != ""):
		return wrongCall("-run names one run: leave the other options out")
	case o.objective != "" && (runs || o.traces || o.run != "" || c.format == "ndjson"):
		return wrongCall("-objective is of readings, as text, json or csv: leave -runs, -kind, -traces, -run and ndjson out")
	case c.format == "ndjson" && (runs || o.run != ""):
		return wrongCall("-format ndjson is for readings and traces, not for runs")
	case o.outcome != "" && !runs:
		return wrongCall("-outcome goes with -runs or -kind")
	case (o.family != "" || o.via != "") && o.traces && c.format != "ndjson":
		return wrongCall("-family and -via say which path is meant; traces are listed whatever they were made by")
	}
	return nil
}

// listResults lists runs, and what they found, newest first.
func (c *call) listResults(api *client.Client, o resultsOptions) error {
	q := url.Values{"kind": {o.kind}, "from": {o.from}, "to": {o.to}, "via": {o.via}, "outcome": {o.outcome}}
	most := 100
	if c.isSet("last") {
		q.Set("from_at", time.Now().Add(-o.last).UTC().Format(time.RFC3339Nano))
		most = 0
	}
	for key, v := range q {
		if v[0] == "" {
			q.Del(key)
		}
	}
	list, err := c.runsOf(api, q, most)
	if err != nil {
		return err
	}
	if o.family != "" {
		list = slices.DeleteFunc(list, func(r apitype.Run) bool { return r.Family != 0 && strconv.Itoa(r.Family) != o.family })
	}
	if len(list) == 0 && c.format == "text" {
		fmt.Fprintln(c.out, "No such runs. The minutes of continuous watches are readings, not runs.")
		return nil
	}
	return c.writeRuns(list)
}

// listPaths lists the paths that are meant, and how they stand.
func (c *call) listPaths(from *client.Client, o pathOptions) error {
	list, err := c.pathsMeant(from, o)
	if err != nil {
		return err
	}
	return c.write(list, report.Paths(list).OrSay(len(list), "No such paths yet. 'woodlark watch add' measures some, 'woodlark ping -from AGENT TARGET' one."))
}

// pathsMeant are the paths that are meant.
func (c *call) pathsMeant(from *client.Client, o pathOptions) ([]apitype.Path, error) {
	query := url.Values{"all": {"true"}, "limit": {"20000"}}
	if o.from != "" {
		query.Set("agent", o.from)
	}
	var all api.PathList
	if err := from.Get(c.ctx, "/paths", query, &all); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all.Paths, func(p apitype.Path) bool { return o.to != "" && p.To != o.to || !o.means(p) }), nil
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
	doc := document.Document{Records: report.ReadingRecords(p, readings)}
	doc.Say("%s  %s", report.Ends(p), document.State(p.State))
	if len(readings) == 0 {
		doc.Say("No readings in the last %s. 'woodlark results -runs' says what failed or was missed.", figure.FormatSpan(last))
		return c.write(readings, doc)
	}
	columns := []document.Column{{Name: "began"}, {Name: "answered", Right: true}, {Name: "loss", Right: true}, {Name: "median", Right: true}, {Name: "p95", Right: true}, {Name: "longest", Right: true}, {Name: "jitter", Right: true}, {Name: "notes"}}
	var rows [][]string
	for _, r := range readings {
		rows = append(rows, []string{r.StartedAt.In(zone()).Format("Mon 2 Jan 15:04:05"), fmt.Sprintf("%d of %d", r.Answered, r.Sent),
			report.Percent(r.LossRatio), report.Ms(r.RTTMedianMs), report.Ms(r.RTTP95Ms), report.Ms(r.RTTMaxMs), report.Ms(r.JitterMs), strings.Join(r.Notes, ", ")})
	}
	doc.Add(document.Table{Columns: columns, Rows: rows})
	return c.write(readings, doc)
}
