package protocol

import (
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/wire"
)

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
