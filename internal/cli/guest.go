package cli

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/client"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

var guestCommand = command{
	name: "guest", summary: "links by which somebody outside sees one thing, or measures from a browser, until a date",
	usage: "[list]\nadd path -from AGENT -to TARGET -title TITLE -until TIME [options]\nadd incident ID … \nadd run ID …\nadd board NAME …\nadd report [-tags …] …\nadd readiness -need NEED [-seats N] …\nvisits [ID]\nopenings ID\nend ID",
	example: "woodlark guest add path -from northquay -to terminal.holm.example -title 'Holm, for Kelpnet' -until '2026-12-24 18:00' -last 7d\n" +
		"woodlark guest add report -tags islands -last 7d -title 'The islands' -until '2026-12-24 18:00' -passphrase @phrase -frozen\n" +
		"woodlark guest add readiness -need calls -seats 12 -title 'Is Gannet Bay fit for calls?' -until 7d\nwoodlark guest visits\nwoodlark guest",
	more: "The link is shown once: only its hash is kept. It shows that one thing and lets nothing be changed.\nWithout -frozen it shows how things are when it is opened. A passphrase that begins with @ is the\ncontent of a file. By a link of a readiness test the visitor's browser measures the way to this\nservice, with nothing installed: round trip, rates over HTTP, and packets each way; 'woodlark guest\nvisits' shows what came of it.",
	run:  runGuest,
}

type guestOptions struct {
	spec                                apitype.GuestLinkSpec
	one                                 onePath
	until, phrase, last, between, notes string
	need                                string
	of                                  chosen
}

func runGuest(c *call) error {
	var o guestOptions
	c.withFormat()
	c.withService()
	f := c.flags
	c.withOnePath(&o.one, "of add path: ")
	f.StringVar(&o.spec.Title, "title", "", "of add: title of the page")
	f.StringVar(&o.notes, "notes", "", "of add: text shown above all else, or @FILE")
	f.StringVar(&o.until, "until", "", "of add: when the link ends, such as '2026-12-24 18:00' or 7d")
	f.StringVar(&o.phrase, "passphrase", "", "of add: asked for of who opens it, or @FILE; none when left out")
	f.BoolVar(&o.spec.Frozen, "frozen", false, "of add: it goes on showing what is so now")
	f.StringVar(&o.last, "last", "", "of add path and report: how far back from when it is opened, such as 24h or 7d; 24h when left out")
	f.StringVar(&o.between, "between", "", "of add path and report: of this time: FROM,TO")
	f.StringVar(&o.spec.Objective, "objective", "", "of add: hold paths against this objective")
	f.StringVar(&o.need, "need", "", "of add readiness: what the place has to be fit for: calls, meetings, remote-desk, file-work, kiosk, or a FILE")
	f.IntVar(&o.spec.Seats, "seats", 0, "of add readiness: how many use it at once")
	c.withChoice(&o.of, "of add report: ")
	if err := c.parse(); err != nil {
		return err
	}
	verb, args := "list", c.args
	if len(args) > 0 {
		verb, args = args[0], args[1:]
	}
	all := "from to family via title notes until passphrase frozen last between objective need seats sites agents targets tags labels"
	if err := c.belong(verb, map[string]string{"add": all}); err != nil {
		return err
	}
	api, err := c.client()
	if err != nil {
		return err
	}
	switch verb {
	case "list":
		if len(args) > 0 {
			return wrongCall("guest list has no use for %q", short(args[0]))
		}
		list := []apitype.GuestLink{}
		if err := api.Get(c.ctx, "/guest-links", nil, &list); err != nil {
			return err
		}
		return c.write(list, guestsRead(list).OrSay(len(list), "There is no guest link yet. 'woodlark guest add' makes one."))
	case "add":
		return c.addGuest(api, o, args)
	case "visits":
		return c.visits(api, args)
	case "openings", "end":
		if len(args) != 1 {
			return wrongCall("guest %s needs the identifier that 'woodlark guest' shows", verb)
		}
		if verb == "end" {
			return api.Do(c.ctx, http.MethodDelete, "/guest-links/"+client.Segment(args[0]), nil, nil)
		}
		return c.guestOpenings(api, args[0])
	}
	return wrongCall("%q is none of list, add, visits, openings, end", short(verb))
}

// given is a text, or what a file that is named with @ holds.
func given(option, text string) (string, error) {
	name, is := strings.CutPrefix(text, "@")
	if !is {
		return text, nil
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return "", wrongCall("-%s: %v", option, err)
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

func (c *call) addGuest(api *client.Client, o guestOptions, args []string) (err error) {
	if len(args) == 0 {
		return wrongCall("say of what: path, incident, readiness, report, board or run")
	}
	o.spec.What = args[0]
	most := 1
	if which := map[string]string{"incident": "ID", "run": "ID", "board": "NAME"}[o.spec.What]; which != "" {
		if most = 2; len(args) < 2 {
			return wrongCall("say which: add %s %s", o.spec.What, which)
		}
		o.spec.ID = args[1]
	}
	if len(args) > most {
		return wrongCall("guest add %s has no use for %q", short(o.spec.What), short(args[most]))
	}
	switch {
	case o.spec.What == "path" && o.one.none():
		return wrongCall("say which path: -from AGENT -to TARGET")
	case o.spec.What == "path":
		if o.spec.ID, err = o.one.id(c, api); err != nil {
			return err
		}
	case !o.one.none():
		return wrongCall("-from, -to, -via and -family are of 'guest add path'")
	}
	if o.spec.Need, err = needText(o.need); err != nil {
		return err
	}
	if err := o.times(time.Now()); err != nil {
		return err
	}
	if o.spec.Notes, err = given("notes", o.notes); err != nil {
		return err
	}
	if o.spec.Passphrase, err = given("passphrase", o.phrase); err != nil {
		return err
	}
	o.spec.Sites, o.spec.Agents, o.spec.Targets, o.spec.Tags, o.spec.Labels = list(o.of.sites), list(o.of.agents), list(o.of.targets), list(o.of.tags), list(o.of.labels)
	var made apitype.GuestLink
	if err := api.Do(c.ctx, http.MethodPost, "/guest-links", o.spec, &made); err != nil {
		return err
	}
	var doc document.Document
	doc.Say("%s", document.Strong(api.Base()+made.Path))
	doc.Say("%s", document.Faint(fmt.Sprintf("It is shown this once. It ends on %s; 'woodlark guest end %s' ends it at once.", made.EndsAt.In(zone()).Format("Mon 2 Jan 2006 15:04 MST"), made.LinkID)))
	doc.Records = document.RecordsOf([]string{"link", "url", "ends_at"}, [][]string{{made.LinkID, api.Base() + made.Path, made.EndsAt.UTC().Format(time.RFC3339)}})
	return c.write(made, doc)
}

// times reads until when a link is, and of which time.
func (o *guestOptions) times(now time.Time) (err error) {
	if o.until == "" {
		return wrongCall("say until when: -until TIME")
	}
	if span, err := readSpan(o.until); err == nil {
		o.spec.EndsAt = now.Add(span)
	} else if o.spec.EndsAt, err = parseWhen(o.until, now, zone()); err != nil {
		return wrongCall("-until: %v", err)
	}
	if o.last != "" {
		span, err := readSpan(o.last)
		if err != nil {
			return wrongCall("-last: %v", err)
		}
		o.spec.Last = span.String()
	}
	if o.between != "" {
		a, b, is := strings.Cut(o.between, ",")
		if !is {
			return wrongCall("-between %q: write two times with a comma between", short(o.between))
		}
		from, err := parseWhen(a, now, zone())
		if err != nil {
			return wrongCall("-between: %v", err)
		}
		to, err := parseWhen(b, now, zone())
		if err != nil {
			return wrongCall("-between: %v", err)
		}
		o.spec.FromAt, o.spec.ToAt = &from, &to
	}
	return nil
}

func guestsRead(links []apitype.GuestLink) document.Document {
	var rows, records [][]string
	for _, l := range links {
		how := "live"
		if l.Frozen {
			how = "frozen"
		}
		if l.Asks {
			how += ", passphrase"
		}
		state := l.State
		if state != "open" {
			state = document.Faint(state)
		}
		rows = append(rows, []string{l.Title, l.What, how, state, report.When(l.EndsAt, zone()), l.MadeBy, document.Faint(l.LinkID)})
		records = append(records, []string{l.LinkID, l.Title, l.What, l.ID, how, l.State, l.EndsAt.UTC().Format(time.RFC3339), l.MadeBy, l.MadeAt.UTC().Format(time.RFC3339)})
	}
	return document.Of(document.Table{Columns: []document.Column{{Name: "title"}, {Name: "of"}, {Name: "how"}, {Name: "state"}, {Name: "ends"}, {Name: "made by"}, {Name: ""}}, Rows: rows},
		document.RecordsOf([]string{"link", "title", "what", "subject", "how", "state", "ends_at", "made_by", "made_at"}, records))
}

func (c *call) guestOpenings(api *client.Client, id string) error {
	openings := []apitype.GuestOpening{}
	if err := api.Get(c.ctx, "/guest-links/"+client.Segment(id)+"/openings", nil, &openings); err != nil {
		return err
	}
	var rows, records [][]string
	for _, o := range openings {
		rows = append(rows, []string{report.When(o.At, zone()), o.Address, o.Outcome})
		records = append(records, []string{o.At.UTC().Format(time.RFC3339), o.Address, o.Outcome})
	}
	doc := document.Of(document.Table{Columns: []document.Column{{Name: "when"}, {Name: "from"}, {Name: "outcome"}}, Rows: rows}, document.RecordsOf([]string{"at", "address", "outcome"}, records))
	return c.write(openings, doc.OrSay(len(openings), "Nobody came by this link yet."))
}
