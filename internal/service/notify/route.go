package notify

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

const (
	mattersAtOnce = 2000
	// together is how many that open within a while may be one incident: it is waited until that
	// is known.
	together = 3
	// incidentIn is how long that takes at the most, usually.
	incidentIn = guard.LookDelay + 30*time.Second
	// past is how long ago something may have happened and still be news.
	past = 24 * time.Hour
)

// told is what messages say of something.
type told struct {
	about
	title, text string
	body        Body
}

// letter is a message's text and the same for machines, as they are kept.
type letter struct {
	Text string          `json:"text"`
	Data json.RawMessage `json:"data"`
	// Report is made as it is handed over.
	Report *madeOf `json:"report,omitempty"`
}

func (t told) letter() (string, error) {
	data, err := json.Marshal(t.body)
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(letter{Text: t.text, Data: data})
	return string(b), err
}

// Body is what a message says for machines.
type Body struct {
	What      string     `json:"what"`
	Kind      string     `json:"kind"` // degraded, lost, incident
	ID        string     `json:"id"`   // of the episode or incident
	PathID    string     `json:"path_id,omitempty"`
	From      string     `json:"from,omitempty"`
	To        string     `json:"to,omitempty"`
	Family    int        `json:"family,omitempty"`
	Via       string     `json:"via,omitempty"`
	BeganAt   time.Time  `json:"began_at"`
	ToldAt    time.Time  `json:"told_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Sentence  string     `json:"sentence"`
	Advice    string     `json:"advice,omitempty"`
	Paths     []string   `json:"paths,omitempty"` // of an incident
	Messages  []string   `json:"messages,omitempty"`
	PathCount int        `json:"path_count,omitempty"`
}

// route makes messages of the matters that wait.
func (x *Notify) route(ctx context.Context, now time.Time) error {
	list, err := x.Store.Matters(ctx, mattersAtOnce)
	if err != nil || len(list) == 0 {
		return err
	}
	rules := x.Rules()
	opening := 0
	for _, m := range list {
		if m.PathID != nil && m.What == string(guard.Opened) && now.Sub(m.MadeAt) < 2*guard.LookDelay {
			opening++
		}
	}
	known, err := x.Incidents.Told(ctx, now.Add(-past), now.Add(time.Hour))
	if err != nil {
		return err
	}
	of := selection.New(x.Paths, x.Fleet, x.Watches)
	waits := map[ident.ID]bool{} // subjects
	var done []ident.ID
	var messages []store.Message
	for _, m := range list {
		if waits[m.Subject] || len(rules) > 0 && x.mayBeOneOfMany(m, known, opening, now) {
			waits[m.Subject] = true
			continue
		}
		done = append(done, m.ID)
		if now.Sub(m.At) > past || len(rules) == 0 {
			continue
		}
		some, err := x.messagesOf(ctx, m, rules, known, of, messages, now)
		if err != nil {
			return err
		}
		messages = append(messages, some...)
	}
	return x.Store.Route(ctx, messages, done)
}

// mayBeOneOfMany reports whether it is to be waited for what else opens: then one message tells
// of all.
func (x *Notify) mayBeOneOfMany(m store.Matter, known []incidents.Incident, opening int, now time.Time) bool {
	if m.PathID == nil || m.What != string(guard.Opened) {
		return false
	}
	age := now.Sub(m.MadeAt)
	return age < x.Gather || opening >= together && age < x.Patience && x.incidentOf(m, known) == nil
}

// incidentOf is the incident that an episode is part of; nil when it is of none.
func (x *Notify) incidentOf(m store.Matter, known []incidents.Incident) *incidents.Incident {
	p := x.Paths.ByID(*m.PathID)
	if p == nil {
		return nil
	}
	number, ok := p.NumberOf(m.Subject)
	if !ok {
		return nil
	}
	key := x.Paths.Key(p)
	for i := range known {
		if known[i].Has(key, number) {
			return &known[i]
		}
	}
	return nil
}

// messagesOf are the messages that a matter makes: one for each rule that takes it. Of what was
// not told as it opened nothing is told later.
func (x *Notify) messagesOf(ctx context.Context, m store.Matter, rules []Rule, known []incidents.Incident, of selection.Known, before []store.Message, now time.Time) (out []store.Message, err error) {
	var t told
	if m.PathID == nil {
		i := slices.IndexFunc(known, func(i incidents.Incident) bool { return i.ID == m.Subject })
		if i < 0 {
			return nil, nil
		}
		t = x.ofIncident(m, known[i], of)
	} else {
		row, err := x.Store.EpisodeByID(ctx, m.Subject)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		var shared *guard.Incident
		if i := x.incidentOf(m, known); i != nil {
			shared = &i.Incident
		}
		t = x.ofEpisode(m, paths.EpisodeOf(row), shared, of, now)
	}
	body, err := t.letter()
	if err != nil {
		return nil, err
	}
	for _, r := range rules {
		c, err := x.Channel(r.Channel)
		if err != nil || r.Report != nil || !r.takes(t.about) || r.IncidentsOnly && m.PathID != nil {
			continue
		}
		earlier, err := x.Store.Messages(ctx, store.MessageFilter{Subject: m.Subject, Rule: r.ID, Page: store.Page{Limit: 1}})
		if err != nil {
			return nil, err
		}
		for _, b := range before {
			if b.Subject == m.Subject && b.RuleID == r.ID {
				earlier = []store.Message{b}
			}
		}
		first := len(earlier) == 0
		// What was not bad enough as it opened is told once it is.
		news := m.What == string(guard.Opened) || m.What == string(guard.Worse) && r.Severity > 0
		if first && (!news || t.severity < r.Severity || m.PathID != nil && x.incidentOf(m, known) != nil) {
			continue
		}
		// Each has a moment of its own, later than those before it: they are handed over in this order.
		at := now.UTC().Truncate(time.Microsecond).Add(time.Duration(len(before)+len(out)) * time.Microsecond)
		msg := store.Message{ID: idOf(m.ID, r.ID), RuleID: r.ID, ChannelID: c.ID, Subject: m.Subject, What: m.What, At: at, DueAt: now.UTC(), State: store.Waiting, Title: t.title, Body: body}
		if !first {
			msg.Turn = earlier[0].Turn + 1
			if after := earlier[0].At.Add(time.Microsecond); after.After(at) { // a clock was set back
				msg.At = after.UTC()
			}
		}
		holds, err := x.holds(ctx, r, append(slices.Clone(before), out...), now)
		if err != nil {
			return nil, err
		}
		if holds {
			msg.State = store.Held
		}
		out = append(out, msg)
	}
	return out, nil
}

// holds reports whether a rule's messages wait: at hours that are quiet, and once there were as
// many in a minute as may be.
func (x *Notify) holds(ctx context.Context, r Rule, before []store.Message, now time.Time) (bool, error) {
	if x.quiet(r, now) {
		return true, nil
	}
	most := r.Most
	if most == 0 {
		most = UsualMost
	}
	list, err := x.Store.Messages(ctx, store.MessageFilter{Rule: r.ID, Since: now.Add(-time.Minute), Page: store.Page{Limit: most + 1}})
	if err != nil {
		return false, err
	}
	n := len(list)
	for _, b := range before {
		if b.RuleID == r.ID {
			n++
		}
	}
	return n >= most, nil
}

// idOf is the identifier of a message: the same, however often it is made.
func idOf(parts ...ident.ID) (id ident.ID) {
	h := sha256.New()
	for _, p := range parts {
		h.Write(p[:])
	}
	copy(id[:], h.Sum(nil))
	id[6], id[8] = id[6]&0x0f|0x80, id[8]&0x3f|0x80 // version 8: by a rule of its own (RFC 9562, section 5.8)
	return id
}

var words = map[string]string{"opened": "", "resumed": "is back: ", "worse": "got worse: ", "easing": "is easing: ", "closed": "is over: ", "settled": "has become a new level: ", "accepted": "was accepted as normal: ", "crept": "is a step of what creeps on: ", "reminder": "goes on: "}

// ofEpisode is what is said of an episode.
func (x *Notify) ofEpisode(m store.Matter, e paths.Episode, shared *guard.Incident, of selection.Known, now time.Time) told {
	p := x.Paths.ByID(e.Path)
	if p == nil {
		return told{}
	}
	name := x.Fleet.NameOf(p.AgentID)
	a := about{[]string{string(e.Kind)}, severityOf(e), of.Path(p)}
	found := finding.OfEpisode(finding.Told{Episode: e.Episode, Zone: x.Zone, Now: now, Why: finding.Why{Route: e.Route, Seen: e.Seen, Shared: shared, Name: x.Devices.Call}})
	body := Body{What: m.What, Kind: string(e.Kind), ID: e.ID.String(), PathID: p.ID.String(), From: name, To: p.Target, Family: int(p.Family), Via: p.Via, BeganAt: e.From.UTC(), ToldAt: e.ToldAt.UTC()}
	if !e.Open() {
		to := e.To.UTC()
		body.EndedAt = &to
	}
	var text []string
	for i, f := range found {
		if i == 0 {
			body.Sentence, body.Advice = f.Sentence, f.Advice
		}
		text = append(text, f.Sentence)
	}
	if body.Advice != "" {
		text = append(text, body.Advice)
	}
	text = append(text, fmt.Sprintf("%s → %s, IPv%d by %s, began %s.", name, p.Target, p.Family, p.Via, e.From.In(x.Zone).Format("Mon 2 Jan 2006 15:04 MST")))
	return told{a, fmt.Sprintf("%s → %s %s%s", name, p.Target, words[m.What], body.Sentence), strings.Join(text, "\n"), body}
}

// severityOf is how many times more than what is worth caring about an episode is worse.
func severityOf(e paths.Episode) float64 {
	if e.Kind == guard.Lost {
		return math.Inf(1)
	}
	return e.Severity()
}

// ofIncident is what is said of an incident. A rule takes it if it takes one of its paths.
func (x *Notify) ofIncident(m store.Matter, i incidents.Incident, of selection.Known) told {
	a := about{states: []string{string(guard.Degraded), string(guard.Lost)}}
	ids := x.Paths.IDs()
	for _, member := range i.Members {
		if p := x.Paths.ByID(ids[member.Path]); p != nil {
			a.About = a.And(of.Path(p))
			for _, number := range member.Episodes {
				if e, known := p.Numbered(number); known {
					a.severity = max(a.severity, severityOf(e))
				}
			}
		}
	}
	body := Body{What: m.What, Kind: "incident", ID: i.ID.String(), BeganAt: i.From.UTC(), ToldAt: i.ToldAt.UTC(), Sentence: i.Finding.Sentence, Advice: i.Finding.Advice, PathCount: len(i.Members)}
	if !i.Open() {
		to := i.To.UTC()
		body.EndedAt = &to
	}
	text := []string{i.Finding.Sentence, i.Finding.Advice}
	for n, member := range i.Members {
		line := fmt.Sprintf("%s → %s", member.Path.From, member.Path.To)
		body.Paths = append(body.Paths, line)
		if n < 50 {
			text = append(text, "  "+line)
		}
	}
	if n := len(i.Members); n > 50 {
		text = append(text, fmt.Sprintf("  and %d more", n-50))
	}
	said := words[m.What]
	if !i.Stands() {
		said = "was taken back, another segment explains all its paths: "
	}
	return told{a, "Incident " + said + i.Finding.Sentence, strings.Join(text, "\n"), body}
}

// Read is what a message says: its text, and the same for machines.
func Read(m store.Message) (text string, data json.RawMessage) {
	var l letter
	if json.Unmarshal([]byte(m.Body), &l) != nil || l.Data == nil {
		l.Data = json.RawMessage("{}")
	}
	return l.Text, l.Data
}
