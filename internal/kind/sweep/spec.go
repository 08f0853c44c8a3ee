// Package sweep is the kind of measurement that finds which addresses answer.
package sweep

import (
	"fmt"
	"time"

	"woodlark.example/core/reading"
	space "woodlark.example/core/sweep"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/sweep"
)

// Spec says how to sweep.
type Spec struct {
	Via        kind.Vias    `json:"via" help:"by what: icmp, tcp:PORT; several with commas"`
	Exclude    kind.List    `json:"exclude" help:"prefix, range or address to leave out; several with commas, or given several times"`
	Rate       kind.Packets `json:"packets_per_second" flag:"packets" old:"rate" help:"packets a second, or unlimited (within loopback and simulated networks)"`
	Wait       kind.Span    `json:"wait" help:"how long to wait for answers after each round"`
	Rounds     int          `json:"rounds" help:"rounds; each after the first asks those that were silent"`
	Random     bool         `json:"random" help:"in a random order"`
	Seed       uint64       `json:"seed" help:"of what is random"`
	Low        bool         `json:"low" help:"of a large IPv6 prefix, the addresses that are given by hand"`
	Neighbours bool         `json:"neighbours" help:"also the addresses that the links of the host that sweeps know"`
	Names      bool         `json:"names" help:"look up the names of those that answer"`
	Beyond     bool         `json:"beyond" help:"confirm a sweep of addresses that are neither private, own nor of documentation"`
	kind.Socket
}

const usualPackets = 5000

// longest is how long a sweep may take by its rate alone.
const longest = 12 * time.Hour

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Counts: "packets",
	Name:   "sweep", Version: 1, Rank: 2, Summary: "which addresses of the given prefixes answer",
	Earlier: "sweeps", News: "sweep",
	Usage: "PREFIX …", Noun: "prefix",
	Example: "woodlark sweep 127.0.0.0/28\nwoodlark sweep -world demo/skerry.yaml -from ops.northquay.example 192.0.2.0/24 203.0.113.0/24\n" +
		"woodlark sweep -from northquay -via icmp,tcp:443 203.0.113.0/24          (through the demo's service)",
	Help: "A prefix, a range such as 192.0.2.10-20 or 192.0.2.10-192.0.2.40, or an address. What\n" +
		"stays silent is asked a second time. The result is compared with the last sweep of\n" +
		"the same addresses from the same place: new, gone and slower ones are told.",
	Same:     func(s kind.Spec, targets []string, _ kind.Lane) []string { return s.(*Spec).same(targets) },
	Announce: func(s kind.Spec, targets []string, above int) []string { return s.(*Spec).announce(targets, above) },
	New: func(kind.Occasion) kind.Spec {
		return &Spec{Via: kind.Vias{{}}, Rate: usualPackets, Wait: kind.Span(time.Second), Rounds: 2, Seed: 1, Names: true}
	},
	Lanes:     func(kind.Spec) kind.Rule { return kind.Rule{Whole: true} },
	Target:    func(s kind.Spec, t string) error { return s.(*Spec).checkTarget(t) },
	NoTarget:  func(s kind.Spec) bool { return s.(*Spec).Neighbours },
	Remembers: true, Least: time.Minute,
	Limit: func(kind.Spec, int) time.Duration { return 2 * longest },
	Size:  func(s kind.Spec, targets []string) int64 { return s.(*Spec).size(targets) },
	Cost:  func(s kind.Spec, targets []string) kind.Cost { return s.(*Spec).cost(targets) },
	Agent: func(s kind.Spec, targets []string) error { return s.(*Spec).left(targets) },
	Run:   run, Result: func() any { return &Result{} }, Document: read, Write: write, Good: good,
})

func (s *Spec) checkTarget(t string) error {
	if _, err := space.Parse([]string{t}, nil, space.Options{Low: s.Low}); err != nil {
		return fmt.Errorf("%w: %w", kind.ErrInvalid, err)
	}
	return nil
}

const packet = 60 // bytes: IPv4, ICMP or TCP, and what the probe carries

func (s *Spec) cost(targets []string) kind.Cost {
	x, err := s.Space(targets)
	if err != nil {
		return kind.Cost{}
	}
	n := float64(x.Len()) * float64(len(s.Via))
	return kind.Cost{Packets: n, Bytes: n * packet}
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.Wait > 0 && time.Duration(s.Wait) <= time.Minute, "wait", "%v is not between 0 and 1m", time.Duration(s.Wait))
	c.Must(s.Rounds >= 1 && s.Rounds <= 10, "rounds", "%d is not between 1 and 10", s.Rounds)
	c.Must(len(s.Via) > 0, "via", "names nothing: icmp or tcp:PORT")
	for _, v := range s.Via {
		c.Must(v.Kind == reading.ByICMP || v.Kind == reading.ByTCP, "via", "%s: a sweep asks by icmp or tcp:PORT", v)
	}
	if s.Rate != kind.Unlimited {
		c.Must(s.Rate >= 1 && s.Rate <= kind.MostPackets, "packets_per_second", "%g is not between 1 and 10,000,000, nor unlimited", float64(s.Rate))
	}
	return c.Err()
}

// Space is what it sweeps of entries: prefixes, ranges and addresses.
func (s *Spec) Space(entries []string) (space.Space, error) {
	return space.Parse(entries, s.Exclude, space.Options{Low: s.Low})
}

// Took is how long it takes at most by its rate; 0 when that is not limited.
func (s *Spec) Took(x space.Space) time.Duration {
	if s.Rate == kind.Unlimited {
		return 0
	}
	return time.Duration(float64(x.Len()) * float64(len(s.Via)) / float64(s.Rate) * float64(s.Rounds) * float64(time.Second))
}

// Request is what the engine is asked for.
func (s *Spec) Request(x space.Space) sweep.Request {
	q := sweep.Request{Space: x, Vias: s.Via, Wait: time.Duration(s.Wait), Rounds: s.Rounds, Random: s.Random, Seed: s.Seed, Socket: s.Options()}
	if s.Rate != kind.Unlimited {
		q.Rate = float64(s.Rate)
	}
	return q
}

// left says whether it can be left to an agent, whose links are known there.
func (s *Spec) left(entries []string) error {
	var c kind.Checks
	if len(entries) == 0 { // its neighbours alone, which are known there
		return nil
	}
	x, err := s.Space(entries)
	if err != nil {
		c.Add(err)
		return c.Err()
	}
	if took := s.Took(x); took > longest {
		c.Wrong("packets_per_second", "%s: this would take up to %v; sweep a part at a time, or raise the rate", s.Rate, took.Round(time.Minute))
	}
	if in, a := x.Within(space.Nearby()); !in && !s.Beyond {
		c.Wrong("beyond", "is not said, and %s is neither private nor of documentation: if you may sweep there, say so", a)
	}
	if in, _ := x.Within(space.Loopback()); s.Rate == kind.Unlimited && !in {
		c.Wrong("packets_per_second", "unlimited is for loopback addresses and simulated networks; name a number")
	}
	return c.Err()
}

// size is how many addresses are swept.
func (s *Spec) size(targets []string) int64 {
	x, err := s.Space(targets)
	if err != nil {
		return 0
	}
	return int64(x.Len())
}
