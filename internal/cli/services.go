package cli

import (
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var servicesCommand = command{
	name: "services", summary: "the services that share a database: which works on it, and which stand by",
	usage:   "",
	example: "woodlark services\nwoodlark services -format json",
	more:    "Services share a database when each is told so: 'woodlark serve -together -database …'. One works on\nit; the others hand their callers on to that one, and take over when it is gone.",
	run:     runServices,
}

func runServices(c *call) error {
	c.withFormat()
	c.withService()
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("services has no use for %q", short(c.args[0]))
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	var s apitype.Status
	if err := api.Get(c.ctx, "/status", nil, &s); err != nil {
		return err
	}
	list := s.Services
	if list == nil {
		list = []apitype.ServiceOf{}
	}
	return c.write(list, servicesRead(list, s.Now).OrSay(len(list), "One service works on the database alone: it was not told to share it (serve -together)."))
}

// unseen is for how long a service may not be seen before that is said.
const unseen = 20 * time.Second

func servicesRead(list []apitype.ServiceOf, now time.Time) document.Document {
	var rows, records [][]string
	for _, x := range list {
		does, state := "stands by", "there"
		if x.Works {
			does = "works on the database"
		}
		if now.Sub(x.SeenAt) > unseen {
			does, state = document.Faint("–"), document.Lost("gone since "+report.When(x.SeenAt, zone()))
		}
		rows = append(rows, []string{x.Address, does, state, report.When(x.BeganAt, zone()), x.Version})
		records = append(records, []string{x.Address, map[bool]string{true: "true", false: "false"}[x.Works], x.BeganAt.UTC().Format(time.RFC3339), x.SeenAt.UTC().Format(time.RFC3339), x.Version, x.Says})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "service"}, {Name: "does"}, {Name: "state"}, {Name: "began"}, {Name: "version"}}, Rows: rows},
		document.RecordsOf([]string{"address", "works", "began_at", "seen_at", "version", "says"}, records))
}
