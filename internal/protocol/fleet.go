package protocol

import (
	"encoding/json"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
)

// Plan is all that an agent on another machine is to do by itself.
type Plan struct {
	Tasks    []Task     `json:"tasks"`
	Standing []Standing `json:"standing"` // one of each watch, or of each target of it
	// Tickets let near ends in that measure with this agent while the service is away.
	Tickets []Ticket `json:"tickets,omitempty"`
	// Follow are the programs whose conversations it is to tell of.
	Follow []Follow `json:"follow,omitempty"`
}

// CommandKind is what an agent is told to do now.
type CommandKind string

// The kinds.
const (
	FetchPlan   CommandKind = "plan" // its plan is another: it fetches it
	TellState   CommandKind = "standing"
	ExpectGuest CommandKind = "expect" // it lets in who has a ticket, as the far end
	DoRun       CommandKind = "run"    // a measurement of any kind
	DoLocate    CommandKind = "locate" // resolve targets
	StopCommand CommandKind = "stop"   // it ends the command that Body names
	StillThere  CommandKind = "still-there"
)

// Command is one thing to do, over the connection that an agent holds.
type Command struct {
	ID    ident.ID        `json:"id"`
	Kind  CommandKind     `json:"kind"`
	Limit time.Duration   `json:"limit"` // after which nobody waits for it
	Body  json.RawMessage `json:"body,omitempty"`
}

// Reply is what an agent says to a command: any number that tell how far it is, and one
// that is the last.
type Reply struct {
	Command ident.ID        `json:"command"`
	Last    bool            `json:"last"`
	Body    json.RawMessage `json:"body,omitempty"`
	Error   string          `json:"error,omitempty"`
}

// Health is what an agent says of itself now and then.
type Health struct {
	Version  string     `json:"version"`
	System   string     `json:"system"`
	Clock    host.Clock `json:"clock"`
	Load     host.Load  `json:"load"`
	May      []string   `json:"may"`       // raw sockets, ICMP sockets, UDP …
	LateMs   *float64   `json:"late_ms"`   // how late its deadlines are in the mean; null when it sent nothing
	HeldBack int        `json:"held_back"` // readings that wait to be uploaded
	Dropped  int        `json:"dropped"`   // readings that its full spool had to drop, the oldest first
	SetAside int        `json:"set_aside"` // things in its folder that the service never takes, or that are damaged
	// AsideReason is why the newest of them was set aside.
	AsideReason string    `json:"aside_reason,omitempty"`
	Responder   string    `json:"responder"`  // address and port at which it answers as a far end; empty when it does not
	Addresses   []string  `json:"addresses"`  // of its machine
	Limits      string    `json:"limits"`     // that its owner set, in words; empty when none
	StartedAt   time.Time `json:"started_at"` // of the program
}

// Ticket lets a near end in at a far end, for one measurement or for all that a plan has it make.
type Ticket struct {
	Name string        `json:"name"`
	Key  []byte        `json:"key"`
	From ident.ID      `json:"from"` // the agent that it is for
	Time time.Duration `json:"time"` // of a session
	Rate float64       `json:"rate"` // bits a second of datagrams; no limit of its own when 0
	TCP  bool          `json:"tcp"`
	Ends time.Time     `json:"ends,omitzero"` // zero for one that lasts as long as the plan that it stands in
}

// TwoEnded is one that was made, or is going on.
type TwoEnded struct {
	ID                     ident.ID
	Watch                  ident.ID
	Far                    ident.ID
	Target                 string
	Kind                   string
	Started, Ended         time.Time
	Outcome                Outcome
	Reason                 string
	ThereBps, BackBps, MOS *float64
	SentBytes              int64
	Report                 json.RawMessage // nil as long as there is none
}

// Findings are those of its report.
func (t TwoEnded) Findings() []finding.Finding {
	var r struct{ Findings []finding.Finding }
	_ = json.Unmarshal(t.Report, &r)
	return r.Findings
}

// FarEnder is the part of a hand that is a far end for others.
type FarEnder interface {
	// Expect lets in who has a ticket, as the far end, and returns where. The error says
	// why it is no far end.
	Expect(t Ticket) (address string, err error)
}
