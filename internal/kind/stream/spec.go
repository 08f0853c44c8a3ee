// Package stream is the kind of measurement that sends a paced stream of packets to a far
// end: one-way delay, jitter, loss, order, voice quality.
package stream

import (
	"errors"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/voice"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/probe/nearend"
	"woodlark.example/internal/probe/stream"
)

// Spec says what to stream.
type Spec struct {
	Direction string      `json:"direction" enum:"there,back,both" help:"there, back or both"`
	For       kind.Span   `json:"for" help:"how long"`
	Codec     string      `json:"codec" help:"send as a call of this codec does"`
	Calls     int         `json:"calls" help:"streams side by side"`
	Interval  kind.Span   `json:"interval" flag:"every" help:"time between packets of a stream (default 20ms)"`
	Rate      kind.Rate   `json:"rate_bps" flag:"rate" help:"bits of payload a second of all streams, instead of -every: 2M"`
	Size      int         `json:"payload_bytes" flag:"payload" help:"bytes of UDP payload in a packet (default 172)"`
	DSCP      kind.Class  `json:"dscp" help:"service class, by name such as EF or by number"`
	Family    kind.Family `json:"family" enum:"4,6" help:"4 or 6, of a far end that is a name (default 4, else 6)"`
	Reflector bool        `json:"reflector" help:"the target is a STAMP or TWAMP-Light reflector of any maker"`
	StampKey  string      `json:"stamp_key" help:"with -reflector: key of STAMP's authenticated mode"`
	Plain     bool        `json:"plain" help:"with -reflector: packets without TLVs (RFC 8972)"`
	Buffer    string      `json:"buffer" enum:"fixed,adaptive" help:"de-jitter buffer of a call: fixed (40 ms) or adaptive"`
	Source    kind.Addr   `json:"source" help:"address to send from, of the host that measures"`
}

const (
	usualFor = 10 * time.Second
	mostFor  = 24 * time.Hour
	// longest is how long it may be left to an agent.
	longest = time.Hour
)

// Kind is this kind.
var Kind = kind.Register(&kind.Kind{
	Name: "stream", Version: 1, Rank: 6, Summary: "a paced stream of packets to a far end: one-way delay, jitter, loss, order, voice quality",
	Earlier: "two-ended", News: "two-ended",
	Usage: "TARGET[:PORT]",
	Example: "woodlark stream -world learn:clear-there-noisy-back -from desk.northquay.example -codec g711 -for 20s terminal.holm.example\n" +
		"woodlark stream -key-file key -codec opus -calls 50 -dscp EF 192.0.2.7:7474\n" +
		"woodlark stream -reflector -every 10ms 192.0.2.9",
	Help: "At the target 'woodlark respond' must run, with the same key. Each direction has its own\n" +
		"figures. One-way delay needs clocks that are in step; else their offset is estimated and\n" +
		"taken out, and what it is worth is said. -codec is g711, g729, g722, opus, video-720p or\n" +
		"video-1080p: RTP with RTCP reports; without it packets are STAMP's. With -reflector a STAMP\n" +
		"or TWAMP-Light reflector of any maker is enough at the target (port 862 when none is named):\n" +
		"no key and no 'woodlark respond'; only one that counts tells which way packets were lost.",
	Says: says,
	New: func(kind.Occasion) kind.Spec {
		return &Spec{Direction: "both", For: kind.Span(usualFor), Calls: 1, Buffer: "fixed"}
	},
	Lanes:  func(kind.Spec) kind.Rule { return kind.Rule{} },
	Target: func(_ kind.Spec, t string) error { return kind.CheckEnd(t) },
	One:    true, TwoEnds: true, Least: 5 * time.Minute,
	Limit: func(s kind.Spec, _ int) time.Duration { return time.Duration(s.(*Spec).For) + 2*time.Minute },
	Agent: func(s kind.Spec, _ []string) error {
		var c kind.Checks
		x := time.Duration(s.(*Spec).For)
		c.Must(x <= longest, "for", "%v is not between 0 and %v", x, longest)
		return c.Err()
	},
	Watch: func(s kind.Spec, _ []string, repeat time.Duration) error { return s.(*Spec).standing(repeat) },
	Guest: func(s kind.Spec) kind.Guest {
		x := s.(*Spec)
		each := time.Duration(x.For)
		return kind.Guest{Session: max(each, 30*time.Second) + time.Minute, Rate: 2 * capacity.Rate(x.Rate), Whole: 2 * (max(each, 10*time.Second) + 20*time.Second)}
	},
	Run: run, Result: func() any { return &Result{} }, More: func() any { return &nearend.Progress{} }, Document: read, JSON: kind.OneAlone, Good: good,
})

func (s *Spec) standing(repeat time.Duration) error {
	var c kind.Checks
	c.Must(time.Duration(s.For) <= repeat/2, "for", "%v is not between nothing and half of every %v", time.Duration(s.For), repeat)
	return c.Err()
}

// Check says what is wrong with it.
func (s *Spec) Check() error {
	var c kind.Checks
	c.Must(s.For > 0 && time.Duration(s.For) <= mostFor, "for", "%v is not above zero, at most 24h", time.Duration(s.For))
	c.Must(s.Interval >= 0, "interval", "%v is below zero", time.Duration(s.Interval))
	c.Must(s.Size >= 0, "payload_bytes", "%d is below zero", s.Size)
	c.Must(s.Calls >= 1, "calls", "%d is less than 1", s.Calls)
	c.Must(s.Reflector || s.StampKey == "", "stamp_key", "goes with -reflector")
	c.Must(s.Reflector || !s.Plain, "plain", "goes with -reflector")
	if c.Err() != nil {
		return c.Err()
	}
	if s.Reflector {
		if s.Codec != "" || s.Calls != 1 || s.Rate > 0 || s.Direction != "both" && s.Direction != "" || s.Buffer != "fixed" && s.Buffer != "" {
			c.Add(errors.New("a reflector sends back what it gets: leave out codec, calls, rate, direction and buffer, or run 'woodlark respond' at the target and leave out -reflector"))
			return c.Err()
		}
		x := s.Reflected()
		_, err := x.Shape(false)
		c.Add(err)
		return c.Err()
	}
	r, err := s.Request()
	if err != nil {
		c.Wrong("codec", "%v", err)
		return c.Err()
	}
	_, err = r.Order()
	c.Add(err)
	return c.Err()
}

// Request is what the engine is asked for, of a far end of ours.
func (s *Spec) Request() (stream.Request, error) {
	r := stream.Request{Direction: stream.Direction(s.Direction), For: time.Duration(s.For), Calls: s.Calls, Interval: time.Duration(s.Interval), Rate: capacity.Rate(s.Rate), Size: s.Size, DSCP: uint8(s.DSCP), Buffer: voice.Fixed}
	if s.Buffer == "adaptive" {
		r.Buffer = voice.Adaptive
	}
	if s.Codec != "" {
		codec, err := voice.ParseCodec(s.Codec)
		if err != nil {
			return r, err
		}
		r.Codec = &codec
	}
	return r, nil
}

// Reflected is what the engine is asked for, of a reflector.
func (s *Spec) Reflected() stream.Reflected {
	r := stream.Reflected{For: time.Duration(s.For), Interval: time.Duration(s.Interval), Size: s.Size, DSCP: uint8(s.DSCP), Plain: s.Plain}
	if s.StampKey != "" {
		r.Key = []byte(s.StampKey)
	}
	return r
}

// NoFar reports whether the target is no far end of ours.
func (s *Spec) NoFar() bool { return s.Reflector }
