package cli

import (
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/yamlfile"
)

var watchCommand = command{
	name: "watch", summary: "standing measurements: add, list, show, change, pause, resume, remove, copy, apply, export",
	usage: "add -name NAME -from AGENT,… -to TARGET,… [options]\nlist\nshow NAME\nchange NAME [options]\npause NAME\nresume NAME\nremove NAME\ncopy NAME -name OTHER [options]\napply FILE [-show]\nexport [NAME …]",
	example: "woodlark watch add -name loopback -from local -to 127.0.0.1,::1\n" +
		"woodlark watch add -name 'ticketing, every five minutes' -from northquay -to app.ticketing.example -repeat 5m -probes 20\nwoodlark watch list",
	more: "Without -repeat a watch is continuous: a probe each -every, kept as one reading a minute. All\n" +
		"options of 'woodlark KIND' go with a watch of -kind KIND, in the same words; 'woodlark help\n" +
		"KIND' says what they mean. In a file the keys are the options, with _ for -.",
	run: runWatch,
}

type watchOptions struct {
	spec           apitype.WatchSpec
	from, to, tags string
	start, end     string
	targets        string
	show           bool
	also           alsoOptions
	how            *howOptions
}

func runWatch(c *call) error {
	var o watchOptions
	c.withFormat()
	c.withService()
	c.flags.StringVar(&o.spec.Name, "name", "", "name of the watch")
	c.flags.StringVar(&o.from, "from", "", "agents, with commas between; site:NAME all of a site, label:WORD all that have it, those too that join later")
	c.flags.StringVar(&o.to, "to", "", "targets (names or addresses), with commas between; agents by name, site:NAME or label:WORD; of a sweep prefixes")
	c.flags.BoolVar(&o.spec.Back, "and-back", false, "targets that are agents measure back, too")
	c.flags.StringVar(&o.targets, "targets", "", "a file with more targets, one a line or in the first column of CSV; - for standard input")
	c.flags.BoolVar(&o.show, "show", false, "of add, change, copy and apply: only say what would become, and what it would cost")
	c.flags.StringVar(&o.spec.Repeat, "repeat", "", "time between runs, such as 5m; continuous when left out")
	c.flags.StringVar(&o.spec.Spread, "spread", "", "even: at the multiples of -repeat, or poisson: at random, that far apart in the mean")
	c.flags.StringVar(&o.spec.Cron, "cron", "", "instead of -repeat: a cron expression of five fields, such as '0 9-17 * * MON-FRI'")
	c.flags.StringVar(&o.spec.Zone, "zone", "", "whose hours -cron and -hours go by, such as Europe/Dublin; UTC when left out")
	c.flags.StringVar(&o.start, "start", "", "when it begins, such as '2026-12-01 08:00'; at once when left out")
	c.flags.StringVar(&o.end, "end", "", "when it ends; never when left out")
	c.flags.StringVar(&o.spec.Hours, "hours", "", "that are allowed, such as 'mon-fri 08:00-18:00, sat 09:00-12:00'; all when left out")
	c.flags.StringVar(&o.spec.Kind, "kind", "", "what is measured: "+strings.Join(kind.Names(), ", ")+"; only "+strings.Join(endless(), ", ")+" can do without -repeat")
	c.flags.StringVar(&o.tags, "tags", "", "words to find the paths by, with commas between")
	c.flags.BoolVar(&o.spec.Paused, "paused", false, "add it paused")
	c.flags.Int64Var(&o.spec.DayBytes, "bytes-per-day", 0, "of load runs: that they may send a day, 5 GiB when left out")
	c.flags.Int64Var(&o.spec.Suspicion, "suspicion-most", 0, "packets a day that may be sent to a path because it looks wrong, and as evidence: 20000 when left out, -1 for none")
	c.again = append(c.again, "also")
	c.flags.Var(&o.also, "also", "what else is measured between the same ends, such as 'trace -repeat 15m' or 'stream -repeat 5m -codec g711'; once for each, '' for nothing else")
	o.how = c.withHow()
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) == 0 {
		return wrongCall("say what to do: add, list, show, change, pause, resume, remove, copy, apply or export")
	}
	verb, args := c.args[0], c.args[1:]
	takes := map[string]int{"add": 0, "list": 0, "show": 1, "change": 1, "pause": 1, "resume": 1, "remove": 1, "copy": 1, "apply": 1, "export": 0}
	n, known := takes[verb]
	switch {
	case !known:
		return wrongCall("%q is none of add, list, show, change, pause, resume, remove, copy, apply, export", short(verb))
	case len(args) < n:
		return wrongCall("watch %s needs a %s", verb, map[bool]string{true: "file", false: "watch's name"}[verb == "apply"])
	case len(args) > n && verb != "export":
		return wrongCall("watch %s has no use for %q; put names with spaces in quotes", verb, short(args[n]))
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	o.spec.From, o.spec.To, o.spec.Tags = list(o.from), list(o.to), list(o.tags)
	if o.targets != "" {
		more, err := c.readTargetFile(o.targets)
		if err != nil {
			return err
		}
		o.spec.To = append(o.spec.To, more...)
	}
	if o.spec.Also, err = o.also.parts(c); err != nil {
		return err
	}
	for _, t := range []struct {
		name, text string
		into       **time.Time
	}{{"start", o.start, &o.spec.StartAt}, {"end", o.end, &o.spec.EndAt}} {
		if t.text == "" {
			continue
		}
		at, err := readAhead(t.text, time.Now(), zone())
		if err != nil {
			return wrongCall("-%s: %v", t.name, err)
		}
		*t.into = &at
	}
	switch verb {
	case "add":
		if err := o.how.into(c, &o.spec); err != nil {
			return err
		}
		return c.saveWatch(api, http.MethodPost, "/watches", o.spec, o.show)
	case "list":
		return c.listWatches(api)
	case "apply":
		return c.applyWatches(api, args[0], o.show)
	case "export":
		return c.exportWatches(api, args)
	}
	path := "/watches/" + client.Segment(args[0])
	switch verb {
	case "change", "copy":
		return c.changeWatch(api, path, o, verb == "copy")
	case "remove":
		if err := api.Do(c.ctx, http.MethodDelete, path, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.err, "Removed. What it measured is kept.\n")
		return nil
	case "pause", "resume":
		return c.saveWatch(api, http.MethodPatch, path, map[string]bool{"paused": verb == "pause"}, false)
	}
	var w apitype.Watch
	if err := api.Get(c.ctx, path, nil, &w); err != nil {
		return err
	}
	return c.writeWatches([]apitype.Watch{w})
}

// text is a value of a spec as text.
func text(raw json.RawMessage) string {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return s
	}
	return string(raw)
}

// endless are the kinds that a watch can measure without a pause.
func endless() (list []string) {
	for _, k := range kind.All() {
		if k.Continuous {
			list = append(list, k.Name)
		}
	}
	return list
}

func list(text string) []string {
	var out []string
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// saveWatch saves a watch, or says what it would be and cost.
func (c *call) saveWatch(api *client.Client, method, path string, body any, show bool) error {
	if spec, is := body.(apitype.WatchSpec); is && show {
		return c.showChanges(api, []apitype.WatchSpec{spec})
	}
	var w apitype.Watch
	if err := api.Do(c.ctx, method, path, body, &w); err != nil {
		return err
	}
	return c.writeWatches([]apitype.Watch{w})
}

func (c *call) changeWatch(api *client.Client, path string, o watchOptions, anew bool) error {
	var w apitype.Watch
	if err := api.Get(c.ctx, path, nil, &w); err != nil {
		return err
	}
	spec := w.WatchSpec
	set := map[string]func(){
		"name": func() { spec.Name = o.spec.Name }, "from": func() { spec.From = o.spec.From }, "to": func() { spec.To = o.spec.To }, "targets": func() { spec.To = o.spec.To }, "repeat": func() { spec.Repeat, spec.Every, spec.Cron = o.spec.Repeat, "", "" },
		"cron": func() { spec.Cron, spec.Repeat, spec.Every = o.spec.Cron, "", "" }, "zone": func() { spec.Zone = o.spec.Zone }, "and-back": func() { spec.Back = o.spec.Back }, "spread": func() { spec.Spread = o.spec.Spread },
		"start": func() { spec.StartAt = o.spec.StartAt }, "end": func() { spec.EndAt = o.spec.EndAt }, "hours": func() { spec.Hours = o.spec.Hours },
		"tags": func() { spec.Tags = o.spec.Tags }, "paused": func() { spec.Paused = o.spec.Paused }, "suspicion-most": func() { spec.Suspicion = o.spec.Suspicion }, "bytes-per-day": func() { spec.DayBytes = o.spec.DayBytes }, "also": func() { spec.Also = o.spec.Also },
		"kind": func() {
			if spec.Kind != o.spec.Kind { // nothing of the other kind's is of this one
				spec.Kind, spec.How = o.spec.Kind, nil
			}
		},
	}
	changed := len(o.how.given) > 0
	c.flags.Visit(func(f *flag.Flag) {
		if change := set[f.Name]; change != nil {
			change()
			changed = true
		}
	})
	switch {
	case anew && (o.spec.Name == "" || o.spec.Name == w.Name):
		return wrongCall("say what the copy is called: -name OTHER")
	case !changed:
		return wrongCall("say what to change, such as -repeat 5m")
	}
	if err := o.how.into(c, &spec); err != nil {
		return err
	}
	if anew {
		return c.saveWatch(api, http.MethodPost, "/watches", spec, o.show)
	}
	return c.saveWatch(api, http.MethodPut, path, spec, o.show)
}

func (c *call) listWatches(api *client.Client) error {
	var watches []apitype.Watch
	if err := api.Get(c.ctx, "/watches", url.Values{}, &watches); err != nil {
		return err
	}
	return c.writeWatches(watches)
}

// measured is what a watch measures and when, in words.
func measured(w apitype.WatchSpec) string {
	how := "a " + w.Kind + " each " + w.Repeat
	if w.Cron != "" {
		how = "a " + w.Kind + " at " + w.Cron + " " + cmp.Or(w.Zone, "UTC")
	} else if w.Repeat == "" {
		how = "continuous, each " + text(w.How["interval"])
	} else if n := text(w.How["probes"]); n != "" && w.Kind == kind.Or("") {
		how = n + " probes each " + w.Repeat
	}
	if w.Spread != "" && w.Spread != "even" {
		how += ", at random"
	}
	if w.Hours != "" {
		how += ", " + w.Hours
	}
	return how
}

func (c *call) writeWatches(watches []apitype.Watch) error {
	columns := []document.Column{{Name: "watch"}, {Name: "from"}, {Name: "to"}, {Name: "runs"}, {Name: "paths", Right: true}, {Name: "probes a day", Right: true}, {Name: "last trouble"}}
	var rows [][]string
	for _, w := range watches {
		how := measured(w.WatchSpec)
		for _, p := range w.Also {
			how += "; " + measured(p.Watch())
		}
		probes := "" // not known beforehand
		if w.ProbesPerDay > 0 {
			probes = fmt.Sprintf("%.0f", w.ProbesPerDay)
		}
		if w.Says != "" {
			how += " (" + w.Says + ")"
		}
		trouble := strings.Join(w.Hindered, "; ")
		if r := w.LastRun; trouble == "" && r != nil && r.Outcome != "done" {
			trouble = fmt.Sprintf("%s %s: %s", r.Outcome, report.When(r.StartAt, zone()), r.Reason)
		}
		rows = append(rows, []string{w.Name, joined(w.From), some(w.To), how, fmt.Sprint(w.Paths), probes, trouble})
	}
	doc := document.Of(document.Table{Columns: columns, Rows: rows}, report.WatchRecords(watches))
	return c.write(watches, doc.OrSay(len(rows), "No watches yet. Add one with 'woodlark watch add -name loopback -from local -to 127.0.0.1'."))
}

// some writes the first of a list and how many more there are.
func some(list []string) string {
	if len(list) <= 2 {
		return joined(list)
	}
	return fmt.Sprintf("%s and %d more", list[0], len(list)-1)
}

type watchFile struct {
	Watches []map[string]any `yaml:"watches"`
}

// readWatches reads a file of watches.
func readWatches(name string, data []byte) ([]apitype.WatchSpec, error) {
	var f watchFile
	if err := yamlfile.Decode(data, &f); err != nil {
		return nil, exit{exitWrongCall, fmt.Errorf("%s is not a file of watches: %w", name, err)}
	}
	if len(f.Watches) == 0 {
		return nil, wrongCall("%s names no watches: it needs 'watches:' with a list of name, from and to", name)
	}
	names := map[string]bool{}
	list := make([]apitype.WatchSpec, len(f.Watches))
	for i, all := range f.Watches {
		w, err := apitype.WatchOf(all)
		if err != nil {
			return nil, wrongCall("%s, line %d: %v", name, lineOf(data, i, err), plainly(err))
		}
		if w.Name == "" {
			return nil, wrongCall("%s: watch %d has no name", name, i+1)
		}
		if names[w.Name] {
			return nil, wrongCall("%s: watch %q is there twice", name, short(w.Name))
		}
		names[w.Name], list[i] = true, w
	}
	return list, nil
}

// lineOf is the line of a file of watches that an error is about: of a key, or of its watch.
func lineOf(data []byte, watch int, err error) int {
	tree, broken := yamlfile.Parse(data)
	if broken != nil {
		return 0
	}
	var unknown apitype.UnknownKey
	if errors.As(err, &unknown) {
		if line := tree.Line(fmt.Sprintf("$.watches[%d].%s", watch, unknown.Key)); line > 0 {
			return line
		}
	}
	return tree.Line(fmt.Sprintf("$.watches[%d]", watch))
}
