package plan

import (
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
)

// SweepOrder is a sweep at one agent.
type SweepOrder struct {
	Entries []string      `json:"entries"` // prefixes, ranges, addresses
	Exclude []string      `json:"exclude"`
	Via     string        `json:"via"`    // see reading.ParseVias
	Rate    float64       `json:"rate"`   // packets a second; as fast as it goes when 0
	Wait    time.Duration `json:"wait"`   // after each round
	Rounds  int           `json:"rounds"` //
	Random  bool          `json:"random"`
	Low     bool          `json:"low"`
	Names   bool          `json:"names"`
}

// SweepTask is a sweep that is made again and again.
type SweepTask struct {
	Watch ident.ID
	Every time.Duration
	Order SweepOrder
}

// Sweep is a sweep that was made, or is going on.
type Sweep struct {
	ID      ident.ID
	Watch   ident.ID // none for one on demand
	Scope   [32]byte // see sweep.Space
	Started time.Time
	Ended   time.Time
	Outcome Outcome
	Reason  string
	Report  *sweep.Report // nil as long as there is none
}

// WalkOrder is a walk from near to far at one agent.
type WalkOrder struct {
	Target   string
	Address  netip.Addr // of a target that is a name, known otherwise
	Family   int        // 4 or 6; 0 for either
	Port     uint16
	Probes   int
	Interval time.Duration
}

// ErrNoStanding is wrapped by an agent that has no machine of its own.
var ErrNoStanding = errors.New("stands in a simulated network, which has no interfaces to tell of")

// Walker is the part of a hand that walks, and tells where it stands.
type Walker interface {
	// Standing is the agent's own machine, as JSON: what 'woodlark here' writes. The
	// error wraps ErrNoStanding where there is none.
	Standing() (json.RawMessage, error)
	Walk(ctx context.Context, o WalkOrder) (finding.WalkReport, error)
}

// Sweeper is the part of a hand that sweeps.
type Sweeper interface {
	// SetSweeps replaces the sweeps that the agent is to make.
	SetSweeps(tasks []SweepTask)
	// Sweep makes one sweep and uploads it. sent is called now and then with the
	// packets so far.
	Sweep(ctx context.Context, id ident.ID, o SweepOrder, sent func(packets uint64))
}
