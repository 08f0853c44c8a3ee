package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var maintenanceCommand = command{
	name: "maintenance", summary: "when work is done: paths are measured then, but neither judged nor learnt from",
	usage: "[list]\nadd -name NAME -from TIME -until TIME [-site SITE] [-agent AGENT] [-target TARGET] [-tag TAG]\nadd -name NAME -cron EXPRESSION -lasts SPAN [-zone ZONE] …\nadd -name NAME -calendar FILE|ADDRESS …\nremove NAME",
	example: "woodlark maintenance add -name 'mast at Holm' -site Holm -from '2026-12-01 02:00' -until '2026-12-01 04:00'\n" +
		"woodlark maintenance add -name 'backups' -tag nightly -cron '0 1 * * SUN' -zone Europe/Dublin -lasts 2h\nwoodlark maintenance add -name works -calendar works.ics",
	more: "Of all that is given of -site, -agent, -target and -tag each must fit a path; without any it is\n" +
		"of all paths. A calendar is iCalendar (RFC 5545): a file, - for standard input, or an address\nthat the service fetches each hour.",
	run: runMaintenance,
}

func runMaintenance(c *call) error {
	var spec apitype.MaintenanceSpec
	var from, until, calendar string
	c.withFormat()
	c.withService()
	c.flags.StringVar(&spec.Name, "name", "", "name of the window")
	c.flags.StringVar(&spec.Site, "site", "", "of paths from or to this site")
	c.flags.StringVar(&spec.Agent, "agent", "", "of paths from this agent")
	c.flags.StringVar(&spec.Target, "target", "", "of paths to this target")
	c.flags.StringVar(&spec.Tag, "tag", "", "of paths of watches with this tag")
	c.flags.StringVar(&from, "from", "", "when it begins, such as '2026-12-01 02:00'")
	c.flags.StringVar(&until, "until", "", "when it ends")
	c.flags.StringVar(&spec.Cron, "cron", "", "when it begins again and again: a cron expression of five fields")
	c.flags.StringVar(&spec.Zone, "zone", "", "whose hours -cron goes by; UTC when left out")
	c.flags.StringVar(&spec.Lasts, "lasts", "", "how long it is each time, such as 2h")
	c.flags.StringVar(&calendar, "calendar", "", "a file of iCalendar, - for standard input, or an address that the service fetches each hour")
	if err := c.parse(); err != nil {
		return err
	}
	verb := "list"
	if len(c.args) > 0 {
		verb = c.args[0]
	}
	if n, known := map[string]int{"list": 1, "add": 1, "remove": 2}[verb]; !known {
		return wrongCall("%q is none of list, add, remove", short(verb))
	} else if len(c.args) > n {
		return wrongCall("maintenance %s has no use for %q; put names with spaces in quotes", verb, short(c.args[n]))
	} else if verb == "remove" && len(c.args) < n {
		return wrongCall("maintenance remove needs a name")
	}
	for _, t := range []struct {
		name, text string
		into       **time.Time
	}{{"from", from, &spec.FromAt}, {"until", until, &spec.UntilAt}} {
		if t.text == "" {
			continue
		}
		at, err := readAhead(t.text, time.Now(), zone())
		if err != nil {
			return wrongCall("-%s: %v", t.name, err)
		}
		*t.into = &at
	}
	if err := c.readCalendar(&spec, calendar); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "add":
		var m apitype.Maintenance
		if err := api.Do(c.ctx, http.MethodPost, "/maintenance", spec, &m); err != nil {
			return err
		}
		return c.writeMaintenance([]apitype.Maintenance{m})
	case "remove":
		if err := api.Do(c.ctx, http.MethodDelete, "/maintenance/"+client.Segment(c.args[1]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(c.err, "Removed. What was measured then is judged from now on where it counts.")
		return nil
	}
	var list []apitype.Maintenance
	if err := api.Get(c.ctx, "/maintenance", nil, &list); err != nil {
		return err
	}
	return c.writeMaintenance(list)
}

// mostCalendar is how much of a calendar is read: more is refused by the service, by name.
const mostCalendar = 11 << 20

func (c *call) readCalendar(spec *apitype.MaintenanceSpec, from string) error {
	switch {
	case from == "":
		return nil
	case strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://"):
		spec.Address = from
		return nil
	}
	in := c.in
	if from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return wrongCall("-calendar: %v", err)
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, mostCalendar))
	if err != nil {
		return fmt.Errorf("read the calendar: %w", err)
	}
	if spec.Calendar = string(text); spec.Calendar == "" {
		return wrongCall("-calendar %s is empty", from)
	}
	return nil
}

func (c *call) writeMaintenance(list []apitype.Maintenance) error {
	var rows [][]string
	for _, m := range list {
		var of []string
		for _, x := range [][2]string{{"site", m.Site}, {"agent", m.Agent}, {"target", m.Target}, {"tag", m.Tag}} {
			if x[1] != "" {
				of = append(of, x[0]+" "+x[1])
			}
		}
		if of == nil {
			of = []string{"all paths"}
		}
		when := ""
		switch {
		case m.Cron != "":
			when = m.Cron + " " + cmp.Or(m.Zone, "UTC") + ", for " + m.Lasts
		case m.Address != "":
			when = "by the calendar at " + m.Address
		case m.CalendarBytes > 0:
			when = "by a calendar"
		case m.FromAt != nil && m.UntilAt != nil:
			when = report.When(*m.FromAt, zone()) + " to " + report.When(*m.UntilAt, zone())
		}
		next := "over"
		if m.Next != nil {
			next = report.When(m.Next.FromAt, zone()) + " to " + report.When(m.Next.ToAt, zone())
			if m.Now {
				next = document.Strong("now") + ", until " + report.When(m.Next.ToAt, zone())
			}
			if m.NextName != "" && m.NextName != m.Name {
				next += ": " + m.NextName
			}
		}
		rows = append(rows, []string{m.Name, strings.Join(of, ", "), when, next})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "maintenance"}, {Name: "of"}, {Name: "when"}, {Name: "now or next"}}, Rows: rows}, maintenanceRecords(list))
	return c.write(list, doc.OrSay(len(rows), "No maintenance is planned. 'woodlark help maintenance' shows how to plan some."))
}

func maintenanceRecords(list []apitype.Maintenance) document.Records {
	stamp := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	var rows [][]string
	for _, m := range list {
		row := []string{m.ID, m.Name, m.Site, m.Agent, m.Target, m.Tag, stamp(m.FromAt), stamp(m.UntilAt), m.Cron, m.Zone, m.Lasts, m.Address, strconv.FormatBool(m.Now), "", ""}
		if m.Next != nil {
			row[13], row[14] = stamp(&m.Next.FromAt), stamp(&m.Next.ToAt)
		}
		rows = append(rows, row)
	}
	return document.RecordsOf([]string{"id", "name", "site", "agent", "target", "tag", "from_at", "until_at", "cron", "zone", "lasts", "address", "now", "next_from_at", "next_until_at"}, rows)
}
