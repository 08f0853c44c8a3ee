package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var baselineCommand = command{
	name: "baseline", summary: "what is normal for each path: list, show, take, pin, unpin, roll, accept, compare, export, import",
	usage: "list\nshow -from AGENT -to TARGET\ntake -from AGENT -to TARGET [-last 24h] [-pin]\npin -from AGENT -to TARGET\nunpin -from AGENT -to TARGET\nroll -from AGENT -to TARGET\n" +
		"accept -from AGENT -to TARGET [-measure rtt] [-crept]\nkept -from AGENT -to TARGET\ncompare -from AGENT -to TARGET [-with ID] [-with-from AGENT -with-to TARGET]\n" +
		"export -from AGENT -to TARGET [-measure rtt,loss] > FILE\nimport FILE -from AGENT -to TARGET [-measure rtt,loss] [-pin]",
	example: "woodlark baseline list\nwoodlark baseline show -from northquay -to terminal.gannetbay.example\nwoodlark baseline accept -from northquay -to terminal.holm.example",
	more: "A rolling baseline is learnt anew each day; the episodes in which the path was degraded or lost\ncount next to nothing in it. A pinned one stays until it is unpinned; the newest that was learnt\nis kept beside it ('kept'). 'accept' takes a new level for normal, or with -crept that to which\n" +
		"the path crept. 'roll' unpins, and learns anew at once.",
	run: runBaseline,
}

var baselineVerbs = []string{"list", "show", "take", "pin", "unpin", "roll", "accept", "kept", "compare", "export", "import"}

// baselineOptions are what is said beside the path.
type baselineOptions struct {
	path               pathOptions
	last, measure      string
	pin, crept         bool
	with, withA, withT string
}

// fits says which verbs an option belongs to.
var fits = map[string][]string{"last": {"take"}, "pin": {"take", "import"}, "measure": {"accept", "export", "import", "show"}, "crept": {"accept"}, "with": {"compare"}, "with-from": {"compare"}, "with-to": {"compare"}}

func runBaseline(c *call) error {
	var o baselineOptions
	c.withFormat()
	c.withService()
	o.path.register(c)
	c.flags.StringVar(&o.last, "last", "", "of take: from this far back, such as 24h; the training window when left out")
	c.flags.BoolVar(&o.pin, "pin", false, "of take and import: pin it")
	c.flags.StringVar(&o.measure, "measure", "", "of accept, export, import, show: only these measures, with commas between")
	c.flags.BoolVar(&o.crept, "crept", false, "of accept: that to which the path crept, instead of a new level")
	c.flags.StringVar(&o.with, "with", "", "of compare: identifier of a baseline that is kept of the path (see 'kept')")
	c.flags.StringVar(&o.withA, "with-from", "", "of compare: the path that begins at this agent")
	c.flags.StringVar(&o.withT, "with-to", "", "of compare: and leads to this target")
	if err := c.parse(); err != nil {
		return err
	}
	verbs := strings.Join(baselineVerbs, ", ")
	if len(c.args) == 0 {
		return wrongCall("say one of %s", verbs)
	}
	verb := c.args[0]
	if !slices.Contains(baselineVerbs, verb) {
		return wrongCall("%q is none of %s", short(verb), verbs)
	}
	for name, list := range fits {
		if c.isSet(name) && !slices.Contains(list, verb) {
			return wrongCall("-%s belongs to %s, not to %s", name, strings.Join(list, ", "), verb)
		}
	}
	if verb == "import" && len(c.args) != 2 {
		return wrongCall("name the file: woodlark baseline import FILE -from AGENT -to TARGET")
	}
	if verb != "import" && len(c.args) > 1 {
		return wrongCall("there is nothing to do with %q", short(c.args[1]))
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
	p, err := o.path.find(c, api)
	if err != nil {
		return err
	}
	at := "/paths/" + p.ID + "/baseline"
	switch verb {
	case "accept":
		return c.acceptLevel(api, p, o)
	case "kept":
		return c.keptBaselines(api, p)
	case "compare":
		return c.compareBaselines(api, p, o)
	case "export":
		return c.exportBaseline(api, at, o)
	}
	b, err := c.baseline(api, verb, at, o)
	if err != nil {
		return err
	}
	return c.writeBaseline(b, o.measure)
}

func (c *call) baseline(api *client.Client, verb, at string, o baselineOptions) (b apitype.Baseline, err error) {
	switch verb {
	case "take":
		err = api.Do(c.ctx, http.MethodPost, at, map[string]any{"last": o.last, "pin": o.pin}, &b)
	case "pin", "unpin":
		err = api.Do(c.ctx, http.MethodPatch, at, map[string]bool{"pinned": verb == "pin"}, &b)
	case "roll":
		err = api.Do(c.ctx, http.MethodPost, at+"/roll", nil, &b)
	case "import":
		var f apitype.BaselineFile
		data, readErr := os.ReadFile(c.args[1])
		if readErr != nil {
			return b, wrongCall("%v", readErr)
		}
		if err := json.Unmarshal(data, &f); err != nil || f.Form == "" {
			return b, wrongCall("%s is no exported baseline: make one with 'woodlark baseline export'", short(c.args[1]))
		}
		query := url.Values{}
		if o.pin {
			query.Set("pin", "true")
		}
		if o.measure != "" {
			query.Set("measure", o.measure)
		}
		err = api.Do(c.ctx, http.MethodPut, at+"/file?"+query.Encode(), f, &b)
	default:
		err = api.Get(c.ctx, at, nil, &b)
	}
	return b, err
}

func (c *call) acceptLevel(api *client.Client, p apitype.Path, o baselineOptions) error {
	order := apitype.Acceptance{Kind: "new_level", Measure: o.measure}
	if o.crept {
		order.Kind = "crept"
	}
	var after apitype.Path
	if err := api.Do(c.ctx, http.MethodPost, "/paths/"+p.ID+"/accept", order, &after); err != nil {
		return err
	}
	if c.format == "json" {
		return document.JSON(c.out, after)
	}
	fmt.Fprintf(c.out, "Accepted: what %s has come to is normal from now on.\n", p.From+" → "+p.To)
	fmt.Fprintf(c.out, "%s  %s\n", c.ink.Paint(document.State(after.State)), after.Findings[0].Sentence)
	return nil
}

func (c *call) keptBaselines(api *client.Client, p apitype.Path) error {
	var list []apitype.StoredBaseline
	if err := api.Get(c.ctx, "/paths/"+p.ID+"/baselines", nil, &list); err != nil {
		return err
	}
	var rows [][]string
	for _, b := range list {
		kind, used := "rolling", ""
		if b.Pinned {
			kind = "pinned"
		}
		if b.InUse {
			used = "in use"
		}
		rows = append(rows, []string{b.ID, report.When(b.TakenAt, zone()), kind, fmt.Sprint(b.Readings), used})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "id"}, {Name: "taken"}, {Name: "kind"}, {Name: "readings", Right: true}, {Name: ""}}, Rows: rows}, report.BaselineRecords(p, list))
	return c.write(list, doc.OrSay(len(rows), "No baseline is kept of this path yet."))
}

func (c *call) compareBaselines(api *client.Client, p apitype.Path, o baselineOptions) error {
	query := url.Values{}
	switch {
	case (o.withA != "" || o.withT != "") && o.with != "":
		return wrongCall("-with and -with-from, -with-to exclude each other")
	case o.withA != "" || o.withT != "":
		other, err := pathOptions{from: o.withA, to: o.withT, family: fmt.Sprint(p.Family), via: p.Via}.find(c, api)
		if err != nil {
			return err
		}
		query.Set("other", other.ID)
	case o.with != "":
		query.Set("b", o.with)
	default:
		return wrongCall("say with what it is compared: -with ID (see 'woodlark baseline kept'), or another path by -with-from and -with-to")
	}
	var list []apitype.Difference
	if err := api.Get(c.ctx, "/paths/"+p.ID+"/baseline/differences", query, &list); err != nil {
		return err
	}
	return c.write(list, report.Differences(p, list))
}

func (c *call) exportBaseline(api *client.Client, at string, o baselineOptions) error {
	query := url.Values{}
	if o.measure != "" {
		query.Set("measure", o.measure)
	}
	if c.format == "csv" {
		return wrongCall("a baseline is exported as json")
	}
	var f apitype.BaselineFile
	if err := api.Get(c.ctx, at+"/file", query, &f); err != nil {
		return err
	}
	return document.JSON(c.out, f)
}

func band(b *apitype.Band) string {
	if b == nil {
		return "–"
	}
	return fmt.Sprintf("%s  (%s to %s)", figure.FormatMs(b.Median), figure.FormatMs(b.Low), figure.FormatMs(b.High))
}

func (c *call) writeBaselines(all []apitype.Baseline) error {
	var rows [][]string
	for _, b := range all {
		kind := "rolling"
		if b.Pinned {
			kind = "pinned"
		}
		if b.Learning != nil {
			kind += ", learning until " + report.When(*b.Learning, zone())
		}
		rows = append(rows, []string{b.From + " → " + b.To, fmt.Sprintf("IPv%d", b.Family), band(b.RTTMs), band(b.JitterMs), report.Percent(b.Loss), fmt.Sprint(b.Readings), kind, report.When(b.TakenAt, zone())})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "path"}, {Name: ""}, {Name: "RTT (nine of ten)", Right: true}, {Name: "jitter (nine of ten)", Right: true}, {Name: "loss", Right: true}, {Name: "readings", Right: true}, {Name: "kind"}, {Name: "taken"}}, Rows: rows}, report.NormalRecords(all))
	return c.write(all, doc.OrSay(len(rows), "No baselines yet. A path has one after 30 readings."))
}

// writeBaseline writes one baseline, or of it the measures that were asked for.
func (c *call) writeBaseline(b apitype.Baseline, measures string) error {
	if measures != "" {
		var some []apitype.BaselineMeasure
		for _, m := range b.Measures {
			if slices.Contains(strings.Split(measures, ","), m.Measure) {
				some = append(some, m)
			}
		}
		if len(some) == 0 {
			return wrongCall("nothing is known of -measure %s on this path", short(measures))
		}
		b.Measures = some
	}
	return c.write(b, report.Baseline(b, zone()))
}
