// Package throughput is the kind of measurement that finds what a path carries, by TCP or by
// datagrams, and what holds it back.
package throughput

import (
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/throughput"
)

// Spec says what to send.
type Spec struct {
	Protocol   string         `json:"protocol" enum:"tcp,udp" help:"tcp or udp"`
	Direction  string         `json:"direction" enum:"there,back,each,both" help:"there, back, each (one after the other) or both (at once)"`
	For        kind.Span      `json:"for" help:"how long, of one direction"`
	WarmUp     kind.MaybeSpan `json:"warm_up" help:"left out of the rates of TCP, of its -for (default 2s, where there is time for it)"`
	Streams    int            `json:"streams" help:"streams side by side"`
	Bytes      int64          `json:"bytes" help:"of TCP: end a stream after so many bytes"`
	Congestion string         `json:"congestion" help:"of TCP: congestion control, as the systems name it"`
	Window     int            `json:"window_bytes" flag:"window" help:"of TCP: bytes of the buffers; the systems' choice when 0"`
	Rate       kind.Rate      `json:"rate_bps" flag:"rate" help:"of UDP: bits of payload a second (default 1M); with -search the most to look for"`
	Size       int            `json:"payload_bytes" flag:"payload" help:"of UDP: bytes of payload in a packet"`
	Burst      int            `json:"burst" help:"of UDP: packets that leave together; evenly spread when 0"`
	Search     bool           `json:"search" help:"of UDP: find the highest rate within -loss"`
	LossLimit  float64        `json:"loss_limit_ratio" flag:"loss" help:"of UDP: loss ratio that -search allows, such as 0.001"`
	Repeats    int            `json:"repeats" help:"so many times"`
	Yardstick  bool           `json:"yardstick" help:"measure both machines by themselves first"`
	Line       kind.Rate      `json:"line_bps" flag:"line" help:"rate that the line is said to have, for the transfer time ratio of RFC 6349"`
	Explain    bool           `json:"explain" help:"of TCP: find out what held it back"`
	DSCP       kind.Class     `json:"dscp" help:"service class, by name such as EF or by number"`
	Family     kind.Family    `json:"family" enum:"4,6" help:"4 or 6, of a far end that is a name (default 4, else 6)"`
	Source     kind.Addr      `json:"source" help:"address to send from, of the host that measures"`
}

const (
	mostFor = 24 * time.Hour
	// longest is how long it may be left to an agent, of one direction.
	longest = time.Hour
)

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Name: "throughput", Version: 1, Rank: 5, Summary: "TCP or UDP bandwidth test to a far end, each way, and what holds it back",
	Earlier: "two-ended", News: "two-ended",
	Usage: "TARGET[:PORT]",
	Example: "woodlark throughput -world learn:new-fast-line -from desk.northquay.example -for 5s terminal.holm.example\n" +
		"woodlark throughput -key-file key -repeats 5 -yardstick 192.0.2.7:7474\n" +
		"woodlark throughput -key-file key -protocol udp -rate 20M 192.0.2.7",
	Help: "At the target 'woodlark respond' must run, with the same key. The receiver's payload is\n" +
		"what counts. -direction each measures one way after the other, both at once. Of five or\n" +
		"more -repeats the best and the worst are left out of the mean. -yardstick measures both\n" +
		"machines by themselves first. What held TCP back is found out with short streams of\n" +
		"datagrams after it; -explain=false leaves them out.",
	Says: says,
	New: func(kind.Occasion) kind.Spec {
		return &Spec{Protocol: string(capacity.TCP), Direction: string(throughput.Each), For: kind.Span(throughput.DefaultFor), Streams: 1, Size: throughput.DefaultSize, Repeats: 1, Explain: true}
	},
	Lanes:  func(kind.Spec) kind.Rule { return kind.Rule{} },
	Target: func(_ kind.Spec, t string) error { return kind.CheckEnd(t) },
	One:    true, TwoEnds: true, Load: true, Least: 5 * time.Minute,
	Limit: func(s kind.Spec, _ int) time.Duration {
		took, _, err := s.(*Spec).Request().Estimate()
		if err != nil {
			return mostFor
		}
		return took + 10*time.Minute
	},
	Cost: func(s kind.Spec, targets []string) kind.Cost { return s.(*Spec).cost(targets) },
	Agent: func(s kind.Spec, _ []string) error {
		var c kind.Checks
		x := time.Duration(s.(*Spec).For)
		c.Must(x <= longest, "for", "%v is not between 0 and %v", x, longest)
		return c.Err()
	},
	Watch: func(s kind.Spec, _ []string, repeat time.Duration) error { return s.(*Spec).standing(repeat) },
	Guest: func(s kind.Spec) kind.Guest { return s.(*Spec).guest() },
	Run:   run, Result: func() any { return &Result{} }, More: func() any { return &nearend.Progress{} }, Document: read, JSON: kind.OneAlone, Good: good,
})

func (s *Spec) standing(repeat time.Duration) error {
	var c kind.Checks
	whole := time.Duration(s.For) * time.Duration(s.Repeats)
	c.Must(whole <= repeat/2, "for", "%v, %d times, is not between nothing and half of every %v", time.Duration(s.For), s.Repeats, repeat)
	return c.Err()
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.For > 0 && time.Duration(s.For) <= mostFor, "for", "%v is not above zero, at most 24h", time.Duration(s.For))
	c.Must(s.Streams >= 1, "streams", "%d is less than 1", s.Streams)
	c.Must(s.Repeats >= 1, "repeats", "%d is less than 1", s.Repeats)
	if s.WarmUp.Given {
		c.Must(s.WarmUp.Span >= 0, "warm_up", "%v is below zero", time.Duration(s.WarmUp.Span))
		c.Must(s.Protocol != string(capacity.UDP) || s.WarmUp.Span == 0, "warm_up", "is of TCP, which has to find its rate first: leave it out with udp")
	}
	if c.Err() != nil {
		return c.Err()
	}
	_, _, err := s.Request().Estimate()
	c.Add(err)
	return c.Err()
}

// Request is what the engine is asked for.
func (s *Spec) Request() throughput.Request {
	r := throughput.Request{Protocol: capacity.Transport(s.Protocol), Direction: throughput.Direction(s.Direction), Streams: s.Streams, For: time.Duration(s.For), Bytes: s.Bytes,
		Congestion: s.Congestion, Window: s.Window, DSCP: uint8(s.DSCP), Rate: capacity.Rate(s.Rate), Size: s.Size, Burst: s.Burst, Search: s.Search, LossLimit: s.LossLimit,
		Repeats: s.Repeats, Yardstick: s.Yardstick, Line: capacity.Rate(s.Line), Explain: s.Explain}
	switch {
	case s.WarmUp.Given:
		r.WarmUp = time.Duration(s.WarmUp.Span)
	case r.Protocol == capacity.UDP:
	case r.For > 2*throughput.DefaultWarmUp:
		r.WarmUp = throughput.DefaultWarmUp
	default:
		r.Short = true // too short to leave anything out, and that is said
	}
	return r
}

// guest is what the far end has to allow.
func (s *Spec) guest() kind.Guest {
	each := time.Duration(s.For)
	g := kind.Guest{Session: max(each, 30*time.Second) + time.Minute, Rate: 2 * capacity.Rate(s.Rate), TCP: true,
		Whole: time.Duration(s.Repeats) * 2 * (max(each, 10*time.Second) + 20*time.Second)}
	if s.Protocol != string(capacity.UDP) {
		g.Rate = 0 // what held TCP back is found out by datagrams beyond its own rate
	}
	return g
}
