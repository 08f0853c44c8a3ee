package protocol

import (
	"context"
	"encoding/json"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
)

// RunOrder is a measurement of any kind for an agent to make.
type RunOrder struct {
	Kind    string          `json:"kind"`
	Version int             `json:"version"` // of the kind
	Spec    json.RawMessage `json:"spec"`
	Targets []string        `json:"targets"` // as they were asked for
	Lanes   []RunLane       `json:"lanes"`   // a result each
	Watch   ident.ID        `json:"watch"`
	Far     kind.Far        `json:"far,omitzero"`
	FarID   ident.ID        `json:"far_agent"` // none for a far end that is no agent
	// Extra says that it is made because something looks wrong: the agent's owner may limit how
	// much of that there is.
	Extra bool `json:"extra,omitempty"`
	// Before is a result that was cut, of the kind's version, to go on with.
	Before json.RawMessage `json:"before,omitempty"`
	// Return says that the results are returned, and not handed over by the agent itself.
	Return bool `json:"return,omitempty"`
}

// RunLane is a lane and the run that it is; its path where the kind's results are readings of
// paths.
type RunLane struct {
	Run  ident.ID  `json:"run"`
	Path ident.ID  `json:"path"`
	Lane kind.Lane `json:"lane"`
}

// Made is what came of one run.
type Made struct {
	Run      ident.ID        `json:"run"`
	Watch    ident.ID        `json:"watch"`
	Path     ident.ID        `json:"path"`
	FarID    ident.ID        `json:"far_agent"`
	Kind     string          `json:"kind"`
	Version  int             `json:"version"`
	Lane     kind.Lane       `json:"lane"`
	Started  time.Time       `json:"started_at"`
	Ended    time.Time       `json:"ended_at"`
	Outcome  Outcome         `json:"outcome"`
	Reason   string          `json:"reason"`
	Address  string          `json:"address"`
	OnDemand bool            `json:"on_demand,omitempty"`
	Figures  kind.Figures    `json:"figures"`
	Whole    bool            `json:"-"`              // the body holds more than what is kept elsewhere
	Body     json.RawMessage `json:"body,omitempty"` // the kind's result; nil when there is none
}

// LocateOrder asks for the lanes of targets as they resolve at an agent.
type LocateOrder struct {
	Kind    string          `json:"kind"`
	Version int             `json:"version"`
	Spec    json.RawMessage `json:"spec"`
	Targets []string        `json:"targets"`
}

// HeardRun is how far a run is, as it goes over the wire: More is JSON.
type HeardRun struct {
	Lane    int             `json:"lane"`
	Done    int64           `json:"done"`
	Of      int64           `json:"of"`
	Says    string          `json:"says,omitempty"`
	Address string          `json:"address,omitempty"`
	More    json.RawMessage `json:"more,omitempty"`
	Partial json.RawMessage `json:"partial,omitempty"` // the result so far, of some kinds
}

// Runner is the part of a hand that measures, whatever the kind.
type Runner interface {
	// Do carries an order out. What came of it is handed over by the agent, or returned when
	// the order says so. An error says why nothing could be handed over: the order did not
	// reach the agent, or it does not know the kind.
	Do(ctx context.Context, o RunOrder, heard func(kind.Progress)) ([]Made, error)
	// Locate resolves targets at the agent.
	Locate(ctx context.Context, o LocateOrder) ([]kind.Lane, error)
}

// Standing is a measurement that an agent makes again and again.
type Standing struct {
	Every time.Duration `json:"every"` // nanoseconds
	Order RunOrder      `json:"order"` // whose runs get their identifiers when they are made
	// Key tells it from others of the same watch; the watch itself does when it is empty.
	Key string `json:"key,omitempty"`
	// Phase is how long after the multiples of Every it is made.
	Phase time.Duration `json:"phase,omitempty"`
	// Away says that the service sees to it as long as it is there, since both ends and all
	// others that load the way are to be ready: the agent makes it while the service is away.
	Away bool `json:"while_away,omitempty"`
	// Times are when it is made, beside Every, which is 0 where they say how often; Seed is that
	// of random ones.
	Times schedule.Times `json:"times,omitzero"`
	Seed  uint64         `json:"seed,omitempty"`
	// Budget is how many bytes its runs may send within a day; no limit when 0.
	Budget int64 `json:"day_bytes,omitempty"`
}

// Schedule is when it is made.
func (s Standing) Schedule() (*schedule.Schedule, error) {
	return s.Times.With(s.Every, s.Phase, s.Seed)
}

// Name is what it is known by.
func (s Standing) Name() string {
	if s.Key == "" {
		return s.Order.Watch.String()
	}
	return s.Key
}
