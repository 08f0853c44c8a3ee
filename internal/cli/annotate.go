package cli

import (
	"net/http"
	"net/url"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var annotateCommand = command{
	name: "annotate", summary: "write something of a path at a time or over a span; it shows on plots and in reports",
	usage:   "TEXT [-from AGENT -to TARGET [-family 4|6] [-via PROBE]] [-at TIME [-until TIME]] [-author NAME]\nlist [-from AGENT -to TARGET] [-last 7d]\nremove ID",
	example: "woodlark annotate 'mast being painted' -from northquay -to terminal.holm.example -at 'yesterday 14:20' -until 'yesterday 16:00'\nwoodlark annotate list -last 7d",
	more:    "Without -from and -to it is of all paths; without -at of now. A TIME is as in 'woodlark help degraded'.",
	run:     runAnnotate,
}

func runAnnotate(c *call) error {
	var at, until, last string
	var one onePath
	var spec apitype.AnnotationSpec
	c.withFormat()
	c.withService()
	c.withOnePath(&one, "")
	c.flags.StringVar(&at, "at", "", "when it was, such as 'yesterday 14:20'; now when left out")
	c.flags.StringVar(&until, "until", "", "until when, of a span")
	c.flags.StringVar(&spec.Author, "author", "", "who writes; who is signed in when left out")
	c.flags.StringVar(&last, "last", "30d", "of list: how far back")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) == 0 {
		return wrongCall("say what: a text, list, or remove ID")
	}
	verb := c.args[0]
	most := map[string]int{"list": 1, "remove": 2}[verb]
	if most == 0 {
		verb, most = "add", 1
	}
	if len(c.args) > most {
		return wrongCall("there is nothing to do with %q; put a text with spaces in quotes", short(c.args[most]))
	}
	if err := c.belong(verb, map[string]string{"add": "from to family via at until author", "list": "from to family via last"}); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	if verb == "remove" {
		if len(c.args) < 2 {
			return wrongCall("remove needs the identifier that 'woodlark annotate list' shows")
		}
		return api.Do(c.ctx, http.MethodDelete, "/annotations/"+client.Segment(c.args[1]), nil, nil)
	}
	if spec.PathID, err = one.id(c, api); err != nil {
		return err
	}
	if verb == "list" {
		return c.listAnnotations(api, spec.PathID, last)
	}
	now := time.Now()
	spec.Text, spec.At = c.args[0], now
	if at != "" {
		if spec.At, err = parseWhen(at, now, zone()); err != nil {
			return wrongCall("-at: %v", err)
		}
	}
	if until != "" {
		t, err := parseWhen(until, now, zone())
		if err != nil {
			return wrongCall("-until: %v", err)
		}
		spec.Until = &t
	}
	var kept apitype.Annotation
	if err := api.Do(c.ctx, http.MethodPost, "/annotations", spec, &kept); err != nil {
		return err
	}
	return c.write(kept, annotationsRead([]apitype.Annotation{kept}))
}

func (c *call) listAnnotations(api *client.Client, path, last string) error {
	span, err := readSpan(last)
	if err != nil {
		return wrongCall("-last: %v", err)
	}
	query := url.Values{"from_at": {time.Now().Add(-span).UTC().Format(time.RFC3339)}}
	if path != "" {
		query.Set("path_id", path)
	}
	list := []apitype.Annotation{}
	if err := api.Get(c.ctx, "/annotations", query, &list); err != nil {
		return err
	}
	return c.write(list, annotationsRead(list).OrSay(len(list), "Nobody wrote anything of that time."))
}

func annotationsRead(list []apitype.Annotation) document.Document {
	var rows, records [][]string
	for _, a := range list {
		of, until, ends := "all paths", "", ""
		if a.PathID != "" {
			of = a.From + " → " + a.To
		}
		if a.Until != nil {
			until, ends = " to "+report.When(*a.Until, zone()), a.Until.UTC().Format(time.RFC3339)
		}
		rows = append(rows, []string{report.When(a.At, zone()) + until, of, a.Author, a.Text, document.Faint(a.ID)})
		records = append(records, []string{a.ID, a.PathID, a.From, a.To, a.At.UTC().Format(time.RFC3339), ends, a.Author, a.Text})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "when"}, {Name: "of"}, {Name: "by"}, {Name: "text"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"annotation", "path_id", "from", "to", "at", "until_at", "author", "text"}, records))
}
