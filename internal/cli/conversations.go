package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var conversationsCommand = command{
	name: "conversations", summary: "whom the programs of agents' machines talked to, and how well",
	usage:   "[list] [options]\nshow ID",
	example: "woodlark watch add -name calls -from northquay -to program:softphone -via tcp:443\nwoodlark conversations -since 24h -program softphone",
	more: "A watch to program:NAME, or to ports:LOW-HIGH of servers, has agents look whom programs talk\n" +
		"to by TCP and connected UDP, every two seconds, and measures each server for as long. The\n" +
		"owner of an agent allows it: 'woodlark agent -conversations PROGRAM,…', or any.",
	run: runConversations,
}

func runConversations(c *call) error {
	q := url.Values{}
	var since string
	var open bool
	var limit int
	c.withFormat()
	c.withService()
	for _, o := range []struct{ name, says string }{{"watch", "of this watch only"}, {"from", "of this agent's machine only"}, {"program", "of this program only"}, {"server", "with this address only"}} {
		c.flags.Func(o.name, o.says, func(v string) error { q.Set(o.name, v); return nil })
	}
	c.flags.BoolVar(&open, "open", false, "only those that go on")
	c.flags.StringVar(&since, "since", "", "that went on since: a time, a date, or so long ago as 2h or 7d")
	c.flags.IntVar(&limit, "limit", 50, "so many of the newest, 1 to 1000")
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	switch {
	case verb != "list" && verb != "show":
		return wrongCall("%q is none of list, show", short(verb))
	case verb == "show" && len(args) != 1:
		return wrongCall("conversations show needs the identifier of one; 'woodlark conversations -format json' has them")
	case verb == "list" && len(args) > 0:
		return wrongCall("conversations list has no use for %q", short(args[0]))
	case limit < 1 || limit > 1000:
		return wrongCall("-limit %d is not between 1 and 1000", limit)
	}
	if open {
		q.Set("open", "true")
	}
	if since != "" {
		at, err := readWhen(since, time.Now())
		if err != nil {
			return wrongCall("-since: %v", err)
		}
		q.Set("from_at", at.UTC().Format(time.RFC3339Nano))
	}
	q.Set("limit", strconv.Itoa(limit))
	api, err := c.client()
	if err != nil {
		return err
	}
	list := []apitype.Conversation{}
	if verb == "show" {
		var one apitype.Conversation
		if err := api.Get(c.ctx, "/conversations/"+client.Segment(args[0]), nil, &one); err != nil {
			return err
		}
		return c.write(one, conversationsRead([]apitype.Conversation{one}))
	}
	if err := api.Get(c.ctx, "/conversations", q, &list); err != nil {
		return err
	}
	return c.write(list, conversationsRead(list).OrSay(len(list), "No such conversations."))
}

// conversationsRead is how conversations read.
func conversationsRead(list []apitype.Conversation) (doc document.Document) {
	columns := []document.Column{{Name: "program"}, {Name: "server"}, {Name: "from"}, {Name: "began"}, {Name: "for", Right: true}, {Name: "RTT", Right: true}, {Name: "jitter", Right: true}, {Name: "lost"}, {Name: "route, a run"}}
	var rows, records [][]string
	for _, x := range list {
		server := fmt.Sprintf("%s port %d, %s", x.Server, x.Port, x.Protocol)
		lasted, ended := "goes on", ""
		if x.EndedAt != nil {
			lasted, ended = figure.FormatSpan(x.EndedAt.Sub(x.BeganAt).Round(time.Second)), x.EndedAt.Format(time.RFC3339)
		}
		rtt, jitter, lost, route := "", "", x.Says, ""
		var f reading.Figures
		sent := []string{"", "", ""}
		if x.Figures != nil {
			f = *x.Figures
			lost = fmt.Sprintf("%d of %d", f.Lost, f.Sent)
			sent = []string{strconv.Itoa(f.Sent), strconv.Itoa(f.Answered), strconv.Itoa(f.Lost)}
		}
		if f.RTTMedianMs != nil {
			rtt = figure.FormatMs(*f.RTTMedianMs)
		}
		if f.JitterMs != nil {
			jitter = figure.FormatMs(*f.JitterMs)
		}
		if x.Route != nil {
			route = x.Route.Outcome
			if x.Route.Outcome == "done" {
				route = x.Route.ID
			}
		}
		rows = append(rows, []string{orUnknown(x.Program), server, x.From, report.When(x.BeganAt, zone()), lasted, rtt, jitter, lost, route})
		records = append(records, []string{x.ID, x.Watch, x.From, x.Program, x.Protocol, x.Server, strconv.Itoa(x.Port), x.BeganAt.Format(time.RFC3339), ended, sent[0], sent[1], sent[2], number(f.RTTMedianMs), number(f.RTTP95Ms), number(f.JitterMs), x.Says})
	}
	doc.Add(document.Table{Columns: columns, Rows: rows})
	doc.Records = document.RecordsOf([]string{"conversation", "watch", "from", "program", "protocol", "server", "port", "began_at", "ended_at", "sent", "answered", "lost", "rtt_median_ms", "rtt_p95_ms", "jitter_ms", "says"}, records)
	return doc
}

func orUnknown(program string) string {
	if program == "" {
		return "(not to be seen)"
	}
	return program
}

func number(v *float64) string {
	if v == nil {
		return ""
	}
	return strconv.FormatFloat(*v, 'g', -1, 64)
}
