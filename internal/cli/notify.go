package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var notifyCommand = command{
	name: "notify", summary: "who is told of what, and by which way",
	usage: "[list]\nchannel NAME -by TYPE -set FIELD=VALUE …\nrule NAME -to CHANNEL [options]\ntest CHANNEL\nmessages [-rule NAME] [-state STATE]\nremove-channel NAME\nremove-rule NAME\ntypes",
	example: "woodlark notify channel desk -by webhook -set url=https://hooks.northquay.example/network -set secret=@key\n" +
		"woodlark notify test desk\nwoodlark notify rule 'night desk' -to desk -states lost -hours '18:00-08:00' -zone Europe/Dublin -remind 4h\n" +
		"woodlark notify rule 'each week' -to desk -report weekly -objective voice -report-as pdf,csv",
	more: "What opens, gets worse, eases and ends is told; what one segment explains is one message. Of\n" +
		"-states, -sites, -agents, -targets, -tags and -labels each that is given must fit. A value of -set that\n" +
		"begins with @ is the content of a file: secrets and certificates are better not written here.",
	run: runNotify,
}

type notifyOptions struct {
	by, state                                    string
	rule                                         apitype.RuleSpec
	states, sites, agents, targets, tags, labels string
	set                                          map[string]string
	order                                        apitype.ReportOrder
	formats                                      string
}

func runNotify(c *call) error {
	o := notifyOptions{set: map[string]string{}}
	c.withFormat()
	c.withService()
	f := c.flags
	f.StringVar(&o.by, "by", "", "of a channel: its type; 'woodlark notify types' lists them with their fields")
	c.again = append(c.again, "set")
	f.Func("set", "of a channel: FIELD=VALUE, or FIELD=@FILE", func(v string) error {
		name, value, is := strings.Cut(v, "=")
		if !is {
			return fmt.Errorf("it is FIELD=VALUE")
		}
		o.set[name] = value
		return nil
	})
	f.StringVar(&o.rule.Channel, "to", "", "of a rule: name of the channel")
	f.StringVar(&o.states, "states", "", "of a rule: degraded, lost; both when left out")
	f.StringVar(&o.sites, "sites", "", "of a rule: at either end, with commas between")
	f.StringVar(&o.agents, "agents", "", "of a rule: with commas between")
	f.StringVar(&o.targets, "targets", "", "of a rule: with commas between")
	f.StringVar(&o.tags, "tags", "", "of a rule: of watches, with commas between")
	f.StringVar(&o.labels, "labels", "", "of a rule: of agents, with commas between")
	f.Float64Var(&o.rule.Severity, "severity", 0, "of a rule: how many times more than what is worth caring about it must be worse, such as 3; what is lost always is")
	f.BoolVar(&o.rule.IncidentsOnly, "incidents-only", false, "of a rule: not of one path alone")
	f.StringVar(&o.rule.Hours, "hours", "", "of a rule: in which it is told, such as 'mon-fri 08:00-18:00'; what comes at others is told at their end")
	f.StringVar(&o.rule.Zone, "zone", "", "of a rule: whose hours; UTC when left out")
	f.StringVar(&o.rule.Remind, "remind", "", "of a rule: after how long it is told again that something goes on, such as 4h")
	f.IntVar(&o.rule.Most, "most", 0, "of a rule: messages a minute that are told one by one; more become a summary; 20 when left out")
	f.StringVar(&o.rule.Holidays, "holidays", "", "of a rule: on days off of the service's settings: quiet, or only then; as on other days when left out")
	f.StringVar(&o.order.Every, "report", "", "of a rule: a report daily, weekly (on Mondays) or monthly (on the first), of the time before, and nothing else")
	f.StringVar(&o.order.At, "report-at", "", "of a rule with -report: of the day, such as 07:30; 07:00 when left out")
	f.StringVar(&o.order.Objective, "objective", "", "of a rule with -report: hold paths against it")
	f.StringVar(&o.formats, "report-as", "", "of a rule with -report: files with commas between: pdf, html, csv, json, text; pdf when left out")
	f.StringVar(&o.rule.Name, "rule", "", "of messages: by this rule only")
	f.StringVar(&o.state, "state", "", "of messages: waiting, held, summed, delivered or 'gave up' only")
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	takes := map[string]int{"list": 0, "types": 0, "messages": 0, "channel": 1, "rule": 1, "test": 1, "remove-channel": 1, "remove-rule": 1}
	n, known := takes[verb]
	switch {
	case !known:
		return wrongCall("%q is none of %s", short(verb), strings.Join(slices.Sorted(maps.Keys(takes)), ", "))
	case len(args) < n:
		return wrongCall("notify %s needs a name", verb)
	case len(args) > n:
		return wrongCall("notify %s has no use for %q; put names with spaces in quotes", verb, short(args[n]))
	}
	if err := c.belong(verb, map[string]string{"channel": "by set", "rule": "to states sites agents targets tags labels severity incidents-only hours zone remind most holidays report report-at objective report-as", "messages": "rule state"}); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		return c.listNotify(api)
	case "types":
		return c.listChannelTypes(api)
	case "messages":
		return c.listMessages(api, o)
	case "channel":
		return c.saveChannel(api, args[0], o)
	case "rule":
		return c.saveRule(api, args[0], o)
	case "test":
		if err := api.Do(c.ctx, http.MethodPost, "/channels/"+client.Segment(args[0])+"/test", nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(c.out, "The receiver has taken it.")
		return nil
	case "remove-channel":
		return api.Do(c.ctx, http.MethodDelete, "/channels/"+client.Segment(args[0]), nil, nil)
	}
	return api.Do(c.ctx, http.MethodDelete, "/rules/"+client.Segment(args[0]), nil, nil)
}

func (c *call) saveChannel(api *client.Client, name string, o notifyOptions) error {
	if o.by == "" {
		return wrongCall("say by what: -by webhook, mail or syslog")
	}
	var types []apitype.ChannelType
	if err := api.Get(c.ctx, "/channel-types", nil, &types); err != nil {
		return err
	}
	fields := map[string]string{}
	for _, t := range types {
		for _, f := range t.Fields {
			if t.Name == o.by {
				fields[f.Name] = f.Type
			}
		}
	}
	spec := apitype.ChannelSpec{Name: name, Type: o.by, Settings: map[string]json.RawMessage{}}
	for key, value := range o.set {
		if file, is := strings.CutPrefix(value, "@"); is {
			data, err := os.ReadFile(file)
			if err != nil {
				return wrongCall("-set %s: %v", key, err)
			}
			value = strings.TrimRight(string(data), "\r\n")
		}
		var v any = value
		switch fields[key] {
		case "bool":
			b, err := strconv.ParseBool(value)
			if err != nil {
				return wrongCall("-set %s: %q is neither true nor false", key, short(value))
			}
			v = b
		case "int":
			n, err := strconv.Atoi(value)
			if err != nil {
				return wrongCall("-set %s: %q is no whole number", key, short(value))
			}
			v = n
		case "list":
			v = list(value)
		}
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		spec.Settings[key] = raw
	}
	var saved apitype.Channel
	if err := api.Do(c.ctx, http.MethodPost, "/channels", spec, &saved); err != nil {
		return err
	}
	return c.write(saved, channelsRead([]apitype.Channel{saved}))
}

func (c *call) saveRule(api *client.Client, name string, o notifyOptions) error {
	o.rule.Name = name
	o.rule.States, o.rule.Sites, o.rule.Agents, o.rule.Targets, o.rule.Tags, o.rule.Labels = list(o.states), list(o.sites), list(o.agents), list(o.targets), list(o.tags), list(o.labels)
	if o.rule.Channel == "" {
		return wrongCall("say by which channel: -to CHANNEL")
	}
	o.order.Formats = list(o.formats)
	switch {
	case o.order.Every != "":
		o.rule.Report = &o.order
	case o.order.At != "" || o.order.Objective != "" || o.formats != "":
		return wrongCall("-report-at, -report-as and -objective belong to -report daily, weekly or monthly")
	}
	var saved apitype.Rule
	if err := api.Do(c.ctx, http.MethodPost, "/rules", o.rule, &saved); err != nil {
		return err
	}
	return c.write(saved, rulesRead([]apitype.Rule{saved}))
}

func (c *call) listNotify(api *client.Client) error {
	all := struct {
		Channels []apitype.Channel `json:"channels"`
		Rules    []apitype.Rule    `json:"rules"`
	}{}
	if err := api.Get(c.ctx, "/channels", nil, &all.Channels); err != nil {
		return err
	}
	if err := api.Get(c.ctx, "/rules", nil, &all.Rules); err != nil {
		return err
	}
	doc := channelsRead(all.Channels)
	records := doc.Records
	doc.Append(rulesRead(all.Rules))
	doc.Records = records
	return c.write(all, doc.OrSay(len(all.Channels), "Nobody is told of anything yet. 'woodlark notify channel' says by which way, 'woodlark notify rule' of what."))
}

func channelsRead(list []apitype.Channel) (doc document.Document) {
	var rows [][]string
	for _, x := range list {
		rows = append(rows, []string{x.Name, x.Type, settingsText(x)})
	}
	doc.Add(document.Table{Columns: []document.Column{{Name: "channel"}, {Name: "by"}, {Name: "settings"}}, Rows: rows})
	doc.Records = document.RecordsOf([]string{"channel", "type", "settings"}, rows)
	return doc
}

func settingsText(x apitype.Channel) string {
	var parts []string
	for _, key := range slices.Sorted(maps.Keys(x.Settings)) {
		v := text(x.Settings[key])
		var some []string
		if json.Unmarshal(x.Settings[key], &some) == nil {
			v = strings.Join(some, ", ")
		}
		if v == "" || v == "false" || v == "null" {
			continue
		}
		if key == "authorities" {
			v = "given"
		}
		parts = append(parts, key+" "+v)
	}
	for _, key := range x.Hidden {
		parts = append(parts, key+" (not shown)")
	}
	return strings.Join(parts, ", ")
}

func rulesRead(list []apitype.Rule) (doc document.Document) {
	var rows [][]string
	for _, r := range list {
		of := "all paths"
		var parts []string
		for _, w := range []struct {
			name string
			list []string
		}{{"", r.States}, {"sites ", r.Sites}, {"agents ", r.Agents}, {"targets ", r.Targets}, {"tags ", r.Tags}, {"labels ", r.Labels}} {
			if len(w.list) > 0 {
				parts = append(parts, w.name+strings.Join(w.list, ", "))
			}
		}
		if r.IncidentsOnly {
			parts = append(parts, "incidents only")
		}
		if len(parts) > 0 {
			of = strings.Join(parts, "; ")
		}
		when := "always"
		if r.Report != nil {
			when, r.Remind = "a report "+r.Report.Every, ""
			if r.Report.At != "" {
				when += " at " + r.Report.At
			}
		}
		if r.Holidays != "" {
			parts = append(parts, "days off "+r.Holidays)
			of = strings.Join(parts, "; ")
		}
		if r.Hours != "" {
			when = r.Hours
			if r.Zone != "" {
				when += " " + r.Zone
			}
		}
		rows = append(rows, []string{r.Name, r.Channel, of, when, r.Remind})
	}
	if len(rows) > 0 {
		doc.Add(document.Gap{}, document.Table{Columns: []document.Column{{Name: "rule"}, {Name: "to"}, {Name: "of"}, {Name: "when"}, {Name: "again after"}}, Rows: rows})
	}
	doc.Records = document.RecordsOf([]string{"rule", "channel", "of", "when", "remind"}, rows)
	return doc
}

func (c *call) listChannelTypes(api *client.Client) error {
	var types []apitype.ChannelType
	if err := api.Get(c.ctx, "/channel-types", nil, &types); err != nil {
		return err
	}
	var rows [][]string
	for _, t := range types {
		for i, f := range t.Fields {
			name := ""
			if i == 0 {
				name = t.Name
			}
			help := f.Help
			if len(f.Enum) > 0 {
				help += " (" + strings.Join(f.Enum, ", ") + ")"
			}
			rows = append(rows, []string{name, f.Name, f.Usual, help})
		}
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "type"}, {Name: "field"}, {Name: "usual"}, {Name: "what it is"}}, Rows: rows}, document.RecordsOf([]string{"type", "field", "usual", "help"}, rows))
	return c.write(types, doc)
}

func (c *call) listMessages(api *client.Client, o notifyOptions) error {
	q := url.Values{"limit": {"100"}}
	if o.rule.Name != "" {
		q.Set("rule", o.rule.Name)
	}
	if o.state != "" {
		q.Set("state", o.state)
	}
	messages := []apitype.Message{}
	if err := api.Get(c.ctx, "/messages", q, &messages); err != nil {
		return err
	}
	var rows, records [][]string
	for _, m := range messages {
		state := m.State
		if m.Error != "" {
			state += ": " + m.Error
		}
		rows = append(rows, []string{report.When(m.At, zone()), m.What, m.Title, m.Channel, state})
		records = append(records, []string{m.ID, m.At.UTC().Format(time.RFC3339), m.What, m.Rule, m.Channel, m.Subject, m.State, strconv.Itoa(m.Tries), m.Error, m.Title})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "at"}, {Name: "what"}, {Name: "title"}, {Name: "by"}, {Name: "state"}}, Rows: rows},
		document.RecordsOf([]string{"message", "at", "what", "rule", "channel", "subject", "state", "tries", "error", "title"}, records))
	return c.write(messages, doc.OrSay(len(messages), "Nobody was told of anything yet."))
}
