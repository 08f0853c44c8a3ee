// Package walk is the kind of measurement that goes to a target from near to far, and says
// where it breaks.
package walk

import (
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/walk"
)

// Spec says how to walk.
type Spec struct {
	Address  kind.Addr   `json:"address" help:"the address of a target that is a name, where it is known"`
	Family   kind.Family `json:"family" enum:"4,6" help:"4 or 6; of a target that is a name (default 4, else 6)"`
	Port     uint16      `json:"port" help:"TCP port of the target to try"`
	Probes   int         `json:"probes" help:"probes to the gateway and to the target"`
	Interval kind.Span   `json:"interval" flag:"every" help:"time between probes"`
	Wait     kind.Span   `json:"wait" help:"how long to wait for an answer"`
}

// longest is how long the probes of a walk at an agent may take.
const longest = time.Minute

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Counts: "steps",
	Name:   "walk", Version: 1, Rank: 4, Summary: "from near to far towards a target: neighbour, gateway, resolvers, address, name, port",
	Earlier: "walks", Here: true,
	Usage:   "TARGET",
	Example: "woodlark walk -world learn:no-way-out -from desk.northquay.example terminal.holm.example\nwoodlark walk -port 443 127.0.0.1\nwoodlark walk -from northquay terminal.holm.example                    (through the demo's service)",
	Help: "It goes on as far as there is an answer, and says where it breaks. 'woodlark here -walk'\n" +
		"shows where this machine stands, too.",
	Says: func(p kind.Progress) string { return p.Says },
	New: func(kind.Occasion) kind.Spec {
		return &Spec{Probes: 100, Interval: kind.Span(20 * time.Millisecond), Wait: kind.Span(time.Second)}
	},
	Lanes: func(kind.Spec) kind.Rule { return kind.Rule{} },
	One:   true, Least: time.Minute,
	Limit: func(s kind.Spec, _ int) time.Duration { return 2*s.(*Spec).Took() + 2*time.Minute },
	Agent: func(s kind.Spec, _ []string) error {
		var c kind.Checks
		if took := s.(*Spec).Took(); took > longest {
			c.Wrong("probes", "take %v: a walk at an agent takes %v at most", took, longest)
		}
		return c.Err()
	},
	Run: run, Result: func() any { return &Result{} }, More: func() any { return &finding.Step{} }, Document: read, JSON: kind.OneAlone, Good: good,
})

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.Probes >= 1 && s.Probes <= 100_000, "probes", "%d is not between 1 and 100,000", s.Probes)
	c.Must(time.Duration(s.Interval) >= time.Millisecond, "interval", "%v is less than 1ms", time.Duration(s.Interval))
	c.Must(s.Wait > 0 && time.Duration(s.Wait) <= time.Minute, "wait", "%v is not between 0 and 1m", time.Duration(s.Wait))
	return c.Err()
}

// Took is how long its probes take.
func (s *Spec) Took() time.Duration { return time.Duration(s.Probes) * time.Duration(s.Interval) }

// Request is what the engine is asked for.
func (s *Spec) Request(target string) walk.Request {
	return walk.Request{Target: target, Address: s.Address.Addr, Family: s.Family.One(), Port: s.Port, Probes: s.Probes, Interval: time.Duration(s.Interval), Wait: time.Duration(s.Wait)}
}
