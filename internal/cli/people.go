package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var peopleCommand = command{
	name: "people", summary: "who may come in to the service, and as what",
	usage: "[list]\nadd NAME -role ROLE [-full-name TEXT] [-sites A,B] [-labels C,D]\nlink NAME\nchange NAME [-role ROLE] [-full-name TEXT] [-sites A,B] [-labels C,D] [-everything]\nend NAME\nreturn NAME\nsessions\nend-session ID",
	example: "woodlark people add marit -role engineer -full-name 'Marit Vold'\nwoodlark people link marit\nwoodlark people add jorunn -role viewer -sites Holm\n" +
		"woodlark people change marit -role administrator\nwoodlark people end marit",
	more: "Roles: viewer sees; engineer also measures, and makes watches, boards, notes and links; administrator\nalso lets in people and agents, and sets the ways by which people are told. 'link' shows a link that\nis good once, for seven days, by which somebody sets a passphrase; it is in place of one before.\n'end' ends sessions and tokens, too; who 'returns' has the passphrase as before.\n\nWith -sites and -labels somebody is let in for a part: agents at these sites or with these labels, and\npaths with either end there. They hear of nothing else, and measure from those agents only. Any of the\nwords is enough. 'change' with them puts them in place of those before, with -everything of all.",
	run:  runPeople,
}

func runPeople(c *call) error {
	var role, fullName string
	var part partAsked
	c.withFormat()
	c.withService()
	c.flags.StringVar(&role, "role", "", "of add and change: viewer, engineer or administrator")
	c.flags.StringVar(&fullName, "full-name", "", "of add and change: such as 'Marit Vold'")
	part.flags(c, "add and change")
	c.flags.BoolVar(&part.everything, "everything", false, "of change: let in for all sites and labels again")
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	if err := c.belong(verb, map[string]string{"add": "role full-name sites labels", "change": "role full-name sites labels everything"}); err != nil {
		return err
	}
	most := map[string]int{"list": 0, "sessions": 0, "add": 1, "link": 1, "change": 1, "end": 1, "return": 1, "end-session": 1}
	n, known := most[verb]
	switch {
	case !known:
		return wrongCall("%q is none of list, add, link, change, end, return, sessions, end-session", short(verb))
	case len(args) < n && verb == "end-session":
		return wrongCall("say which: people end-session ID, as 'woodlark people sessions' shows it")
	case len(args) < n:
		return wrongCall("say whom: people %s NAME", verb)
	case len(args) > n:
		return wrongCall("people %s has no use for %q", verb, short(args[n]))
	}
	scope, err := part.scope(c)
	if err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		list := []apitype.Person{}
		if err := api.Get(c.ctx, "/people", nil, &list); err != nil {
			return err
		}
		return c.write(list, peopleRead(list).OrSay(len(list), "Nobody is let in by name yet. 'woodlark people add' lets somebody in."))
	case "sessions":
		return c.sessions(api)
	case "end-session":
		return api.Do(c.ctx, http.MethodDelete, "/sessions/"+client.Segment(args[0]), nil, nil)
	case "link":
		return c.welcome(api, args[0])
	case "add":
		if role == "" {
			return wrongCall("say as what: -role viewer, engineer or administrator")
		}
		var p apitype.Person
		if err := api.Do(c.ctx, http.MethodPost, "/people", apitype.PersonSpec{Name: args[0], FullName: fullName, Role: role, Scope: scope}, &p); err != nil {
			return err
		}
		return c.welcome(api, p.Name)
	}
	var change apitype.PersonChange
	switch verb {
	case "change":
		if role == "" && len(c.given("full-name")) == 0 && scope == nil {
			return wrongCall("say what to change: -role, -full-name, -sites, -labels or -everything")
		}
		if role != "" {
			change.Role = &role
		}
		change.Scope = scope
		if len(c.given("full-name")) > 0 {
			change.FullName = &fullName
		}
	case "end", "return":
		ended := verb == "end"
		change.Ended = &ended
	}
	var p apitype.Person
	if err := api.Do(c.ctx, http.MethodPatch, "/people/"+client.Segment(args[0]), change, &p); err != nil {
		return err
	}
	return c.write(p, peopleRead([]apitype.Person{p}))
}

// welcome shows a one-time link of a person.
func (c *call) welcome(api *client.Client, name string) error {
	var made apitype.WelcomeLink
	if err := api.Do(c.ctx, http.MethodPost, "/people/"+client.Segment(name)+"/welcome", nil, &made); err != nil {
		return err
	}
	var doc document.Document
	doc.Say("%s", document.Strong(api.Base()+made.Path))
	doc.Say("%s", document.Faint(fmt.Sprintf("It is for %s, is good once, and until %s; it is shown this once.", made.Name, made.EndsAt.In(zone()).Format("Mon 2 Jan 2006 15:04 MST"))))
	doc.Records = document.RecordsOf([]string{"name", "url", "ends_at"}, [][]string{{made.Name, api.Base() + made.Path, made.EndsAt.UTC().Format(time.RFC3339)}})
	return c.write(made, doc)
}

func peopleRead(list []apitype.Person) document.Document {
	var rows, records [][]string
	for _, p := range list {
		state := map[string]string{"open": "may come in", "asked": "has set no passphrase", "ended": "ended"}[p.State]
		if p.State != "open" {
			state = document.Faint(state)
		}
		rows = append(rows, []string{p.Name, p.FullName, roleRead(p.Role, p.Scope), state, seen(p.LastSeenAt), p.CreatedBy})
		records = append(records, []string{p.ID, p.Name, p.FullName, p.Role, p.State, instant(p.LastSeenAt), p.CreatedBy, p.CreatedAt.UTC().Format(time.RFC3339), scopeRecord(p.Scope, true), scopeRecord(p.Scope, false)})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "name"}, {Name: "who"}, {Name: "role"}, {Name: "state"}, {Name: "signed in"}, {Name: "let in by"}}, Rows: rows},
		document.RecordsOf([]string{"id", "name", "full_name", "role", "state", "last_seen_at", "created_by", "created_at", "sites", "labels"}, records))
}

// seen is when something was last, in words.
func seen(at *time.Time) string {
	if at == nil {
		return document.Faint("never")
	}
	return report.When(*at, zone())
}

// instant is a time of a record; empty for none.
func instant(at *time.Time) string {
	if at == nil {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}

func (c *call) sessions(api *client.Client) error {
	list := []apitype.SignedIn{}
	if err := api.Get(c.ctx, "/sessions", nil, &list); err != nil {
		return err
	}
	var rows, records [][]string
	for _, s := range list {
		rows = append(rows, []string{s.Name, s.Way, report.When(s.BeganAt, zone()), report.When(s.LastSeenAt, zone()), report.When(s.EndsAt, zone()), s.Address, document.Faint(s.ID)})
		records = append(records, []string{s.ID, s.Name, s.Way, s.BeganAt.UTC().Format(time.RFC3339), s.LastSeenAt.UTC().Format(time.RFC3339), s.EndsAt.UTC().Format(time.RFC3339), s.Address, s.Browser})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "name"}, {Name: "by"}, {Name: "began"}, {Name: "seen"}, {Name: "ends"}, {Name: "from"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"id", "name", "way", "began_at", "last_seen_at", "ends_at", "address", "browser"}, records))
	return c.write(list, doc.OrSay(len(list), "Nobody is signed in to the console."))
}

// partAsked is the part that somebody, or a token, is for.
type partAsked struct {
	sites, labels string
	everything    bool
}

func (p *partAsked) flags(c *call, of string) {
	c.flags.StringVar(&p.sites, "sites", "", "of "+of+": for these sites only, with commas between")
	c.flags.StringVar(&p.labels, "labels", "", "of "+of+": for agents with these labels only, with commas between")
}

// scope is what was asked for; nil for nothing.
func (p *partAsked) scope(c *call) (*apitype.Scope, error) {
	given := len(c.given("sites", "labels")) > 0
	switch {
	case p.everything && given:
		return nil, wrongCall("-everything goes without -sites and -labels")
	case p.everything:
		return &apitype.Scope{}, nil
	case !given:
		return nil, nil
	}
	s := &apitype.Scope{Sites: list(p.sites), Labels: list(p.labels)}
	if len(s.Sites)+len(s.Labels) == 0 {
		return nil, wrongCall("-sites and -labels are words with commas between; 'people change NAME -everything' lets in for all")
	}
	return s, nil
}

// roleRead is a role, and what it is for.
func roleRead(role string, s *apitype.Scope) string {
	if s == nil {
		return role
	}
	return role + " for " + strings.Join(append(slices.Clone(s.Sites), s.Labels...), ", ")
}

func scopeRecord(s *apitype.Scope, sites bool) string {
	switch {
	case s == nil:
		return ""
	case sites:
		return strings.Join(s.Sites, ",")
	}
	return strings.Join(s.Labels, ",")
}

var tokensCommand = command{
	name: "tokens", summary: "keys of programs that call the service, each of a person",
	usage: "[list]\nadd TITLE [-of NAME] [-role ROLE] [-sites A,B] [-labels C,D] [-until TIME]\nend ID",
	example: "woodlark tokens add 'nightly export' -of marit -until 90d\nwoodlark tokens add 'the wall in the office' -of marit -role viewer\n" +
		"woodlark tokens",
	more: "A token is shown once: only its hash is kept. It may do no more than its person, ends when they\nend, and is a viewer's without -role. Programs send it as 'Authorization: Bearer …'; the command line\ntakes it from WOODLARK_TOKEN. With -sites and -labels it is for a part, within that of its person, and\nmakes no other tokens.",
	run:  runTokens,
}

func runTokens(c *call) error {
	var spec apitype.TokenSpec
	var until string
	var part partAsked
	c.withFormat()
	c.withService()
	c.flags.StringVar(&spec.Person, "of", "", "of add: whose it is; yours when left out")
	c.flags.StringVar(&spec.Role, "role", "", "of add: viewer, engineer or administrator; viewer when left out")
	part.flags(c, "add")
	c.flags.StringVar(&until, "until", "", "of add: when it ends, such as '2026-12-24 18:00' or 90d; never when left out")
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	if err := c.belong(verb, map[string]string{"add": "of role sites labels until"}); err != nil {
		return err
	}
	most := map[string]int{"list": 0, "add": 1, "end": 1}
	n, known := most[verb]
	switch {
	case !known:
		return wrongCall("%q is none of list, add, end", short(verb))
	case len(args) < n && verb == "add":
		return wrongCall("say what it is for: tokens add TITLE")
	case len(args) < n:
		return wrongCall("say which: tokens end ID, as 'woodlark tokens' shows it")
	case len(args) > n:
		return wrongCall("tokens %s has no use for %q", verb, short(args[n]))
	}
	if until != "" {
		now := time.Now()
		at := now
		if span, err := readSpan(until); err == nil {
			at = now.Add(span)
		} else if at, err = parseWhen(until, now, zone()); err != nil {
			return wrongCall("-until: %v", err)
		}
		spec.EndsAt = &at
	}
	scope, err := part.scope(c)
	if err != nil {
		return err
	}
	spec.Scope = scope
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "add":
		spec.Title = args[0]
		var made apitype.Token
		if err := api.Do(c.ctx, http.MethodPost, "/tokens", spec, &made); err != nil {
			return err
		}
		var doc document.Document
		doc.Say("%s", document.Strong(made.Key))
		doc.Say("%s", document.Faint(fmt.Sprintf("It is shown this once. It is %s's, as %s; 'woodlark tokens end %s' ends it at once.", made.Name, roleRead(made.Role, made.Scope), made.ID)))
		doc.Records = document.RecordsOf([]string{"id", "key", "name", "role", "ends_at"}, [][]string{{made.ID, made.Key, made.Name, made.Role, instant(made.EndsAt)}})
		return c.write(made, doc)
	case "end":
		return api.Do(c.ctx, http.MethodDelete, "/tokens/"+client.Segment(args[0]), nil, nil)
	}
	list := []apitype.Token{}
	if err := api.Get(c.ctx, "/tokens", nil, &list); err != nil {
		return err
	}
	var rows, records [][]string
	for _, t := range list {
		ends := "never"
		if t.EndsAt != nil {
			ends = report.When(*t.EndsAt, zone())
		}
		used := seen(t.LastUsedAt)
		if t.UsedFrom != "" {
			used += " from " + t.UsedFrom
		}
		state := t.State
		if state != "open" {
			state = document.Faint(state)
		}
		rows = append(rows, []string{t.Title, t.Name, roleRead(t.Role, t.Scope), state, ends, used, document.Faint(t.ID)})
		records = append(records, []string{t.ID, t.Title, t.Name, t.Role, t.State, t.CreatedAt.UTC().Format(time.RFC3339), instant(t.EndsAt), instant(t.LastUsedAt), t.UsedFrom, scopeRecord(t.Scope, true), scopeRecord(t.Scope, false)})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "for"}, {Name: "whose"}, {Name: "role"}, {Name: "state"}, {Name: "ends"}, {Name: "used"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"id", "title", "name", "role", "state", "created_at", "ends_at", "last_used_at", "used_from", "sites", "labels"}, records))
	return c.write(list, doc.OrSay(len(list), "There is no token of a person. 'woodlark tokens add' makes one."))
}

var auditCommand = command{
	name: "audit", summary: "who changed what, from where and when; the newest first",
	usage:   "[options]",
	example: "woodlark audit\nwoodlark audit -who marit -last 7d\nwoodlark audit -all -format csv > audit.csv",
	more:    "Lines are added and never changed; they are kept for 400 days. -format json and csv have what was\nbefore and after.",
	run:     runAudit,
}

func runAudit(c *call) error {
	var who, what, last string
	var all bool
	most := 50
	c.withFormat()
	c.withService()
	c.flags.StringVar(&who, "who", "", "of whom: a name")
	c.flags.StringVar(&what, "what", "", "of what kind, such as watch_removed")
	c.flags.StringVar(&last, "last", "", "how far back, such as 7d")
	c.flags.IntVar(&most, "most", most, "so many lines")
	c.flags.BoolVar(&all, "all", false, "all lines")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("audit has no use for %q", short(c.args[0]))
	}
	if most < 1 || all && len(c.given("most")) > 0 {
		return wrongCall("-most is 1 or more, and goes without -all")
	}
	since := time.Time{}
	if last != "" {
		span, err := readSpan(last)
		if err != nil {
			return wrongCall("-last: %v", err)
		}
		since = time.Now().Add(-span)
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	list := []apitype.Change{}
	query := url.Values{}
	for key, value := range map[string]string{"who": who, "what": what} {
		if value != "" {
			query.Set(key, value)
		}
	}
	if !since.IsZero() {
		query.Set("since", since.UTC().Format(time.RFC3339Nano))
	}
	for all || len(list) < most {
		const page = 500
		limit := page
		if !all {
			limit = min(page, most-len(list))
		}
		query.Set("limit", strconv.Itoa(limit))
		var more []apitype.Change
		if err := api.Get(c.ctx, "/changes", query, &more); err != nil {
			return err
		}
		if list = append(list, more...); len(more) < limit {
			break
		}
		end := more[len(more)-1]
		query.Set("before_at", end.At.Format(time.RFC3339Nano))
		query.Set("before_id", end.ID)
	}
	var rows, records [][]string
	for _, x := range list {
		rows = append(rows, []string{report.When(x.At, zone()), x.Who, x.What, x.Name})
		records = append(records, []string{x.At.UTC().Format(time.RFC3339Nano), x.Who, x.What, x.Name, string(x.Detail), x.ID})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "when"}, {Name: "who"}, {Name: "what"}, {Name: "of"}}, Rows: rows},
		document.RecordsOf([]string{"at", "who", "what", "name", "detail", "id"}, records))
	return c.write(list, doc.OrSay(len(list), "Nothing was changed that is told here."))
}
