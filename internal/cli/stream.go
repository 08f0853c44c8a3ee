package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/core/voice"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/stream"
	"woodlark.example/internal/report"
)

var streamCommand = command{
	name: "stream", summary: "a paced stream of packets to a far end: one-way delay, jitter, loss, order, voice quality",
	usage: "[options] TARGET[:PORT]",
	example: "woodlark stream -world learn:clear-there-noisy-back -from desk.northquay.example -codec g711 -for 20s terminal.holm.example\n" +
		"woodlark stream -key-file key -codec opus -calls 50 -dscp EF 192.0.2.7:7474\n" +
		"woodlark stream -reflector -every 10ms 192.0.2.9",
	more: "At the target 'woodlark respond' must run, with the same key. Each direction has its own\n" +
		"figures. One-way delay needs clocks that are in step; else their offset is estimated and\n" +
		"taken out, and what it is worth is said. -codec is g711, g729, g722, opus, video-720p or\n" +
		"video-1080p: RTP with RTCP reports; without it packets are STAMP's. With -reflector a STAMP\n" +
		"or TWAMP-Light reflector of any maker is enough at the target (port 862 when none is named):\n" +
		"no key and no 'woodlark respond'; only one that counts tells which way packets were lost.",
	run: runStream,
}

type streamOptions struct {
	farOptions
	direction, codec, rate, dscp, buffer string
	calls, size                          int
	interval, duration                   time.Duration
	reflector, plain                     bool
}

func (o *streamOptions) register(c *call) {
	o.farOptions.register(c.flags)
	c.flags.StringVar(&o.direction, "direction", "both", "there, back or both")
	c.flags.DurationVar(&o.duration, "for", 10*time.Second, "how long")
	c.flags.StringVar(&o.codec, "codec", "", "send as a call of this codec does")
	c.flags.IntVar(&o.calls, "calls", 1, "streams side by side")
	c.flags.DurationVar(&o.interval, "every", 0, "time between packets of a stream (default 20ms)")
	c.flags.StringVar(&o.rate, "rate", "", "bits of payload a second of all streams, instead of -every: 2M")
	c.flags.IntVar(&o.size, "payload", 0, "bytes of UDP payload in a packet (default 172)")
	c.flags.StringVar(&o.dscp, "dscp", "", "service class, by name such as EF or by number")
	c.flags.BoolVar(&o.reflector, "reflector", false, "the target is a STAMP or TWAMP-Light reflector of any maker")
	c.flags.StringVar(&o.stampKey, "stamp-key", "", "with -reflector: key of STAMP's authenticated mode")
	c.flags.BoolVar(&o.plain, "plain", false, "with -reflector: packets without TLVs (RFC 8972)")
	c.flags.StringVar(&o.buffer, "buffer", "fixed", "de-jitter buffer of a call: fixed (40 ms) or adaptive")
}

// request is what the options ask for.
func (o streamOptions) request() (stream.Request, error) {
	r := stream.Request{Direction: stream.Direction(o.direction), For: o.duration, Calls: o.calls, Interval: o.interval, Size: o.size, Buffer: voice.Fixed}
	if !slices.Contains([]string{"there", "back", "both"}, o.direction) {
		return r, wrongCall("-direction %q is none of there, back, both", short(o.direction))
	}
	switch o.buffer {
	case "fixed":
	case "adaptive":
		r.Buffer = voice.Adaptive
	default:
		return r, wrongCall("-buffer %q is neither fixed nor adaptive", short(o.buffer))
	}
	if o.codec != "" {
		codec, err := voice.ParseCodec(o.codec)
		if err != nil {
			return r, wrongCall("-codec: %v", err)
		}
		r.Codec = &codec
	}
	if o.rate != "" {
		rate, err := capacity.ParseRate(o.rate)
		if err != nil {
			return r, wrongCall("-rate: %v", err)
		}
		r.Rate = rate
	}
	point, err := dscp.Parse(o.dscp)
	if err != nil {
		return r, wrongCall("%v", err)
	}
	r.DSCP = uint8(point)
	if o.interval < 0 || o.size < 0 || o.calls < 1 {
		return r, wrongCall("-every, -payload and -calls are not below zero, and -calls is 1 at least")
	}
	if _, err := r.Order(); err != nil {
		return r, wrongCall("%v", err)
	}
	return r, nil
}

func runStream(c *call) error {
	var o streamOptions
	c.withFormat()
	c.withService()
	o.register(c)
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("name one target; %d are named", len(c.args))
	}
	r, err := o.request()
	if err != nil {
		return err
	}
	r.Target = c.args[0]
	if o.reflector {
		return c.runReflected(o, r)
	}
	if o.stampKey != "" || o.plain {
		return wrongCall("-stamp-key and -plain go with -reflector")
	}
	if o.from != "" && o.world == "" {
		if err := c.notThere("source"); err != nil {
			return err
		}
		x, err := c.twoEndsThere(o.farOptions, "stream", r.Target, r.For, o.dscp, plan.TwoRequest{Direction: o.direction, Rate: float64(r.Rate), Size: r.Size, Codec: o.codec, Calls: r.Calls, Interval: r.Interval, Buffer: o.buffer})
		if err != nil {
			return err
		}
		return c.writeStream(*x.Stream)
	}
	options, stop, err := c.far(o.farOptions, r.Target)
	if err != nil {
		return err
	}
	defer stop()
	tell, done := c.streamProgress("lost on the way there so far")
	x, err := stream.Measure(c.ctx, options, r, tell)
	done()
	if err != nil {
		return unmeasured(err)
	}
	return c.writeStream(x)
}

// streamProgress shows how far a stream is, and how many of its packets are what lost says.
func (c *call) streamProgress(lost string) (tell func(near.Progress), done func()) {
	heard, done := c.progressLine(func(_ string, p near.Progress) string {
		return fmt.Sprintf("%s of %s   %d %s", p.Elapsed.Round(time.Second), p.Length, p.Lost, lost)
	})
	if heard != nil {
		tell = func(p near.Progress) { heard("", p) }
	}
	return tell, done
}

// runReflected measures by a STAMP reflector alone.
func (c *call) runReflected(o streamOptions, r stream.Request) error {
	if given := c.given("codec", "calls", "direction", "buffer", "rate", "key", "key-file"); len(given) > 0 {
		return wrongCall("a reflector sends back what it gets: leave out %s, or run 'woodlark respond' at the target and leave out -reflector", strings.Join(given, ", "))
	}
	if o.from != "" && o.world == "" {
		if err := c.notThere("source"); err != nil {
			return err
		}
		there, err := c.twoEndsThere(o.farOptions, "stream", r.Target, r.For, o.dscp, plan.TwoRequest{Reflector: true, Plain: o.plain, Size: r.Size, Interval: r.Interval})
		if err != nil {
			return err
		}
		return c.writeStream(*there.Stream)
	}
	x := stream.Reflected{Target: r.Target, For: r.For, Interval: r.Interval, Size: r.Size, DSCP: r.DSCP, Plain: o.plain}
	if o.stampKey != "" {
		x.Key = []byte(o.stampKey)
	}
	if _, err := x.Shape(false); err != nil {
		return wrongCall("%v", err)
	}
	options, stop, err := c.reflectorAt(o.farOptions, r.Target, x.Key)
	if err != nil {
		return err
	}
	defer stop()
	tell, done := c.streamProgress("without an answer so far")
	report, err := stream.Reflect(c.ctx, options, x, tell)
	done()
	if err != nil {
		return unmeasured(err)
	}
	return c.writeStream(report)
}

func (c *call) writeStream(x finding.StreamReport) error {
	var err error
	switch c.format {
	case "json":
		err = report.JSON(c.out, x)
	case "csv":
		err = report.StreamCSV(c.out, x)
	default:
		err = report.Stream(c.out, c.ink, x, zone())
	}
	switch {
	case err != nil:
		return err
	case len(x.Directions) == 0:
		return exit{exitUnmeasured, fmt.Errorf("%s", x.Problem)}
	case !x.Complete && x.Problem != near.Stopped:
		return exit{exitNotGood, fmt.Errorf("it broke off: %s", x.Problem)}
	case slices.ContainsFunc(x.Findings, finding.Finding.Bad):
		return exit{status: exitNotGood}
	}
	return nil
}
