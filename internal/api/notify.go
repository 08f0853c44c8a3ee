package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/channel"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notify"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

type oneChannel struct {
	Channel string `path:"channel" doc:"Name or identifier"`
}

type oneRule struct {
	Rule string `path:"rule" doc:"Name or identifier"`
}

type listMessages struct {
	Paging
	Rule  string `query:"rule" doc:"By this rule"`
	State string `query:"state" enum:"waiting,held,summed,delivered,gave up"`
}

// secrets are settings of channels that are taken and never given back.
var secrets = []string{"secret", "password"}

func (s *server) registerNotify(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/channel-types", "list-channel-types", "By what people can be told, and what each needs", "Notifications"),
		func(context.Context, *struct{}) (*body[[]apitype.ChannelType], error) {
			out := []apitype.ChannelType{}
			for _, name := range channel.Names() {
				t, err := channel.Find(name)
				if err != nil {
					return nil, s.problem(err)
				}
				x := apitype.ChannelType{Name: name, Summary: t.Summary, Fields: []apitype.Field{}}
				for _, f := range kind.FieldsOf(t.New()) {
					x.Fields = append(x.Fields, apitype.Field{Name: f.Name, Option: f.Flag, Type: f.Type(), Help: f.Help, Usual: f.Text(), Enum: f.Enum})
				}
				out = append(out, x)
			}
			return &body[[]apitype.ChannelType]{out}, nil
		})
	huma.Register(a, operation(http.MethodGet, "/channels", "list-channels", "By which ways people are told, by name", "Notifications"),
		func(context.Context, *struct{}) (*body[[]apitype.Channel], error) {
			out := []apitype.Channel{}
			for _, c := range s.c.Notify.Channels() {
				x, err := channelOf(c)
				if err != nil {
					return nil, s.problem(err)
				}
				out = append(out, x)
			}
			return &body[[]apitype.Channel]{out}, nil
		})
	add := operation(http.MethodPost, "/channels", "add-channel", "Add a channel, or replace the one of its name", "Notifications")
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.ChannelSpec]) (*body[apitype.Channel], error) {
		settings, err := json.Marshal(in.Body.Settings)
		if err != nil {
			return nil, s.problem(err)
		}
		c, err := s.c.Notify.SaveChannel(ctx, in.Body.Name, in.Body.Type, settings)
		if err != nil {
			return nil, s.problem(err)
		}
		out, err := channelOf(c)
		return &body[apitype.Channel]{out}, s.problem(err)
	})
	huma.Register(a, operation(http.MethodPost, "/channels/{channel}/test", "test-channel", "Hand a message over now; what the receiver says is told", "Notifications", http.StatusNotFound),
		func(ctx context.Context, in *oneChannel) (*struct{}, error) {
			return nil, s.problem(s.c.Notify.Test(ctx, in.Channel))
		})
	remove := operation(http.MethodDelete, "/channels/{channel}", "remove-channel", "Remove a channel that no rule leads to", "Notifications", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneChannel) (*struct{}, error) {
		return nil, s.problem(s.c.Notify.RemoveChannel(ctx, in.Channel))
	})
	s.registerRules(a)
	huma.Register(a, operation(http.MethodGet, "/messages", "list-messages", "What people were told, or are to be, newest first", "Notifications", http.StatusNotFound),
		func(ctx context.Context, in *listMessages) (*listed[apitype.Message], error) {
			out, err := s.messages(ctx, in)
			return out, s.problem(err)
		})
}

func (s *server) registerRules(a huma.API) {
	huma.Register(a, operation(http.MethodGet, "/rules", "list-rules", "Who is told of what, by name", "Notifications"),
		func(context.Context, *struct{}) (*body[[]apitype.Rule], error) {
			out := []apitype.Rule{}
			for _, r := range s.c.Notify.Rules() {
				out = append(out, ruleOf(r))
			}
			return &body[[]apitype.Rule]{out}, nil
		})
	add := operation(http.MethodPost, "/rules", "add-rule", "Add a rule, or replace the one of its name", "Notifications")
	add.DefaultStatus = http.StatusCreated
	huma.Register(a, add, func(ctx context.Context, in *body[apitype.RuleSpec]) (*body[apitype.Rule], error) {
		r, err := ruleRead(in.Body)
		if err == nil {
			r, err = s.c.Notify.SaveRule(ctx, r)
		}
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[apitype.Rule]{ruleOf(r)}, nil
	})
	remove := operation(http.MethodDelete, "/rules/{rule}", "remove-rule", "Remove a rule; what waits by it is given up", "Notifications", http.StatusNotFound)
	remove.DefaultStatus = http.StatusNoContent
	huma.Register(a, remove, func(ctx context.Context, in *oneRule) (*struct{}, error) {
		return nil, s.problem(s.c.Notify.RemoveRule(ctx, in.Rule))
	})
}

func channelOf(c notify.Channel) (out apitype.Channel, err error) {
	out = apitype.Channel{ID: c.ID.String(), ChannelSpec: apitype.ChannelSpec{Name: c.Name, Type: c.Type.Name}}
	if out.Settings, err = kind.Written(c.Settings); err != nil {
		return out, err
	}
	for _, name := range secrets {
		if v, is := out.Settings[name]; is && string(v) != `""` {
			out.Hidden = append(out.Hidden, name)
		}
		delete(out.Settings, name)
	}
	return out, nil
}

func ruleRead(in apitype.RuleSpec) (r notify.Rule, err error) {
	r = notify.Rule{Name: in.Name, Channel: in.Channel, States: in.States, Selection: selection.Selection{Sites: in.Sites, Agents: in.Agents, Targets: in.Targets, Tags: in.Tags, Labels: in.Labels}, IncidentsOnly: in.IncidentsOnly, Severity: in.Severity, Hours: in.Hours, Zone: in.Zone, Holidays: in.Holidays, Most: in.Most}
	if o := in.Report; o != nil {
		r.Report = &notify.ReportOrder{Every: o.Every, At: o.At, Objective: o.Objective, Formats: o.Formats}
	}
	if in.Remind != "" {
		var d kind.Span
		if err := d.Set(in.Remind); err != nil {
			return r, &kind.Wrong{Field: "remind", Says: err.Error()}
		}
		r.Remind = time.Duration(d)
	}
	return r, nil
}

func ruleOf(r notify.Rule) apitype.Rule {
	out := apitype.Rule{ID: r.ID.String(), RuleSpec: apitype.RuleSpec{Name: r.Name, Channel: r.Channel, States: r.States, Sites: r.Sites, Agents: r.Agents, Targets: r.Targets, Tags: r.Tags, Labels: r.Labels, Severity: r.Severity, IncidentsOnly: r.IncidentsOnly, Hours: r.Hours, Zone: r.Zone, Holidays: r.Holidays, Most: r.Most}}
	if o := r.Report; o != nil {
		out.Report = &apitype.ReportOrder{Every: o.Every, At: o.At, Objective: o.Objective, Formats: o.Formats}
	}
	if r.Remind > 0 {
		out.Remind = brief(r.Remind)
	}
	return out
}

// brief writes a span without the zeros at its end: 4h, not 4h0m0s.
func brief(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

func (s *server) messages(ctx context.Context, in *listMessages) (*listed[apitype.Message], error) {
	page, err := in.page()
	if err != nil {
		return nil, err
	}
	f := store.MessageFilter{State: in.State, Page: page}
	if in.Rule != "" {
		r, err := s.c.Notify.Rule(in.Rule)
		if err != nil {
			return nil, err
		}
		f.Rule = r.ID
	}
	list, err := s.c.Store.Messages(ctx, f)
	if err != nil {
		return nil, err
	}
	out := make([]apitype.Message, len(list))
	var last store.Message
	channels, rules := s.c.Notify.Channels(), s.c.Notify.Rules()
	for i, m := range list {
		out[i] = messageOf(m, channels, rules)
		last = m
	}
	return pageOf(out, in.Paging, url.Values{"rule": {in.Rule}, "state": {in.State}}, last.At, last.ID), nil
}

func messageOf(m store.Message, channels []notify.Channel, rules []notify.Rule) apitype.Message {
	out := apitype.Message{ID: m.ID.String(), Rule: "(removed)", Channel: "(removed)", Subject: m.Subject.String(), What: m.What, At: m.At.UTC(), State: m.State, Tries: m.Tries, Error: m.Error, Title: m.Title}
	if i := slices.IndexFunc(channels, func(c notify.Channel) bool { return c.ID == m.ChannelID }); i >= 0 {
		out.Channel = channels[i].Name
	}
	if i := slices.IndexFunc(rules, func(r notify.Rule) bool { return r.ID == m.RuleID }); i >= 0 {
		out.Rule = rules[i].Name
	}
	if m.EndedAt != nil {
		out.EndedAt = utc(*m.EndedAt)
	} else if m.State == store.Waiting && m.Tries > 0 {
		out.NextAt = utc(m.DueAt)
	}
	out.Text, out.Data = notify.Read(m)
	return out
}
