// Package ping is the kind of measurement that asks targets for answers: reachability,
// round-trip time, jitter and loss.
package ping

import (
	"time"

	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/ping"
)

// Spec says how to ping.
type Spec struct {
	Via          kind.Vias   `json:"via" help:"by what: icmp, tcp:PORT, udp:PORT, stamp; several with commas, to compare them"`
	StampKey     string      `json:"stamp_key" help:"with -via stamp: key of STAMP's authenticated mode"`
	Family       kind.Family `json:"family" help:"4, 6 or both; of targets that are names (default 4, else 6)"`
	AllAddresses bool        `json:"all_addresses" help:"measure every address of a name, not the first"`
	Probes       int         `json:"probes" help:"probes to send to each target"`
	For          kind.Span   `json:"for" instead:"probes" help:"how long to send, instead of -probes"`
	Interval     kind.Span   `json:"interval" flag:"every" old:"interval" help:"time between probes to a target"`
	Wait         kind.Span   `json:"wait" help:"how long to wait for an answer"`
	Payload      int         `json:"payload_bytes" flag:"payload" help:"bytes after the ICMP or UDP header"`
	DontFragment bool        `json:"dont_fragment" help:"refuse probes that do not fit instead of cutting them up"`
	PathMTU      bool        `json:"find_path_mtu" flag:"path-mtu" help:"search for the largest packet that arrives whole, too"`
	DSCP         kind.Class  `json:"dscp" help:"service class, by name such as EF or by number"`
	TTL          int         `json:"ttl" help:"TTL or hop limit, 1 to 255; the system's when left out"`
	Random       bool        `json:"poisson" old:"random" help:"random intervals (Poisson) instead of even ones"`
	Seed         uint64      `json:"seed" help:"of what is random"`
	Objective    string      `json:"objective" help:"judge by this objective, such as voice"`
	kind.Socket
}

const (
	leastInterval = time.Millisecond
	mostWait      = time.Minute
	mostPayload   = 65_000
	mostProbes    = 10_000_000
)

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Counts: "probes",
	Name:   "ping", Version: 1, Rank: 1, Summary: "reachability, round-trip time, jitter and loss to one or more targets",
	Usage: "TARGET …",
	Example: "woodlark ping -probes 50 -every 20ms 127.0.0.1 ::1\nwoodlark ping -from northquay terminal.holm.example       (through the demo's service)\n" +
		"woodlark ping -world demo/skerry.yaml -from ops.northquay.example terminal.holm.example\n" +
		"woodlark ping -world learn:ping-says-dead -from desk.northquay.example -via icmp,tcp:443 terminal.holm.example",
	Help: "Several kinds of -via are sent at the same time and printed side by side, and so are\n" +
		"the families and addresses of one name. At a terminal a run of 10 s or more is drawn\n" +
		"as it goes: 's' prints the summary so far, Ctrl-C ends it and keeps what there is.",
	Draw: kind.DrawProbes, Took: func(s kind.Spec) time.Duration {
		x := s.(*Spec)
		return time.Duration(x.Count()) * time.Duration(x.Interval)
	},
	FormatsSay: "ndjson for each probe as its fate is known", Line: line,
	New: func(o kind.Occasion) kind.Spec {
		s := &Spec{Via: kind.Vias{{}}, Probes: 10, Interval: kind.Span(200 * time.Millisecond), Wait: kind.Span(2 * time.Second), Payload: ping.DefaultPayload, Seed: 1}
		if o == kind.Standing {
			s.Probes, s.Interval = 20, kind.Span(time.Second)
		}
		return s
	},
	Lanes: func(s kind.Spec) kind.Rule { return s.(*Spec).rule() },
	Paths: true, Continuous: true, Least: 10 * time.Second,
	Limit: func(s kind.Spec, _ int) time.Duration {
		x := s.(*Spec)
		return time.Duration(x.Count())*time.Duration(x.Interval) + time.Duration(x.Wait) + time.Minute
	},
	Cost:  func(s kind.Spec, targets []string) kind.Cost { return s.(*Spec).cost(targets) },
	Watch: func(s kind.Spec, targets []string, repeat time.Duration) error { return s.(*Spec).standing(repeat) },
	Run:   run, Result: func() any { return &Result{} }, More: func() any { return &reading.Probe{} },
	Formats: []string{"ndjson"}, Document: read, Write: write, Good: good,
})

const (
	leastContinuous = 10 * time.Millisecond // between the probes of what goes on without end
	mostStanding    = 100_000               // probes of a run that is repeated
)

// standing says what makes no standing measurement.
func (s *Spec) standing(repeat time.Duration) error {
	var c kind.Checks
	interval := time.Duration(s.Interval)
	c.Must(interval >= leastContinuous && interval <= time.Minute, "interval", "%v is not between %v and 1m", interval, leastContinuous)
	switch {
	case repeat == 0 && c.Err() == nil:
		c.Must(time.Minute%interval == 0, "interval", "%v does not divide a minute evenly, as a continuous watch needs; 1s, 2s, 5s or 10s do", interval)
		c.Must(!s.PathMTU, "find_path_mtu", "is of a run: give the watch a -repeat")
		c.Must(s.Objective == "", "objective", "is of a run: give the watch a -repeat")
		c.Must(s.For == 0, "for", "%v is of a run: a continuous watch goes on without end", time.Duration(s.For))
	case repeat > 0:
		c.Must(s.Count() <= mostStanding, "probes", "%d is not between 1 and %d", s.Count(), mostStanding)
	}
	return c.Err()
}

func (s *Spec) rule() kind.Rule {
	r := kind.Rule{Families: true, Family: s.Family, All: s.AllAddresses}
	for _, v := range s.Via {
		r.Vias = append(r.Vias, v.String())
	}
	return r
}

const headers = 20 + 8 // bytes, of IPv4 and ICMP

func (s *Spec) cost(targets []string) kind.Cost {
	n := float64(s.Count() * len(s.rule().Split(targets)))
	return kind.Cost{Packets: n, Bytes: n * 2 * float64(s.Payload+headers)}
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(len(s.Via) > 0, "via", "names nothing: icmp, tcp:PORT, udp:PORT or stamp")
	c.Must(time.Duration(s.Interval) >= leastInterval, "interval", "%v is less than %v", time.Duration(s.Interval), leastInterval)
	c.Must(s.For >= 0, "for", "%v is not above zero", s.For)
	c.Must(s.Wait > 0 && time.Duration(s.Wait) <= mostWait, "wait", "%v is not between 0 and 1m", time.Duration(s.Wait))
	c.Must(s.Payload >= ping.MinPayload && s.Payload <= mostPayload, "payload_bytes", "%d is not between %d bytes (it carries the mark by which an answer is known) and %d", s.Payload, ping.MinPayload, mostPayload)
	c.Must(s.TTL >= 0 && s.TTL <= 255, "ttl", "%d is not between 1 and 255", s.TTL)
	if n := s.Count(); n < 1 || n > mostProbes {
		c.Wrong("probes", "%d is not between 1 and 10,000,000", n)
	}
	stamps := false
	for _, v := range s.Via {
		stamps = stamps || v.Kind == reading.ByStamp
	}
	c.Must(s.StampKey == "" || stamps, "stamp_key", "goes with -via stamp")
	if s.Objective != "" {
		if _, err := objective.Find(s.Objective); err != nil {
			c.Wrong("objective", "%v", err)
		}
	}
	return c.Err()
}

// Count is how many probes it sends to each target.
func (s *Spec) Count() int {
	if s.For > 0 && s.Interval > 0 {
		return int(s.For / s.Interval)
	}
	return s.Probes
}

// Out is how the probes leave.
func (s *Spec) Out() network.SocketOptions {
	o := s.Options()
	o.DSCP, o.TTL, o.DontFragment = uint8(s.DSCP), s.TTL, s.DontFragment
	return o
}

// Request is what the engine is asked for.
func (s *Spec) Request() ping.Request {
	r := ping.Request{Probes: s.Count(), Interval: time.Duration(s.Interval), Wait: time.Duration(s.Wait), Payload: s.Payload, Poisson: s.Random, Seed: s.Seed, Socket: s.Out()}
	if s.StampKey != "" {
		r.StampKey = []byte(s.StampKey)
	}
	return r
}

// Endless is how it measures without end.
func (s *Spec) Endless() kind.Endless {
	return kind.Endless{Interval: time.Duration(s.Interval), Wait: time.Duration(s.Wait), Payload: s.Payload, Poisson: s.Random, Seed: s.Seed, StampKey: s.StampKey, Out: s.Out()}
}
