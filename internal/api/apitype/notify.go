package apitype

import (
	"encoding/json"
	"time"
)

// ChannelSpec is a way by which people are told.
type ChannelSpec struct {
	Name     string                     `json:"name"`
	Type     string                     `json:"type" doc:"webhook, mail, syslog; GET /channel-types says what each needs"`
	Settings map[string]json.RawMessage `json:"settings" doc:"Of its type. Secrets are taken, and not given back"`
}

// Channel is a channel, without its secrets.
type Channel struct {
	ID string `json:"id"`
	ChannelSpec
	Hidden []string `json:"hidden,omitempty" doc:"Settings that are there and not shown"`
}

// ChannelType is a kind of channel, and what it is set by.
type ChannelType struct {
	Name    string  `json:"name"`
	Summary string  `json:"summary"`
	Fields  []Field `json:"fields"`
}

// RuleSpec says who is told of what.
type RuleSpec struct {
	Name          string       `json:"name"`
	Channel       string       `json:"channel" doc:"Name of the channel"`
	States        []string     `json:"states,omitempty" enum:"degraded,lost" doc:"Of episodes; all when left out"`
	Sites         []string     `json:"sites,omitempty" doc:"At either end; all when left out"`
	Agents        []string     `json:"agents,omitempty" doc:"All when left out"`
	Targets       []string     `json:"targets,omitempty" doc:"All when left out"`
	Tags          []string     `json:"tags,omitempty" doc:"Of watches; all when left out"`
	Labels        []string     `json:"labels,omitempty" doc:"Of agents; all when left out"`
	Severity      float64      `json:"least_severity,omitempty" minimum:"0" doc:"How many times more than what is worth caring about something must be worse, such as 3; what is lost always is. All when left out"`
	IncidentsOnly bool         `json:"incidents_only,omitempty" doc:"Not of one path alone"`
	Hours         string       `json:"hours,omitempty" doc:"In which it is told, such as mon-fri 08:00-18:00; what comes at others is held back and told at their end. All when left out"`
	Zone          string       `json:"zone,omitempty" doc:"Whose hours; UTC when left out. Of reports and holidays those of the service when left out"`
	Holidays      string       `json:"holidays,omitempty" enum:"quiet,only" doc:"On days off of the service's settings: quiet, or told only then; as on other days when left out"`
	Remind        string       `json:"remind,omitempty" doc:"After how long it is told again that something goes on, such as 4h"`
	Report        *ReportOrder `json:"report,omitempty" doc:"A report now and then is all that is told"`
	Most          int          `json:"messages_per_minute_most,omitempty" doc:"Told one by one; more become a summary. Default 20"`
}

// ReportOrder is a report that is made now and then.
type ReportOrder struct {
	Every     string   `json:"every" enum:"daily,weekly,monthly" doc:"Of the day before, the week before (on Mondays) or the month before (on the first)"`
	At        string   `json:"at,omitempty" doc:"Of the day, such as 07:30; 07:00 when left out"`
	Objective string   `json:"objective,omitempty" doc:"That paths are held against"`
	Formats   []string `json:"formats,omitempty" enum:"text,html,pdf,csv,json" doc:"Of files, by channels that can hand them over; pdf when left out"`
}

// Rule is a rule.
type Rule struct {
	ID string `json:"id"`
	RuleSpec
}

// Message is what somebody was told, or is to be.
type Message struct {
	ID      string          `json:"id"`
	Rule    string          `json:"rule"`
	Channel string          `json:"channel"`
	Subject string          `json:"subject" doc:"Identifier of the episode or incident"`
	What    string          `json:"what" doc:"opened, worse, easing, closed, reminder, summary …"`
	At      time.Time       `json:"at"`
	State   string          `json:"state" enum:"waiting,held,summed,delivered,gave up"`
	Tries   int             `json:"tries"`
	NextAt  *time.Time      `json:"next_at,omitempty" doc:"When it is tried again"`
	EndedAt *time.Time      `json:"ended_at,omitempty"`
	Error   string          `json:"error,omitempty" doc:"Of the last try"`
	Title   string          `json:"title"`
	Text    string          `json:"text"`
	Data    json.RawMessage `json:"data" doc:"The same for machines, as a webhook gets it"`
}
