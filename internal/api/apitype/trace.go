package apitype

import (
	"time"

	"woodlark.example/core/finding"
)

// Trace is a trace that was made, or is going on.
type Trace struct {
	ID        string               `json:"id"`
	Watch     string               `json:"watch,omitempty"`
	From      string               `json:"from"`
	To        string               `json:"to"`
	Family    int                  `json:"family"`
	Via       string               `json:"via"`
	StartAt   time.Time            `json:"started_at"`
	EndedAt   *time.Time           `json:"ended_at"`
	Outcome   string               `json:"outcome" enum:"running,done,failed,missed,cancelled"`
	Reason    string               `json:"reason"`
	Reached   bool                 `json:"reached"`
	Changed   bool                 `json:"changed" doc:"It differs from the usual route"`
	Hops      int                  `json:"hop_count"`
	RTTMs     *float64             `json:"rtt_median_ms"`
	LossRatio *float64             `json:"loss_ratio"`
	Route     string               `json:"route" doc:"The same for traces that found the same route; empty when none was found"`
	Heard     int                  `json:"heard" doc:"Probes whose fate is known, while it runs"`
	Report    *finding.TraceReport `json:"report,omitempty" doc:"Left out in lists, and as long as there is none"`
}

// SeenRoute is a distinct route of a path.
type SeenRoute struct {
	Route     string    `json:"route"`
	Via       string    `json:"via"`
	Hops      []string  `json:"hops" doc:"Addresses by TTL; several with |, - where nobody answers, ~ where each packet goes its own way"`
	FirstAt   time.Time `json:"first_at"`
	LastAt    time.Time `json:"last_at"`
	Times     int       `json:"times"`
	LastTrace string    `json:"last_trace_id"`
	Usual     bool      `json:"usual" doc:"Seen most often in the last 14 days"`
}

// Lanes are the hops of a path over time.
type Lanes struct {
	Via     string           `json:"via" doc:"What the traces went by; empty when there are none"`
	FromAt  time.Time        `json:"from_at"`
	ToAt    time.Time        `json:"to_at"`
	Columns []LaneColumn     `json:"columns" doc:"One a trace, the oldest first"`
	Names   map[string]Owned `json:"names,omitempty" doc:"By address, of what the newest traces know"`
	Changes []LaneChange     `json:"changes" doc:"Where the route became another"`
}

// LaneColumn is what one trace found at each hop.
type LaneColumn struct {
	At    time.Time  `json:"at"`
	Route string     `json:"route"`
	Hops  []LaneCell `json:"hops"`
}

// LaneCell is one hop of a column.
type LaneCell struct {
	TTL       int      `json:"ttl"`
	Addresses []string `json:"addresses" doc:"The one with the most flows first; none when nobody answered"`
	Probes    int      `json:"probes"`
	Answered  int      `json:"answered"`
	RTTMs     *float64 `json:"rtt_median_ms"`
	AddedMs   *float64 `json:"added_ms" doc:"Delay that it adds and that carries on"`
	Carried   *float64 `json:"carried_loss_ratio"`
}

// Owned is what is known of an address.
type Owned struct {
	Name    string `json:"name"`
	Owner   string `json:"owner"`
	Segment string `json:"segment"`
}

// LaneChange is a moment from which on another route was seen.
type LaneChange struct {
	Before time.Time `json:"before_at" doc:"When the route before was last seen: it changed in between"`
	At     time.Time `json:"at"`
	From   string    `json:"from_route"`
	To     string    `json:"to_route"`
	StepMs *float64  `json:"step_ms" doc:"Of the round trip to the last hop, of the traces before and after"`
}
