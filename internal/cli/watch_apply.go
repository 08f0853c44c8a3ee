package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"time"
	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report/document"
	"woodlark.example/internal/yamlfile"
)

// applyWatches brings the watches that a file names to what it says, all of them or none, and
// shows what that changes. Others stay as they are.
func (c *call) applyWatches(api *client.Client, name string, show bool) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return wrongCall("read the watches: %v", err)
	}
	specs, err := readWatches(name, data)
	if err != nil {
		return err
	}
	if show {
		return c.showChanges(api, specs)
	}
	var would, did apitype.WatchChanges
	if err := api.Do(c.ctx, http.MethodPost, "/watches/apply", apitype.WatchOrder{Watches: specs, Show: true}, &would); err != nil {
		return err
	}
	if c.format == "text" { // what changes is seen before it does
		if err := document.Text(c.out, c.ink, changesRead(would.Changes)); err != nil {
			return err
		}
	}
	if err := api.Do(c.ctx, http.MethodPost, "/watches/apply", apitype.WatchOrder{Watches: specs}, &did); err != nil {
		return fmt.Errorf("nothing was applied: %w", err)
	}
	if c.format == "text" {
		fmt.Fprintln(c.out, "Applied.")
		return nil
	}
	return c.write(did.Changes, changesRead(did.Changes))
}

// showChanges says what would become of watches.
func (c *call) showChanges(api *client.Client, specs []apitype.WatchSpec) error {
	var would apitype.WatchChanges
	if err := api.Do(c.ctx, http.MethodPost, "/watches/apply", apitype.WatchOrder{Watches: specs, Show: true}, &would); err != nil {
		return err
	}
	return c.write(would.Changes, changesRead(would.Changes))
}

// changesRead is how changes of watches read.
func changesRead(list []apitype.WatchChange) (doc document.Document) {
	var rows [][]string
	for _, x := range list {
		w := x.After
		switch x.What {
		case "same":
			doc.Say("= %s stays as it is", document.Strong(w.Name))
		case "add":
			doc.Say("%s %s", document.Changed("+"), document.Strong(w.Name))
		default:
			doc.Say("%s %s", document.Changed("~"), document.Strong(w.Name))
			for _, d := range x.Differences {
				doc.Say("    %s: %s, was %s", d.Field, orNothing(d.After), orNothing(d.Before))
			}
		}
		if x.What != "same" {
			was := ""
			if x.Before != nil && costOf(*x.Before) != costOf(w) {
				was = ", was " + costOf(*x.Before)
			}
			doc.Say("    %s", document.Faint("costs "+costOf(w)+was))
		}
		if len(x.Differences) == 0 {
			rows = append(rows, []string{w.Name, x.What, "", "", ""})
		}
		for _, d := range x.Differences {
			rows = append(rows, []string{w.Name, x.What, d.Field, d.Before, d.After})
		}
	}
	doc.Records = document.RecordsOf([]string{"watch", "what", "field", "before", "after"}, rows)
	return doc
}

func orNothing(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

// costOf is what a watch costs, in words.
func costOf(w apitype.Watch) string {
	parts := []string{plural(w.Paths, "path")}
	if w.ProbesPerDay > 0 {
		parts = append(parts, fmt.Sprintf("%.0f probes a day", w.ProbesPerDay))
	}
	if w.BytesPerDay > 0 {
		parts = append(parts, bytesText(w.BytesPerDay)+" a day")
	}
	if w.RowsPerDay > 0 {
		parts = append(parts, fmt.Sprintf("%.0f rows a day", w.RowsPerDay))
	}
	if w.LoadPerDay > 0 {
		parts = append(parts, "a full path for "+figure.FormatSpan(time.Duration(w.LoadPerDay*float64(time.Second)))+" a day")
	}
	if w.Says != "" {
		parts = append(parts, w.Says)
	}
	return strings.Join(parts, ", ")
}

func bytesText(n float64) string {
	for _, u := range []struct {
		each float64
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n >= u.each {
			return fmt.Sprintf("%.1f %s", n/u.each, u.name)
		}
	}
	return fmt.Sprintf("%.0f bytes", n)
}

// exportWatches writes watches as a file that apply reads, or in JSON as the interface has them.
func (c *call) exportWatches(api *client.Client, names []string) error {
	var all []apitype.Watch
	if err := api.Get(c.ctx, "/watches", nil, &all); err != nil {
		return err
	}
	var list []apitype.WatchSpec
	for _, name := range names {
		if !slices.ContainsFunc(all, func(w apitype.Watch) bool { return w.Name == name }) {
			return wrongCall("there is no watch %q", short(name))
		}
	}
	for _, w := range all {
		if len(names) == 0 || slices.Contains(names, w.Name) {
			list = append(list, w.WatchSpec)
		}
	}
	switch c.format {
	case "json":
		return document.JSON(c.out, apitype.WatchOrder{Watches: list})
	case "csv":
		return wrongCall("watches are exported as text (YAML, for 'watch apply') or json")
	}
	file := struct {
		Watches []map[string]any `yaml:"watches"`
	}{[]map[string]any{}}
	for _, w := range list {
		one, err := w.File()
		if err != nil {
			return err
		}
		file.Watches = append(file.Watches, one)
	}
	text, err := yamlfile.Encode(file)
	if err != nil {
		return err
	}
	_, err = c.out.Write(text)
	return err
}

// readTargetFile reads targets: one a line, or the first column of CSV, with a heading or not.
func (c *call) readTargetFile(name string) (list []string, err error) {
	in := c.in
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, wrongCall("-targets: %v", err)
		}
		defer f.Close()
		in = f
	}
	r := csv.NewReader(io.LimitReader(in, 64<<20))
	r.FieldsPerRecord, r.Comment, r.TrimLeadingSpace = -1, '#', true
	for n := 0; ; n++ {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, wrongCall("-targets %s: %v", name, err)
		}
		target := strings.TrimSpace(row[0])
		if target == "" || n == 0 && slices.Contains([]string{"target", "targets", "to", "address", "host", "name"}, strings.ToLower(target)) {
			continue
		}
		list = append(list, target)
	}
	if len(list) == 0 {
		return nil, wrongCall("-targets %s names no target", name)
	}
	return list, nil
}
