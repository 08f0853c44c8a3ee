package cli

import (
	"fmt"
	"net/url"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

// listTraces lists traces, newest first.
func (c *call) listTraces(to *client.Client, o pathOptions) error {
	query := url.Values{"limit": {"100"}}
	if o.from != "" {
		query.Set("from", o.from)
	}
	if o.to != "" {
		query.Set("to", o.to)
	}
	var list []apitype.Trace
	if err := to.Get(c.ctx, "/traces", query, &list); err != nil {
		return err
	}
	var rows [][]string
	for _, t := range list {
		found := t.Reason
		switch {
		case t.Outcome != "done" && found == "":
			found = t.Outcome
		case t.Outcome == "done" && !t.Reached:
			found = "not reached"
		case t.Changed:
			found = "another route than usual"
		}
		rows = append(rows, []string{report.When(t.StartAt, zone()), t.From + " → " + t.To, t.Via, fmt.Sprint(t.Hops), report.Ms(t.RTTMs), report.Percent(t.LossRatio), found, t.ID})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "began"}, {Name: "path"}, {Name: "by"}, {Name: "hops", Right: true}, {Name: "median", Right: true}, {Name: "loss", Right: true},
		{Name: "found"}, {Name: "id"}}, Rows: rows}, report.RouteRecords(list))
	return c.write(list, doc.OrSay(len(rows), "No such traces. 'woodlark trace -from AGENT TARGET' makes one, a watch of -kind trace many."))
}
