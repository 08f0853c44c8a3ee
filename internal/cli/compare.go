package cli

import (
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"woodlark.example/core/compare"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var compareCommand = command{
	name: "compare", summary: "two runs, two paths, or a path at two moments beside each other: what surely differs",
	usage: "A B",
	example: "woodlark compare 'northquay → terminal.holm.example @ yesterday 16:00' 'northquay → terminal.holm.example @ 16:00'\n" +
		"woodlark compare -for 2h 'northquay to holm' 'northquay to gannet'\n" +
		"woodlark compare wired.json radio.json\n" +
		"woodlark compare 0190a1b2-0000-7000-8000-000000000000 0190a1b2-1111-7000-8000-000000000000",
	more: "A and B are each a run, by its identifier ('woodlark runs list'), a file with the result of a\n" +
		"measurement (-format json), or a path: FROM → TO, or\n" +
		"FROM to TO, with 4, 6 or a kind of probe behind it where there are several, and behind an @\n" +
		"when: a TIME as in 'woodlark help degraded' (the last -for without one). What is said to\n" +
		"differ does so surely (95 %), and by as much as is worth speaking of.",
	run: runCompare,
}

func runCompare(c *call) error {
	var span time.Duration
	c.withFormat()
	c.withService()
	c.flags.DurationVar(&span, "for", 30*time.Minute, "of paths: how long a span")
	if err := c.parse(); err != nil {
		return err
	}
	switch {
	case len(c.args) != 2:
		return wrongCall("compare takes two: each the identifier of a run, a file with a result, or a path such as 'northquay → holm @ yesterday 16:00'")
	case span <= 0:
		return wrongCall("-for %v is not above zero", span)
	}
	if inFile(c.args[0]) || inFile(c.args[1]) {
		return c.compareFiles()
	}
	by, err := c.client()
	if err != nil {
		return err
	}
	q := url.Values{}
	for i, text := range c.args {
		if err := c.side(by, q, []string{"a", "b"}[i], text, span); err != nil {
			return err
		}
	}
	var r compare.Result
	if err := by.Get(c.ctx, "/compare", q, &r); err != nil {
		return err
	}
	return c.write(r, comparison(r))
}

// inFile reports whether an end of a comparison is a file.
func inFile(text string) bool {
	info, err := os.Stat(text)
	return err == nil && !info.IsDir()
}

// compareFiles lays results of files beside each other, or one beside a run.
func (c *call) compareFiles() error {
	var sides [2]compare.Side
	for i, text := range c.args {
		raw, name := []byte(nil), text
		if inFile(text) {
			b, err := os.ReadFile(text)
			if err != nil {
				return wrongCall("%v", err)
			}
			raw = b
		} else {
			id, err := ident.Parse(strings.TrimSpace(text))
			if err != nil {
				return wrongCall("%q is neither a file nor the identifier of a run: a file goes beside one of those, and a path beside a run or a path", short(text))
			}
			by, err := c.client()
			if err != nil {
				return err
			}
			var r apitype.Run
			if err := by.Get(c.ctx, "/runs/"+id.String(), nil, &r); err != nil {
				return err
			}
			raw, name = r.Result, "run "+id.String()
		}
		k, found, err := kind.OfResult(raw)
		if err != nil {
			return exit{exitWrongCall, fmt.Errorf("%s: %w", name, err)}
		}
		x, is := found.(kind.Comparable)
		if !is {
			return wrongCall("%s: what a %s finds has no figures to lay beside others", name, k.Name)
		}
		sides[i] = x.Compared()
		sides[i].Name, sides[i].What, sides[i].Short = name, k.Name, name
	}
	r := compare.Of(sides[0], sides[1])
	return c.write(r, comparison(r))
}

// side names an end of the comparison in a question to the service.
func (c *call) side(by *client.Client, q url.Values, which, text string, span time.Duration) error {
	if id, err := ident.Parse(strings.TrimSpace(text)); err == nil {
		q.Set(which+"_run", id.String())
		return nil
	}
	ends, when, timed := strings.Cut(text, "@")
	if _, err := pathNamed(ends); err != nil {
		return wrongCall("%q is neither the identifier of a run nor a path such as 'northquay → holm @ yesterday 16:00'", short(text))
	}
	if !timed {
		when = ""
	}
	id, begin, until, err := c.moment(by, ends, when, span)
	if err != nil {
		return err
	}
	q.Set(which+"_path", id)
	q.Set(which+"_from", begin.UTC().Format(time.RFC3339Nano))
	q.Set(which+"_to", until.UTC().Format(time.RFC3339Nano))
	return nil
}

// states are the words of what is known of a difference.
var states = map[compare.State]string{compare.Differs: "differs", compare.Alike: "alike", compare.NotTold: "not told", compare.OneOnly: "one only"}

// comparison is how a comparison reads.
func comparison(r compare.Result) (d document.Document) {
	d.Add(document.Finding{Sign: "›", Text: r.Sentence})
	d.Gap()
	d.Field("first", "%s  %s", r.A.Name, document.Faint(r.A.What))
	d.Field("second", "%s  %s", r.B.Name, document.Faint(r.B.What))
	d.Gap()
	t := document.Table{Indent: 2, Columns: []document.Column{{Name: "figure"}, {Name: "way"}, {Name: "first", Right: true}, {Name: "second", Right: true}, {Name: "by", Right: true}, {Name: "surely between", Right: true}, {Name: ""}}}
	written := func(v *float64, unit string) string {
		if v == nil {
			return "–"
		}
		return compare.Written(*v, unit)
	}
	columns := []string{"figure", "way", "unit", "first", "second", "by", "by_low", "by_high", "state", "better", "why"}
	var rows [][]string
	for _, x := range r.Differences {
		between := "–"
		if x.Low != nil && x.High != nil {
			between = written(x.Low, x.Unit) + " … " + written(x.High, x.Unit)
		}
		state := states[x.State]
		switch {
		case x.State == compare.Differs && x.Better == "a":
			state = document.Lost("worse")
		case x.State == compare.Differs:
			state = document.Strong("better")
		case x.State == compare.NotTold:
			state = document.Changed(state)
		}
		t.Rows = append(t.Rows, []string{x.Name, x.Way, written(x.A, x.Unit), written(x.B, x.Unit), written(x.By, x.Unit), between, state})
		better := map[string]string{"a": "first", "b": "second"}[x.Better]
		rows = append(rows, []string{x.Name, x.Way, x.Unit, report.Cell(x.A), report.Cell(x.B), report.Cell(x.By), report.Cell(x.Low), report.Cell(x.High), string(x.State), better, x.Why})
	}
	d.Add(t)
	if r.Route != nil && !r.Route.Same {
		d.Field("only first", "%s", strings.Join(r.Route.OnlyA, ", "))
		d.Field("only second", "%s", strings.Join(r.Route.OnlyB, ", "))
	}
	for _, n := range r.Notes {
		d.Say("  %s", document.Faint(n))
	}
	d.Records = document.RecordsOf(columns, rows)
	return d
}
