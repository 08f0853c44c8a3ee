package cli

import (
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/yamlfile"
)

var watchCommand = command{
	name: "watch", summary: "standing measurements: add, list, show, change, pause, resume, remove, apply",
	usage: "add -name NAME -from AGENT,… -to TARGET,… [options]\nlist\nshow NAME\nchange NAME [options]\npause NAME\nresume NAME\nremove NAME\napply FILE",
	example: "woodlark watch add -name loopback -from local -to 127.0.0.1,::1\n" +
		"woodlark watch add -name 'ticketing, every five minutes' -from northquay -to app.ticketing.example -every 5m -probes 20\nwoodlark watch list",
	more: "Without -every a watch is continuous: a probe each -interval, kept as one reading a minute.",
	run:  runWatch,
}

type watchOptions struct {
	spec           apitype.WatchSpec
	from, to, tags string
	exclude        string
}

func runWatch(c *call) error {
	var o watchOptions
	c.withFormat()
	c.withService()
	c.flags.StringVar(&o.spec.Name, "name", "", "name of the watch")
	c.flags.StringVar(&o.from, "from", "", "agents, with commas between")
	c.flags.StringVar(&o.to, "to", "", "targets (names or addresses), with commas between")
	c.flags.StringVar(&o.spec.Family, "family", "", "4, 6 or both; of targets that are names")
	c.flags.StringVar(&o.spec.Every, "every", "", "time between runs, such as 5m; continuous when left out")
	c.flags.StringVar(&o.spec.Interval, "interval", "", "time between probes, 1s when left out")
	c.flags.IntVar(&o.spec.Probes, "probes", 0, "probes of a run, 20 when left out")
	c.flags.StringVar(&o.spec.Wait, "wait", "", "how long to wait for an answer, 2s when left out")
	c.flags.IntVar(&o.spec.Payload, "payload", 0, "bytes after the ICMP header, 48 when left out")
	c.flags.StringVar(&o.spec.Via, "via", "", "by what: icmp, tcp:PORT, udp:PORT, stamp; several with commas")
	c.flags.StringVar(&o.spec.Kind, "kind", "", "ping; sweep: then -to are prefixes; or trace. The last two need -every")
	c.flags.StringVar(&o.exclude, "exclude", "", "of a sweep: what to leave out, with commas between")
	c.flags.Float64Var(&o.spec.Rate, "rate", 0, "of a sweep: packets a second, 5000 when left out")
	c.flags.BoolVar(&o.spec.Beyond, "beyond", false, "of a sweep: confirm addresses that are neither private nor of documentation")
	c.flags.StringVar(&o.spec.DSCP, "dscp", "", "service class, by name such as EF or by number")
	c.flags.StringVar(&o.tags, "tags", "", "words to find the paths by, with commas between")
	c.flags.BoolVar(&o.spec.Paused, "paused", false, "add it paused")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) == 0 {
		return wrongCall("say what to do: add, list, show, change, pause, resume, remove or apply")
	}
	verb, args := c.args[0], c.args[1:]
	takes := map[string]int{"add": 0, "list": 0, "show": 1, "change": 1, "pause": 1, "resume": 1, "remove": 1, "apply": 1}
	n, known := takes[verb]
	switch {
	case !known:
		return wrongCall("%q is none of add, list, show, change, pause, resume, remove, apply", short(verb))
	case len(args) < n:
		return wrongCall("watch %s needs a %s", verb, map[bool]string{true: "file", false: "watch's name"}[verb == "apply"])
	case len(args) > n:
		return wrongCall("watch %s has no use for %q; put names with spaces in quotes", verb, short(args[n]))
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	o.spec.From, o.spec.To, o.spec.Tags, o.spec.Exclude = list(o.from), list(o.to), list(o.tags), list(o.exclude)
	switch verb {
	case "add":
		return c.saveWatch(api, http.MethodPost, "/watches", o.spec)
	case "list":
		return c.listWatches(api)
	case "apply":
		return c.applyWatches(api, args[0])
	}
	path := "/watches/" + client.Segment(args[0])
	switch verb {
	case "change":
		return c.changeWatch(api, path, o)
	case "remove":
		if err := api.Do(c.ctx, http.MethodDelete, path, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.err, "Removed. What it measured is kept.\n")
		return nil
	case "pause", "resume":
		return c.saveWatch(api, http.MethodPatch, path, map[string]bool{"paused": verb == "pause"})
	}
	var w apitype.Watch
	if err := api.Get(c.ctx, path, nil, &w); err != nil {
		return err
	}
	return c.writeWatches([]apitype.Watch{w})
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

func (c *call) saveWatch(api *client.Client, method, path string, body any) error {
	var w apitype.Watch
	if err := api.Do(c.ctx, method, path, body, &w); err != nil {
		return err
	}
	return c.writeWatches([]apitype.Watch{w})
}

func (c *call) changeWatch(api *client.Client, path string, o watchOptions) error {
	var w apitype.Watch
	if err := api.Get(c.ctx, path, nil, &w); err != nil {
		return err
	}
	spec := w.WatchSpec
	set := map[string]func(){
		"name": func() { spec.Name = o.spec.Name }, "from": func() { spec.From = o.spec.From }, "to": func() { spec.To = o.spec.To },
		"family": func() { spec.Family = o.spec.Family }, "every": func() { spec.Every = o.spec.Every }, "interval": func() { spec.Interval = o.spec.Interval },
		"probes": func() { spec.Probes = o.spec.Probes }, "wait": func() { spec.Wait = o.spec.Wait }, "payload": func() { spec.Payload = o.spec.Payload },
		"via": func() { spec.Via = o.spec.Via }, "dscp": func() { spec.DSCP = o.spec.DSCP }, "tags": func() { spec.Tags = o.spec.Tags }, "paused": func() { spec.Paused = o.spec.Paused }, "kind": func() { spec.Kind = o.spec.Kind },
		"exclude": func() { spec.Exclude = o.spec.Exclude }, "rate": func() { spec.Rate = o.spec.Rate }, "beyond": func() { spec.Beyond = o.spec.Beyond },
	}
	changed := false
	c.flags.Visit(func(f *flag.Flag) {
		if change := set[f.Name]; change != nil {
			change()
			changed = true
		}
	})
	if !changed {
		return wrongCall("say what to change, such as -every 5m")
	}
	return c.saveWatch(api, http.MethodPut, path, spec)
}

func (c *call) listWatches(api *client.Client) error {
	var watches []apitype.Watch
	if err := api.Get(c.ctx, "/watches", url.Values{}, &watches); err != nil {
		return err
	}
	return c.writeWatches(watches)
}

func (c *call) writeWatches(watches []apitype.Watch) error {
	if c.format == "json" {
		return report.JSON(c.out, watches)
	}
	columns := []report.Column{{Name: "watch"}, {Name: "from"}, {Name: "to"}, {Name: "runs"}, {Name: "paths", Right: true}, {Name: "probes a day", Right: true}, {Name: "last trouble"}}
	var rows [][]string
	for _, w := range watches {
		how := "continuous, each " + w.Interval
		if w.Every != "" {
			how = fmt.Sprintf("%d probes each %s", w.Probes, w.Every)
		}
		switch w.Kind {
		case "sweep", "trace", "stream":
			how = "a " + w.Kind + " each " + w.Every
		case "throughput":
			how = "throughput each " + w.Every
		}
		probes := "" // not known beforehand
		if w.ProbesPerDay > 0 {
			probes = fmt.Sprintf("%.0f", w.ProbesPerDay)
		}
		if w.Paused {
			how = "paused"
		}
		trouble := ""
		if r := w.LastRun; r != nil && r.Outcome != "done" {
			trouble = fmt.Sprintf("%s %s: %s", r.Outcome, report.When(r.StartAt, zone()), r.Reason)
		}
		rows = append(rows, []string{w.Name, joined(w.From), some(w.To), how, fmt.Sprint(w.Paths), probes, trouble})
	}
	if c.format == "csv" {
		return report.CSV(c.out, append([][]string{{"watch", "from", "to", "runs", "paths", "probes_per_day", "last_trouble"}}, rows...))
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.out, "No watches yet. Add one with 'woodlark watch add -name loopback -from local -to 127.0.0.1'.")
		return nil
	}
	return report.Table(c.out, c.ink, columns, rows)
}

// some writes the first of a list and how many more there are.
func some(list []string) string {
	if len(list) <= 2 {
		return joined(list)
	}
	return fmt.Sprintf("%s and %d more", list[0], len(list)-1)
}

type watchFile struct {
	Watches []apitype.WatchSpec `yaml:"watches"`
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
	for i, w := range f.Watches {
		if w.Name == "" {
			return nil, wrongCall("%s: watch %d has no name", name, i+1)
		}
		if names[w.Name] {
			return nil, wrongCall("%s: watch %q is there twice", name, short(w.Name))
		}
		names[w.Name] = true
	}
	return f.Watches, nil
}

// applyWatches brings the watches that a file names to what it says. Others
// stay as they are.
func (c *call) applyWatches(api *client.Client, name string) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return wrongCall("read the watches: %v", err)
	}
	specs, err := readWatches(name, data)
	if err != nil {
		return err
	}
	var have []apitype.Watch
	if err := api.Get(c.ctx, "/watches", nil, &have); err != nil {
		return err
	}
	var kept []apitype.Watch
	for i, spec := range specs {
		method, path := http.MethodPost, "/watches"
		if slices.ContainsFunc(have, func(w apitype.Watch) bool { return w.Name == spec.Name }) {
			method, path = http.MethodPut, "/watches/"+client.Segment(spec.Name)
		}
		var w apitype.Watch
		if err := api.Do(c.ctx, method, path, spec, &w); err != nil {
			return fmt.Errorf("watch %q (the %d before it are applied): %w", short(spec.Name), i, err)
		}
		kept = append(kept, w)
	}
	return c.writeWatches(kept)
}
