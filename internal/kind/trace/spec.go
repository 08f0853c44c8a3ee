// Package trace is the kind of measurement that finds routes: their hops and branches, and
// delay and carried loss along them.
package trace

import (
	"encoding/json"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/trace"
)

// Spec says how to trace.
type Spec struct {
	Via      Via         `json:"via" help:"by what: icmp, udp, udp:PORT or tcp:PORT"`
	Family   kind.Family `json:"family" help:"4, 6 or both; of targets that are names (default 4, else 6)"`
	Probes   int         `json:"probes" help:"probes to each hop once the route is known; the flows take turns; 0 for the route alone"`
	For      kind.Span   `json:"for" instead:"probes" help:"how long to measure, instead of -probes"`
	Interval kind.Span   `json:"interval" flag:"every" old:"interval" help:"time between probes to a hop; many routers answer one a second"`
	Wait     kind.Span   `json:"wait" help:"how long to wait for an answer"`
	Payload  int         `json:"payload_bytes" flag:"payload" help:"bytes after the ICMP or UDP header"`
	DSCP     kind.Class  `json:"dscp" help:"service class, by name such as EF or by number"`
	LastTTL  int         `json:"last_ttl" flag:"ttl" help:"the largest TTL or hop limit, 1 to 255"`
	FirstTTL int         `json:"first_ttl" flag:"first" help:"the TTL or hop limit to begin with"`
	Silent   int         `json:"silent" help:"hops in a row without an answer that end it"`
	Retries  int         `json:"retries" help:"more probes to a hop that is silent"`
	OneFlow  bool        `json:"one_flow" help:"follow one flow and look for no branches"`
	PathMTU  bool        `json:"find_path_mtu" flag:"path-mtu" help:"find the largest packet that each hop gets, too"`
	Names    bool        `json:"names" help:"look up the names of hops"`
	BothWays bool        `json:"both_ways" help:"trace back from the target at the same time, where an agent (or with -world its host) stands"`
	Capture  bool        `json:"with_packets" flag:"-" of:"hand" help:"bring the probes and their answers back as packets"`
	kind.Socket
}

// Via is the one kind of probe of a trace.
type Via struct{ reading.Via }

// Set reads it; udp alone is to the usual port.
func (v *Via) Set(text string) error {
	if text == "udp" {
		v.Via = reading.Via{Kind: reading.ByUDP, Port: trace.DefaultPort}
		return nil
	}
	var list kind.Vias
	if err := list.Set(text); err != nil {
		return err
	}
	if len(list) != 1 || list[0].Kind == reading.ByStamp {
		return errVia(text)
	}
	v.Via = list[0]
	return nil
}

// MarshalText writes it.
func (v Via) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalJSON reads it.
func (v *Via) UnmarshalJSON(b []byte) error {
	var text string
	if err := json.Unmarshal(b, &text); err != nil {
		return err
	}
	return v.Set(text)
}

type errVia string

func (e errVia) Error() string {
	return string(e) + ": a trace goes by one of icmp, udp, udp:PORT, tcp:PORT"
}

const (
	mostProbes  = 1_000_000
	mostPayload = 1400
	usualProbes = 5
)

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Counts: "probes",
	Name:   "trace", Version: 1, Rank: 3, Summary: "the route, its branches, and delay and carried loss along it",
	Earlier: "traces", News: "trace",
	Usage: "TARGET …",
	Example: "woodlark trace -world demo/skerry.yaml -from ops.northquay.example terminal.holm.example\n" +
		"woodlark trace -from northquay terminal.ternpoint.example            (through the demo's service)\n" +
		"woodlark trace -world learn:every-other-call-is-bad -from desk.northquay.example -probes 300 -every 100ms terminal.holm.example",
	Help: "Loss and delay count where they carry on to the target: a router that spares its own\n" +
		"answers loses nothing. Branches are looked for until each hop's are found with 95 %\n" +
		"confidence. Without the right to make packets of its own, -via udp works all the same.\n" +
		"-owners is a CSV file of lines 'prefix, owner, kind'; kind is ours, access, transit or\n" +
		"far end. -compare takes last, baseline (with -from an agent) or a file that\n" +
		"-format json wrote.",
	Draw: kind.DrawRoute, Took: func(s kind.Spec) time.Duration { return s.(*Spec).Took() },
	FormatsSay: "dot or graphml for the graph of hops",
	Same:       func(s kind.Spec, _ []string, l kind.Lane) []string { return []string{l.Address.String(), l.Via} },
	New: func(kind.Occasion) kind.Spec {
		return &Spec{Probes: usualProbes, Interval: kind.Span(time.Second), Wait: kind.Span(time.Second), Payload: trace.DefaultPayload, LastTTL: trace.DefaultLast, FirstTTL: 1,
			Silent: trace.DefaultSilent, Retries: trace.DefaultRetries, Names: true}
	},
	Lanes: func(s kind.Spec) kind.Rule {
		x := s.(*Spec)
		return kind.Rule{Families: true, Family: x.Family, Vias: []string{x.Via.String()}}
	},
	Least: time.Minute,
	Limit: func(s kind.Spec, _ int) time.Duration { return s.(*Spec).Took() + 4*time.Minute },
	Agent: func(s kind.Spec, _ []string) error { return s.(*Spec).left() },
	Cost:  func(s kind.Spec, targets []string) kind.Cost { return s.(*Spec).cost(targets) },
	Run:   run, Result: func() any { return &Result{} }, More: func() any { return &route.Probe{} },
	Formats: []string{"dot", "graphml"}, Document: read, JSON: plain, Write: write, Good: good,
})

// longest is how long a trace may take that is left to an agent.
const longest = time.Hour

func (s *Spec) left() error {
	var c kind.Checks
	if took := s.Took(); took > longest {
		c.Wrong("probes", "take %v; a trace takes %v at most", took, longest)
	}
	return c.Err()
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.For >= 0, "for", "%v is not above zero", s.For)
	c.Must(time.Duration(s.Interval) >= time.Millisecond, "interval", "%v is less than 1ms", time.Duration(s.Interval))
	c.Must(s.Wait > 0 && time.Duration(s.Wait) <= time.Minute, "wait", "%v is not between 0 and 1m", time.Duration(s.Wait))
	c.Must(s.Probes >= 0 && s.Probes <= mostProbes, "probes", "%d is not between 0 and 1,000,000", s.Probes)
	c.Must(s.Payload >= trace.LeastPayload && s.Payload <= mostPayload, "payload_bytes", "%d is not between %d bytes (it carries the mark by which an answer is known) and %d; path-mtu looks for larger ones", s.Payload, trace.LeastPayload, mostPayload)
	c.Must(s.LastTTL >= 1 && s.LastTTL <= trace.MaxTTL, "last_ttl", "%d is not between 1 and %d", s.LastTTL, trace.MaxTTL)
	c.Must(s.FirstTTL >= 1 && s.FirstTTL <= s.LastTTL, "first_ttl", "%d is not between 1 and the largest, %d", s.FirstTTL, s.LastTTL)
	c.Must(s.Silent >= 1, "silent", "%d is not above zero", s.Silent)
	c.Must(s.Retries >= 1 && s.Retries <= 20, "retries", "%d is not between 1 and 20", s.Retries)
	return c.Err()
}

// Request is what the engine is asked for, but for the address.
func (s *Spec) Request() trace.Request {
	return trace.Request{Via: s.Via.Via, Probes: s.Probes, For: time.Duration(s.For), Interval: time.Duration(s.Interval), Wait: time.Duration(s.Wait), FirstTTL: s.FirstTTL, LastTTL: s.LastTTL,
		Silent: s.Silent, Retries: s.Retries, OneFlow: s.OneFlow, PathMTU: s.PathMTU, Payload: s.Payload, DSCP: uint8(s.DSCP)}
}

// Took is about how long it measures once the route is known.
func (s *Spec) Took() time.Duration {
	if s.For > 0 {
		return time.Duration(s.For)
	}
	return time.Duration(s.Probes) * time.Duration(s.Interval)
}

// Back is how the way back is traced, when it is.
func (s *Spec) Back() (kind.Spec, bool) {
	back := *s
	back.BothWays, back.PathMTU, back.Capture, back.FirstTTL, back.Socket = false, false, false, 1, kind.Socket{}
	return &back, s.BothWays
}

// cost is what a trace of a usual route sends: each hop is asked some times for branches, and
// then in rounds.
func (s *Spec) cost(targets []string) kind.Cost {
	const hops, forBranches, size = 10, 6, 60
	rounds := float64(s.Took()) / float64(s.Interval)
	packets := hops * (rounds + forBranches) * float64(len(targets))
	return kind.Cost{Packets: packets, Bytes: packets * size * 2}
}
