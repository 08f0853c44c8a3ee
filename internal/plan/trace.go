package plan

import (
	"context"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/wire"
)

// TraceTarget is one of the targets of a trace order. ID is that of the trace that
// is made of it.
type TraceTarget struct {
	ID     ident.ID    `json:"id"`
	Target string      `json:"target"`
	Family wire.Family `json:"family"`
}

// TraceOrder is what to trace at one agent, side by side.
type TraceOrder struct {
	Targets  []TraceTarget `json:"targets"`
	Via      string        `json:"via"` // see reading.ParseVia
	Probes   int           `json:"probes"`
	Interval time.Duration `json:"interval"` // between the probes to a hop
	Wait     time.Duration `json:"wait"`
	LastTTL  int           `json:"last_ttl"`
	OneFlow  bool          `json:"one_flow"`
	PathMTU  bool          `json:"path_mtu"`
	DSCP     uint8         `json:"dscp"`
}

// TraceTask is a trace that is made again and again.
type TraceTask struct {
	Watch ident.ID
	Every time.Duration
	Order TraceOrder
}

// Trace is a trace that was made, or is going on.
type Trace struct {
	ID      ident.ID
	Watch   ident.ID // none for one on demand
	Target  string
	Family  wire.Family
	Via     string
	Started time.Time
	Ended   time.Time
	Outcome Outcome
	Reason  string
	Report  *finding.TraceReport // nil as long as there is none
}

// Tracer is the part of a hand that traces routes.
type Tracer interface {
	// SetTraces replaces the traces that the agent is to make.
	SetTraces(tasks []TraceTask)
	// Trace makes the traces of an order and returns them. heard is called for each
	// probe whose fate is known, with the index of its target.
	Trace(ctx context.Context, o TraceOrder, heard func(target int, p route.Probe)) []Trace
	// Deliver uploads what Trace returned, sooner or later.
	Deliver(list []Trace)
}
