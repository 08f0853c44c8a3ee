package cli

import (
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/throughput"
	"woodlark.example/internal/report"
)

var throughputCommand = command{
	name: "throughput", summary: "TCP or UDP bandwidth test to a far end, each way, and what holds it back",
	usage: "[options] TARGET[:PORT]",
	example: "woodlark throughput -world learn:new-fast-line -from desk.northquay.example -for 5s terminal.holm.example\n" +
		"woodlark throughput -key-file key -repeats 5 -yardstick 192.0.2.7:7474\n" +
		"woodlark throughput -key-file key -protocol udp -rate 20M 192.0.2.7",
	more: "At the target 'woodlark respond' must run, with the same key. The receiver's payload is\n" +
		"what counts. -direction each measures one way after the other, both at once. Of five or\n" +
		"more -repeats the best and the worst are left out of the mean. -yardstick measures both\n" +
		"machines by themselves first. What held TCP back is found out with short streams of\n" +
		"datagrams after it; -explain=false leaves them out.",
	run: runThroughput,
}

type throughputOptions struct {
	farOptions
	protocol, direction, congestion, rate, line, dscp string
	streams, window, size, burst, repeats             int
	bytes                                             int64
	duration, warm                                    time.Duration
	loss                                              float64
	search, yardstick, explain                        bool
}

func (o *throughputOptions) register(c *call) {
	f := c.flags
	o.farOptions.register(f)
	f.StringVar(&o.protocol, "protocol", "tcp", "tcp or udp")
	f.StringVar(&o.direction, "direction", "each", "there, back, each (one after the other) or both (at once)")
	f.DurationVar(&o.duration, "for", throughput.DefaultFor, "how long, of one direction")
	f.DurationVar(&o.warm, "warm-up", throughput.DefaultWarmUp, "left out of the rates of TCP, of its -for")
	f.IntVar(&o.streams, "streams", 1, "streams side by side")
	f.Int64Var(&o.bytes, "bytes", 0, "of TCP: end a stream after so many bytes")
	f.StringVar(&o.congestion, "congestion", "", "of TCP: congestion control, as the systems name it")
	f.IntVar(&o.window, "window", 0, "of TCP: bytes of the buffers; the systems' choice when 0")
	f.StringVar(&o.rate, "rate", "", "of UDP: bits of payload a second (default 1M); with -search the most to look for")
	f.IntVar(&o.size, "payload", throughput.DefaultSize, "of UDP: bytes of payload in a packet")
	f.IntVar(&o.burst, "burst", 0, "of UDP: packets that leave together; evenly spread when 0")
	f.BoolVar(&o.search, "search", false, "of UDP: find the highest rate within -loss")
	f.Float64Var(&o.loss, "loss", 0, "of UDP: loss ratio that -search allows, such as 0.001")
	f.IntVar(&o.repeats, "repeats", 1, "so many times")
	f.BoolVar(&o.yardstick, "yardstick", false, "measure both machines by themselves first")
	f.StringVar(&o.line, "line", "", "rate that the line is said to have, for the transfer time ratio of RFC 6349")
	f.BoolVar(&o.explain, "explain", true, "of TCP: find out what held it back")
	f.StringVar(&o.dscp, "dscp", "", "service class, by name such as EF or by number")
}

func (o throughputOptions) request(c *call) (throughput.Request, error) {
	r := throughput.Request{Protocol: capacity.Transport(o.protocol), Direction: throughput.Direction(o.direction), Streams: o.streams, For: o.duration, Bytes: o.bytes, WarmUp: o.warm,
		Congestion: o.congestion, Window: o.window, Size: o.size, Burst: o.burst, Search: o.search, LossLimit: o.loss, Repeats: o.repeats, Yardstick: o.yardstick, Explain: o.explain}
	if o.duration <= 0 || o.warm < 0 || o.streams < 1 || o.repeats < 1 {
		return r, wrongCall("-for, -streams and -repeats are above zero, and -warm-up is not below it")
	}
	switch asked := len(c.given("warm-up")) > 0; {
	case r.Protocol == capacity.UDP && asked && r.WarmUp > 0:
		return r, wrongCall("-warm-up is of TCP, which has to find its rate first: leave it out with -protocol udp")
	case r.Protocol == capacity.UDP:
		r.WarmUp = 0
	case !asked && r.WarmUp >= r.For/2:
		r.WarmUp, r.Short = 0, true // too short to leave anything out, and that is said
	}
	for _, x := range []struct {
		name, text string
		into       *capacity.Rate
	}{{"rate", o.rate, &r.Rate}, {"line", o.line, &r.Line}} {
		if x.text == "" {
			continue
		}
		rate, err := capacity.ParseRate(x.text)
		if err != nil {
			return r, wrongCall("-%s: %v", x.name, err)
		}
		*x.into = rate
	}
	point, err := dscp.Parse(o.dscp)
	if err != nil {
		return r, wrongCall("%v", err)
	}
	r.DSCP = uint8(point)
	if _, _, err := r.Estimate(); err != nil {
		return r, wrongCall("%v", err)
	}
	return r, nil
}

func runThroughput(c *call) error {
	var o throughputOptions
	c.withFormat()
	c.withService()
	o.register(c)
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) != 1 {
		return wrongCall("name one target; %d are named", len(c.args))
	}
	r, err := o.request(c)
	if err != nil {
		return err
	}
	r.Target = c.args[0]
	if o.from != "" && o.world == "" {
		if err := c.notThere("source"); err != nil {
			return err
		}
		x, err := c.twoEndsThere(o.farOptions, "throughput", r.Target, r.For, o.dscp, plan.TwoRequest{Direction: o.direction, Rate: float64(r.Rate), Size: r.Size, Protocol: o.protocol, Streams: r.Streams,
			Repeats: r.Repeats, Congestion: r.Congestion, Window: r.Window, Search: r.Search, LossLimit: r.LossLimit, Yardstick: r.Yardstick, Line: float64(r.Line), NoExplain: !r.Explain, Bytes: r.Bytes, Burst: r.Burst, WarmUp: &r.WarmUp})
		if err != nil {
			return err
		}
		return c.writeThroughput(*x.Through)
	}
	options, stop, err := c.far(o.farOptions, r.Target)
	if err != nil {
		return err
	}
	defer stop()
	heard, done := c.progressLine(func(step string, p near.Progress) string {
		return fmt.Sprintf("%s: %s of %s   %.1f MB there, %.1f MB back", step, p.Elapsed.Round(time.Second), p.Length, float64(p.There)/1e6, float64(p.Back)/1e6)
	})
	x, err := throughput.Measure(c.ctx, options, r, heard)
	done()
	if err != nil {
		return unmeasured(err)
	}
	return c.writeThroughput(x)
}

func (c *call) writeThroughput(x finding.ThroughputReport) error {
	var err error
	switch c.format {
	case "json":
		err = report.JSON(c.out, x)
	case "csv":
		err = report.ThroughputCSV(c.out, x)
	default:
		err = report.Throughput(c.out, c.ink, x, zone())
	}
	switch {
	case err != nil:
		return err
	case !x.Complete && x.Problem != near.Stopped:
		return exit{exitNotGood, fmt.Errorf("it broke off: %s", x.Problem)}
	case slices.ContainsFunc(x.Findings, finding.Finding.Bad):
		return exit{status: exitNotGood}
	}
	return nil
}
