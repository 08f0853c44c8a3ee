// Package protocol holds what an agent and its service say to each other: the tasks
// that the agent is to do, and the readings and runs that it uploads.
package protocol

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/schedule"
	"woodlark.example/wire"
)

// Task is one path to be measured, by one watch.
type Task struct {
	Watch    ident.ID
	Path     ident.ID
	Target   string        // a name or an address
	Family   wire.Family   // of the path
	Via      reading.Via   // the same
	Every    time.Duration // between runs; continuous when 0
	Probes   int           // a run; of a periodic watch
	Interval time.Duration // between probes
	Wait     time.Duration
	Payload  int
	DSCP     uint8
	Phase    time.Duration // of the first probe in the second, so that agents do not send all at once
	Poisson  bool          `json:"poisson,omitempty"` // random intervals
	Seed     uint64        `json:"seed,omitempty"`
	Out      Out           `json:"out,omitzero"`
	// Times are when it is measured: whenever one of them allows; always when there are none.
	Times []schedule.Times `json:"times,omitempty"`
	// Talks are the conversations for as long as one of which it is measured; without an end when
	// there are none.
	Talks []ident.ID `json:"talks,omitempty"`
}

// Out is how the probes of a task leave its host, beside their service class.
type Out struct {
	TTL          int        `json:"ttl,omitempty"`
	Source       netip.Addr `json:"source,omitzero"`
	Interface    string     `json:"interface,omitempty"`
	DontFragment bool       `json:"dont_fragment,omitempty"`
	StampKey     string     `json:"stamp_key,omitempty"`
}

// Continuous reports whether the task goes on without end.
func (t Task) Continuous() bool { return t.Every == 0 }

// Open reports whether the task is to be measured at a time, and when that may be other; zero
// for never.
func (t Task) Open(at time.Time) (open bool, change time.Time) {
	open = len(t.Times) == 0
	for _, x := range t.Times {
		s, err := x.With(0, 0, 0)
		if err != nil {
			continue
		}
		open = open || s.Open(at)
		if c := s.Change(at); !c.IsZero() && (change.IsZero() || c.Before(change)) {
			change = c
		}
	}
	return open, change
}

// Flags say what is particular about a reading.
type Flags uint8

// The flags.
const (
	HeldBack   Flags = 1 << iota // written later than measured, the service or its database being away
	Resumed                      // the agent was restarted in the middle
	Cut                          // the agent was stopped before the end
	Jumped                       // this host's clock was set during it
	OnDemand                     // somebody asked for it: it is kept, but the path is not judged by it
	Disturbed                    // a load run went on at the same time: the path is not judged by it
	WrongClock                   // the agent's clock was off: the path is not judged by it
)

// NotJudged are the flags of readings by which a path is not judged.
const NotJudged = OnDemand | Disturbed | WrongClock

// Record is one reading of one path.
type Record struct {
	Path    ident.ID
	Watch   ident.ID // none for a run on demand
	Run     ident.ID // none for a minute of a continuous watch
	Reading reading.Reading
	Packed  []byte // the probes, as reading.Pack wrote them
	Flags   Flags
}

// Outcome is how a run ended.
type Outcome = kind.State

// The outcomes.
const (
	Running   = kind.Running
	Done      = kind.Done
	Failed    = kind.Failed
	Missed    = kind.Missed
	Cancelled = kind.Cancelled
)

// Run is one execution of a measurement of a path. Kind and Lane are the service's to fill in.
type Run struct {
	ID      ident.ID
	Kind    string    `json:"-"`
	Lane    kind.Lane `json:"-"`
	Watch   ident.ID
	Path    ident.ID
	Started time.Time
	Ended   time.Time
	Address string // that was measured; empty when it is not known
	Outcome Outcome
	Reason  string
}

// Upload is what an agent hands over at once. It may be handed over twice.
type Upload struct {
	Agent ident.ID
	// SentAt is what the agent's clock shows when it hands it over.
	SentAt   time.Time
	Readings []Record
	Runs     []Run
	Sweeps   []Sweep `json:",omitempty"`
	Traces   []Trace `json:",omitempty"`
	// TwoEnded are measurements with two ends that this agent began: their results once
	// more, for a service that was stopped while it waited for one.
	TwoEnded []TwoEnded `json:",omitempty"`
	// Made are runs of all kinds.
	Made []Made `json:"made,omitempty"`
	// Conversations are those that began, go on or ended.
	Conversations []Conversation `json:"conversations,omitempty"`
}

// ErrRefused is wrapped by an error of a service that will never take an upload.
var ErrRefused = errors.New("refused")

// Service takes uploads. An error means that nothing of the upload is kept. It should be
// handed over again later, unless the error wraps ErrRefused.
type Service interface {
	Upload(ctx context.Context, u Upload) error
}

// Worker is an agent as its service holds it.
type Worker interface {
	// SetPlan replaces what the agent is to do.
	SetPlan(p Plan)
	Runner
	Stander
	FarEnder
	// HeldBack is how many readings wait to be uploaded.
	HeldBack() int
}

var flagNames = []struct {
	flag Flags
	name string
}{{HeldBack, "held_back"}, {Resumed, "resumed"}, {Cut, "cut"}, {Jumped, "clock_set"}, {OnDemand, "on_demand"}, {Disturbed, "load_overlap"}, {WrongClock, "clock_wrong"}}

// Notes are what is particular of a reading, in words; none when nothing is.
func (r Record) Notes() []string {
	notes := []string{}
	if r.Reading.Short() {
		notes = append(notes, "short")
	}
	for _, x := range flagNames {
		if r.Flags&x.flag != 0 {
			notes = append(notes, x.name)
		}
	}
	return notes
}

// FlagsOf reads flags from their words; short is none, for counts say so.
func FlagsOf(notes []string) (f Flags, err error) {
	for _, n := range notes {
		i := slices.IndexFunc(flagNames, func(x struct {
			flag Flags
			name string
		}) bool {
			return x.name == n
		})
		switch {
		case i >= 0:
			f |= flagNames[i].flag
		case n != "short":
			return 0, fmt.Errorf("there is no note %q", kind.Shorten(n))
		}
	}
	return f, nil
}
