package kind

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/session"
)

// Host is where a measurement is made from: this machine, an agent's, or one of a world.
type Host struct {
	Name    string // that results say they come from
	Network network.Network
	// Ground is what the host knows of how it sends; nil when it does not.
	Ground Ground
	// Links is what it knows of its links' neighbours; nil when it does not.
	Links Links
	// LinkTo is the link by which it sends to an address; nil when it does not know.
	LinkTo func(netip.Addr) session.Link
	// Wall is its clock, and End what it says of itself to a far end.
	Wall   paced.Wall
	End    session.End
	Limits Limits
	// Beside is a host of ours that stands at an address, to measure back from; nil when there
	// is none.
	Beside func(a netip.Addr) (network.Network, string, error)
	// Beyond says that it may measure towards any address without being asked to confirm it: in
	// a simulated network there is nobody to be disturbed.
	Beyond bool
}

// Ground tells how a host sends.
type Ground interface {
	FirstHop(to netip.Addr) (network.Hop, error)
	Neighbour(hop network.Hop, a netip.Addr) (network.Neighbour, error)
}

// Links are the links of a host: who answers there, and which addresses are its own.
type Links interface {
	Reachable() (map[netip.Addr]string, error)
}

// Limits are what the owner of a host allows.
type Limits struct {
	Rate  capacity.Rate        // of all datagrams; any when 0
	Loads func(time.Time) bool // whether a load run may go on; nil for always
	Hours string               // in which load runs may, in words
}

// Job is a measurement to make.
type Job struct {
	Host
	Spec    Spec
	Targets []string // as they were asked for
	Lanes   []Lane   // a result each
	Far     Far      // of kinds with two ends
	// Before is a result of the same that was cut, of kinds that go on with those; nil when there
	// is none.
	Before any
	// Heard is told how far it is; nil when nobody listens. It may be called by several
	// goroutines, and must return at once.
	Heard func(Progress)
	// Last is the last result of a lane from here, read into a result; false when there is none.
	Last func(lane int, into any) (bool, error)
	// Packets, when it is not nil, is given each packet that is sent or comes, whole.
	Packets func(at time.Time, packet []byte)
}

// Tell is Heard, if somebody listens.
func (j *Job) Tell(p Progress) {
	if j.Heard != nil {
		j.Heard(p)
	}
}

// Far is the far end of a measurement with two ends, and what lets the near end in.
type Far struct {
	Address string `json:"address"` // and port; the target of the lane when empty
	KeyName string `json:"key_name,omitempty"`
	Key     []byte `json:"key,omitempty"`
}

// Progress is how far a measurement is. Those of one lane come in their order.
type Progress struct {
	Lane int    `json:"lane"`
	Done int64  `json:"done"`           // of Of
	Of   int64  `json:"of"`             // probes, packets, milliseconds; 0 when it is not known
	Says string `json:"says,omitempty"` // which of its steps goes on
	// Address is what is measured, told once where a name was resolved.
	Address string `json:"address,omitempty"`
	// Partial is the result so far, of kinds that go on with one: it is kept, so that nothing of
	// it is lost when an end or the service ends.
	Partial any `json:"-"`
	// More is what the kind has to tell beyond that, in its own form.
	More any `json:"more,omitempty"`
}

// State is how a run ended, or that it goes on.
type State string

// The states.
const (
	Running   State = "running"
	Done      State = "done"
	Failed    State = "failed"
	Missed    State = "missed"
	Cancelled State = "cancelled"
)

// CutShort is the reason of what was stopped before its end.
const CutShort = "stopped before its end; what was measured until then is kept"

// Outcome is what came of a lane.
type Outcome struct {
	State          State
	Reason         string
	Started, Ended time.Time
	Address        string // that was measured; empty when it is not known
	// Result is a pointer to the kind's result; nil when nothing was measured.
	Result any
	// Reading and Probes are of kinds whose results are readings of a path.
	Reading *reading.Reading
	Probes  []reading.Probe
}

// Fail are outcomes of lanes of which nothing was measured.
func (j *Job) Fail(began time.Time, why string) []Outcome {
	list := make([]Outcome, len(j.Lanes))
	for i, l := range j.Lanes {
		list[i] = Outcome{State: Failed, Reason: why, Started: began, Ended: time.Now()}
		if l.Problem != "" {
			list[i].Reason = l.Problem
		}
	}
	return list
}

// Figures are the figures of a result that lists and series show; nil where there are none.
type Figures struct {
	ThereBps  *float64 `json:"there_bps,omitempty"`
	BackBps   *float64 `json:"back_bps,omitempty"`
	MOS       *float64 `json:"mos,omitempty"`
	Answered  *int64   `json:"answered,omitempty"` // addresses, probes
	Of        *int64   `json:"of,omitempty"`
	SentBytes int64    `json:"sent_bytes,omitempty"`
}

// Envelope is a body of JSON and what it is of.
type Envelope struct {
	Kind    string          `json:"kind"`
	Version int             `json:"version"`
	Body    json.RawMessage `json:"body"`
}

// Runner measures. It returns an outcome for each lane, with what was measured so far when
// ctx ends; the error is for what kept it from being begun at all.
type Runner func(ctx context.Context, j *Job) ([]Outcome, error)

// concluded is a result that concludes something.
type concluded interface{ Concluded() []finding.Finding }

// FindingsOf are what a result concludes.
func FindingsOf(result any) []finding.Finding {
	if c, ok := result.(concluded); ok {
		return c.Concluded()
	}
	return nil
}

// figured is a result with figures for lists.
type figured interface{ Listed() Figures }

// FiguresOf are the figures of a result that lists and series show.
func FiguresOf(result any) Figures {
	if f, ok := result.(figured); ok {
		return f.Listed()
	}
	return Figures{}
}

// What a result may be, beside what it is for its own kind: the service keeps and judges it by
// these.
type (
	// Routed is a result that is the route to a target.
	Routed interface {
		Trace() *finding.TraceReport
		// Beside lays the trace back from the target beside it.
		Beside(back any)
	}
	// Probed is a result that is a reading of a path, which it may be judged by.
	Probed interface{ Probed() baseline.Point }
	// Swept is a result that says who of many addresses answered; scope is the same for sweeps
	// of the same addresses.
	Swept interface {
		Sweep() (r *sweep.Report, scope [32]byte)
	}
	// Judged is a result by whose figures a path is judged, beside its own readings; false when
	// it has none. The measurement began at a time and took so long.
	Judged interface {
		Point(at time.Time, took time.Duration) (baseline.Point, bool)
	}
)

// Backward is a spec of which the way back is measured at the same time: by what, when it is
// asked for.
type Backward interface{ Back() (Spec, bool) }

// Resumable is a result of a kind that goes on with what was cut: by which spec.
type Resumable interface{ GoOn() Spec }

// Guest is what a far end has to allow for a measurement.
type Guest struct {
	Session time.Duration // that a session may last
	Whole   time.Duration // that all of them take at most
	Rate    capacity.Rate // of datagrams; any when 0
	TCP     bool
}

// Endless is how a path is measured without end, by a spec of a kind that can be.
type Endless struct {
	Interval, Wait time.Duration
	Payload        int
	Poisson        bool
	Seed           uint64
	StampKey       string
	Out            network.SocketOptions
}
