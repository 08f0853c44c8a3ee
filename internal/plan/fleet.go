package plan

import (
	"context"
	"encoding/json"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/host"
	"woodlark.example/internal/ident"
)

// Plan is all that an agent on another machine is to do by itself.
type Plan struct {
	Tasks  []Task      `json:"tasks"`
	Sweeps []SweepTask `json:"sweeps"`
	Traces []TraceTask `json:"traces"`
}

// CommandKind is what an agent is told to do now.
type CommandKind string

// The kinds.
const (
	FetchPlan   CommandKind = "plan" // its plan is another: it fetches it
	DoMeasure   CommandKind = "measure"
	DoSweep     CommandKind = "sweep"
	DoTrace     CommandKind = "trace"
	DoWalk      CommandKind = "walk"
	TellState   CommandKind = "standing"
	DoTwoEnded  CommandKind = "two-ended"
	ExpectGuest CommandKind = "expect" // it lets in who has a ticket, as the far end
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

// HeardProbe is a probe of an order whose fate is known.
type HeardProbe struct {
	Path  int           `json:"path"`
	Probe reading.Probe `json:"probe"`
}

// HeardHop is a probe of a trace whose fate is known.
type HeardHop struct {
	Target int         `json:"target"`
	Probe  route.Probe `json:"probe"`
}

// SweepCommand is a sweep and the identifier that it is kept by.
type SweepCommand struct {
	ID    ident.ID   `json:"id"`
	Order SweepOrder `json:"order"`
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

// TwoEndedKind is what is measured between two ends.
type TwoEndedKind string

// The kinds.
const (
	Throughput TwoEndedKind = "throughput"
	Stream     TwoEndedKind = "stream"
)

// TwoEndedOrder is a measurement for an agent to make towards a far end.
type TwoEndedOrder struct {
	ID      ident.ID     `json:"id"`
	Kind    TwoEndedKind `json:"kind"`
	Target  string       `json:"target"`  // as it was asked for
	Address string       `json:"address"` // and port of the far end
	Far     ident.ID     `json:"far"`
	KeyName string       `json:"key_name"` // of the ticket
	Key     []byte       `json:"key"`
	Request TwoRequest   `json:"request"`
}

// TwoRequest is what to measure between two ends; what is empty is as usual.
type TwoRequest struct {
	Direction string        `json:"direction,omitempty"` // there, back, both; of throughput each, too
	For       time.Duration `json:"for,omitempty"`
	DSCP      uint8         `json:"dscp,omitempty"`
	Family    int           `json:"family,omitempty" enum:"0,4,6"` // of a far end that is a name; 4 before 6 when 0
	Rate      float64       `json:"rate_bps,omitempty"`            // of datagrams, bits of payload a second
	Size      int           `json:"payload_bytes,omitempty"`       // of a datagram
	// Of a stream:
	Codec    string        `json:"codec,omitempty"`
	Calls    int           `json:"calls,omitempty"`
	Interval time.Duration `json:"interval,omitempty"`
	Buffer   string        `json:"buffer,omitempty"` // fixed or adaptive
	// The far end is a STAMP or TWAMP-Light reflector, whose key is that of the
	// authenticated mode; Plain leaves the TLVs of RFC 8972 out.
	Reflector bool `json:"reflector,omitempty"`
	Plain     bool `json:"plain,omitempty"`
	// Of throughput:
	Protocol   string  `json:"protocol,omitempty"` // tcp or udp
	Streams    int     `json:"streams,omitempty"`
	Repeats    int     `json:"repeats,omitempty"`
	Congestion string  `json:"congestion,omitempty"`
	Window     int     `json:"window_bytes,omitempty"`
	Search     bool    `json:"search,omitempty"`
	LossLimit  float64 `json:"loss_limit_ratio,omitempty"`
	Yardstick  bool    `json:"yardstick,omitempty"`
	Line       float64 `json:"line_bps,omitempty"`
	NoExplain  bool    `json:"no_explain,omitempty"`
	Bytes      int64   `json:"bytes,omitempty"` // of TCP: end a stream after so many
	Burst      int     `json:"burst,omitempty"` // of UDP: packets that leave together
	// Of TCP, left out of the rates; two seconds when null and there is time for it.
	WarmUp *time.Duration `json:"warm_up,omitempty"`
}

// Ticket lets a near end in at a far end, for one measurement.
type Ticket struct {
	Name string        `json:"name"`
	Key  []byte        `json:"key"`
	From ident.ID      `json:"from"` // the agent that it is for
	Time time.Duration `json:"time"` // of a session
	Rate float64       `json:"rate"` // bits a second of datagrams; no limit of its own when 0
	TCP  bool          `json:"tcp"`
	Ends time.Time     `json:"ends"`
}

// TwoEnded is one that was made, or is going on.
type TwoEnded struct {
	ID                     ident.ID
	Watch                  ident.ID
	Far                    ident.ID
	Target                 string
	Kind                   TwoEndedKind
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

// TwoGoing is how far a measurement with two ends is.
type TwoGoing struct {
	Says    string  `json:"says"`        // which of its runs goes on
	Share   float64 `json:"share"`       // of that run, 0 to 1
	Seconds float64 `json:"seconds"`     // since that run began
	There   int64   `json:"there_bytes"` // of payload that arrived in it so far
	Back    int64   `json:"back_bytes"`
}

// TwoEnder is the part of a hand that measures with two ends.
type TwoEnder interface {
	// TwoEnded carries out an order and returns what came of it. heard is called with
	// how far it is, about each second.
	TwoEnded(ctx context.Context, o TwoEndedOrder, heard func(TwoGoing)) TwoEnded
	// Expect lets in who has a ticket, as the far end, and returns where. The error says
	// why it is no far end.
	Expect(t Ticket) (address string, err error)
}
