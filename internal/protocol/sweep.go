package protocol

import (
	"encoding/json"
	"errors"
	"time"

	"woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
)

// Sweep is a sweep that was made, or is going on.
type Sweep struct {
	ID      ident.ID
	Watch   ident.ID // none for one on demand
	Scope   [32]byte // see sweep.Space
	Started time.Time
	Ended   time.Time
	Outcome Outcome
	Reason  string
	Entries []string      `json:"-"` // that were asked for, while there is no report
	Size    int64         `json:"-"` // how many addresses they are
	Report  *sweep.Report // nil as long as there is none
}

// ErrNoStanding is wrapped by an agent that has no machine of its own.
var ErrNoStanding = errors.New("stands in a simulated network, which has no interfaces to tell of")

// Stander is the part of a hand that tells where it stands.
type Stander interface {
	// Standing is the agent's own machine, as JSON: what 'woodlark here' writes. The
	// error wraps ErrNoStanding where there is none.
	Standing() (json.RawMessage, error)
}
