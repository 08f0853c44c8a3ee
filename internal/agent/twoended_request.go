package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/finding"
	"woodlark.example/core/voice"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/stream"
	"woodlark.example/internal/probe/throughput"
)

// streaming is how to measure a stream, with a far end of ours or with a reflector, and
// what it sends a second.
func streaming(o plan.TwoEndedOrder, six bool) (func(context.Context, near.Options, func(near.Progress)) (finding.StreamReport, error), capacity.Rate, error) {
	if o.Request.Reflector {
		r := reflectedOf(o.Request, o.Key)
		r.Target = o.Target
		shape, err := r.Shape(six)
		if err != nil {
			return nil, 0, err
		}
		return func(ctx context.Context, options near.Options, heard func(near.Progress)) (finding.StreamReport, error) {
			return stream.Reflect(ctx, options, r, heard)
		}, capacity.Rate(shape.Rate()), nil
	}
	r, err := streamOf(o.Request)
	if err != nil {
		return nil, 0, err
	}
	r.Target = o.Target
	order, err := r.Order()
	if err != nil {
		return nil, 0, err
	}
	return func(ctx context.Context, options near.Options, heard func(near.Progress)) (finding.StreamReport, error) {
		return stream.Measure(ctx, options, r, heard)
	}, capacity.Rate(order.Rate()), nil
}

const defaultStream = 10 * time.Second

// streamOf is what a request asks of a stream.
func streamOf(q plan.TwoRequest) (stream.Request, error) {
	r := stream.Request{Direction: stream.Direction(q.Direction), For: q.For, Calls: q.Calls, Interval: q.Interval, Rate: capacity.Rate(q.Rate), Size: q.Size, DSCP: q.DSCP, Buffer: voice.Fixed}
	if r.For == 0 {
		r.For = defaultStream
	}
	if q.Buffer == "adaptive" {
		r.Buffer = voice.Adaptive
	}
	if q.Codec == "" {
		return r, nil
	}
	codec, err := voice.ParseCodec(q.Codec)
	r.Codec = &codec
	return r, err
}

// reflectedOf is what a request asks of a stream to a reflector.
func reflectedOf(q plan.TwoRequest, key []byte) stream.Reflected {
	r := stream.Reflected{For: q.For, Interval: q.Interval, Size: q.Size, DSCP: q.DSCP, Plain: q.Plain}
	if r.For == 0 {
		r.For = defaultStream
	}
	if len(key) > 0 {
		r.Key = key
	}
	return r
}

// throughputOf is what a request asks of a bandwidth test.
func throughputOf(q plan.TwoRequest) throughput.Request {
	r := throughput.Request{Protocol: capacity.Transport(q.Protocol), Direction: throughput.Direction(q.Direction), Streams: q.Streams, For: q.For, Congestion: q.Congestion, Window: q.Window,
		DSCP: q.DSCP, Rate: capacity.Rate(q.Rate), Size: q.Size, Bytes: q.Bytes, Burst: q.Burst, Search: q.Search, LossLimit: q.LossLimit, Repeats: q.Repeats, Yardstick: q.Yardstick, Line: capacity.Rate(q.Line), Explain: !q.NoExplain}
	if r.For == 0 {
		r.For = throughput.DefaultFor
	}
	switch {
	case q.WarmUp != nil:
		r.WarmUp = *q.WarmUp
	case r.Protocol != capacity.UDP && r.For > 2*throughput.DefaultWarmUp:
		r.WarmUp = throughput.DefaultWarmUp
	case r.Protocol != capacity.UDP:
		r.Short = true
	}
	return r
}

// CheckTwoEnded says what is wrong with a request.
func CheckTwoEnded(kind plan.TwoEndedKind, q plan.TwoRequest) error {
	switch {
	case q.Family != 0 && q.Family != 4 && q.Family != 6:
		return fmt.Errorf("no family %d: 4 or 6", q.Family)
	case q.Buffer != "" && q.Buffer != "fixed" && q.Buffer != "adaptive":
		return fmt.Errorf("no buffer %q: fixed or adaptive", q.Buffer)
	case q.Reflector && kind != plan.Stream:
		return errors.New("a reflector tells of streams only")
	case q.Reflector && (q.Codec != "" || q.Calls > 1 || q.Rate > 0 || q.Direction != "" && q.Direction != "both"):
		return errors.New("a reflector sends back what it gets: no codec, calls, rate or direction goes with it")
	case q.Plain && !q.Reflector:
		return errors.New("plain goes with a reflector")
	}
	if kind == plan.Stream {
		_, _, err := streaming(plan.TwoEndedOrder{Request: q}, true)
		return err
	}
	_, _, err := throughputOf(q).Estimate()
	return err
}

// TwoEndedCost is how many datagrams a measurement with two ends sends, both ways, and how
// many bytes they are at the IP layer; false where that is not known beforehand, as for
// what TCP moves.
func TwoEndedCost(kind plan.TwoEndedKind, q plan.TwoRequest) (packets, bytes float64, known bool) {
	if kind != plan.Throughput || q.Protocol != string(capacity.UDP) || q.Rate <= 0 || q.Search {
		return 0, 0, false
	}
	ways := 2.0
	if q.Direction == string(throughput.There) || q.Direction == string(throughput.Back) {
		ways = 1
	}
	const headers = 20 + 8
	size := float64(cmp.Or(q.Size, throughput.DefaultSize))
	packets = q.Rate / 8 / size * cmp.Or(q.For, throughput.DefaultFor).Seconds() * ways * float64(max(1, q.Repeats))
	return packets, packets * (size + headers), true
}
