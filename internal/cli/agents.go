package cli

import (
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var agentsCommand = command{
	name: "agents", summary: "the agents of the service: list them, invite one, remove one",
	usage:   "[options]\n  woodlark agents invite [-name NAME] [-site SITE] [options]\n  woodlark agents remove NAME",
	example: "woodlark agents\nwoodlark agents invite -site Holm -lasts 2h",
	run:     runAgents,
}

func runAgents(c *call) error {
	var order apitype.InviteOrder
	c.withFormat()
	c.withService()
	c.flags.StringVar(&order.Name, "name", "", "of invite: the name that the agent gets; its own choice when left out")
	c.flags.StringVar(&order.Site, "site", "", "of invite: its site")
	c.flags.StringVar(&order.Labels, "labels", "", "of invite: words to find it by, with commas between them")
	c.flags.StringVar(&order.Lasts, "lasts", "24h", "of invite: how long it can be used, once")
	if err := c.parse(); err != nil {
		return err
	}
	service, err := c.client()
	if err != nil {
		return err
	}
	what := "list"
	if len(c.args) > 0 {
		what = c.args[0]
	}
	switch {
	case what == "list" && len(c.args) <= 1:
		var list []apitype.Agent
		if err := service.Get(c.ctx, "/agents", nil, &list); err != nil {
			return err
		}
		return c.writeAgents(list)
	case what == "invite" && len(c.args) == 1:
		var i apitype.Invite
		if err := service.Do(c.ctx, "POST", "/agents/invites", order, &i); err != nil {
			return err
		}
		if c.format == "json" {
			return document.JSON(c.out, i)
		}
		at, trust := service.Base(), ""
		if len(i.Join) > 0 {
			at = strings.Join(i.Join, ",")
		}
		if i.Trust != "" {
			trust = " -trust " + i.Trust
		}
		fmt.Fprintf(c.out, "Run on the other machine, once, until %s:\n\n  woodlark agent -join %s -invite %s%s -listen ADDRESS:%d\n\n", i.EndsAt.In(zone()).Format("2006-01-02 15:04 MST"), at, i.Code, trust, kind.UsualPort)
		if u, err := url.Parse(service.Base()); err == nil && len(i.Join) == 0 && isLoopback(u.Hostname()) {
			fmt.Fprintf(c.out, "In place of %s say the address by which that machine reaches this one.\n\n", u.Host)
		}
		return nil
	case what == "remove" && len(c.args) == 2:
		if err := service.Do(c.ctx, "DELETE", "/agents/"+url.PathEscape(c.args[1]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "Agent %q is locked out. What it measured stays.\n", c.args[1])
		return nil
	}
	return wrongCall("%q is none of: nothing, invite, remove NAME", short(strings.Join(c.args, " ")))
}

func (c *call) writeAgents(list []apitype.Agent) error {
	rows := [][]string{}
	for _, a := range list {
		rows = append(rows, agentRow(a))
	}
	return c.write(list, document.Of(document.Table{Columns: []document.Column{{Name: "agent"}, {Name: "site"}, {Name: "where"}, {Name: "state"}, {Name: "version"}, {Name: "clock"}, {Name: "far end"}, {Name: "waiting"}, {Name: "may"}}, Rows: rows}, report.AgentRecords(list)))
}

func agentRow(a apitype.Agent) []string {
	state := "● there"
	if !a.Alive {
		state = "⊖ away"
		if a.LostAt != nil {
			state += " for " + figure.FormatSpan(time.Since(*a.LostAt))
		}
	}
	where := map[string]string{"builtin": "in the service", "simulated": "simulated", "remote": "another machine", "imported": "elsewhere: its readings were taken in"}[a.Kind]
	row := []string{a.Name, a.Site, where, state, a.Version, "", "", "", ""}
	h := a.Health
	if h == nil {
		return row
	}
	switch {
	case h.Clock.Synchronised && h.Clock.ErrorMs != nil:
		row[5] = "in step to " + figure.FormatMs(*h.Clock.ErrorMs)
	case h.Clock.Known:
		row[5] = "runs free"
	}
	row[6], row[8] = h.Responder, strings.Join(h.May, ", ")
	if h.HeldBack > 0 {
		row[7] = fmt.Sprint(h.HeldBack)
	}
	if h.Dropped > 0 {
		row[7] += fmt.Sprintf(", %d dropped", h.Dropped)
	}
	if h.Limits != "" {
		row[8] += "; " + h.Limits
	}
	return row
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
