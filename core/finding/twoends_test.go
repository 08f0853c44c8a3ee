package finding_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/oneway"
	"woodlark.example/core/voice"
)

// flow is a stream of n packets 20 ms apart, each delayed so long by its number; a
// negative delay is a loss.
func flow(n int, dscp int, delay func(i int) time.Duration) oneway.Stream {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s := oneway.Stream{Interval: 20 * time.Millisecond}
	for i := range n {
		sent := at.Add(time.Duration(i) * s.Interval)
		s.Sent = append(s.Sent, sent)
		if d := delay(i); d >= 0 {
			s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: i, At: sent.Add(d), DSCP: dscp, TTL: 60})
		}
	}
	return s
}

func even(ms int) func(int) time.Duration {
	return func(int) time.Duration { return time.Duration(ms) * time.Millisecond }
}

// losing loses each so-many-th packet, at places that do not repeat regularly.
func losing(ms, percent int) func(int) time.Duration {
	return func(i int) time.Duration {
		if (i*7919+i*i*31)%100 < percent {
			return -1
		}
		return time.Duration(ms) * time.Millisecond
	}
}

func TestStreams(t *testing.T) {
	ragged := func(i int) time.Duration {
		return time.Duration(10+(i*i*17)%30) * time.Millisecond
	}
	in := oneway.Stepped(0)
	for _, c := range []struct {
		name        string
		there, back oneway.Stream
		clock       oneway.Clock
		codec       *voice.Codec
		dscp        int
		must        []finding.Code
		mustNot     []finding.Code
	}{
		{"all is well", flow(1000, 46, even(10)), flow(1000, 46, even(10)), in, &voice.G711, 46, nil, []finding.Code{finding.DirectionDiffers, finding.QualityBelow, finding.ClockUnsure, finding.LossSteady, finding.DSCPRemarked, finding.TooFewProbes}},
		{"the way back loses", flow(1000, 0, even(10)), flow(1000, 0, losing(10, 8)), in, &voice.G711, 0, []finding.Code{finding.DirectionDiffers, finding.QualityBelow}, []finding.Code{finding.ClockUnsure}},
		{"the way there is ragged", flow(1000, 0, ragged), flow(1000, 0, even(10)), in, nil, 0, []finding.Code{finding.DirectionDiffers}, []finding.Code{finding.QualityBelow, finding.LossSteady}},
		{"one of each ten", flow(1000, 0, func(i int) time.Duration {
			if i%10 == 3 {
				return -1
			}
			return time.Millisecond
		}), oneway.Stream{}, in, nil, 0, []finding.Code{finding.LossAlternating}, []finding.Code{finding.DirectionDiffers}},
		{"the class is not honoured", flow(1000, 0, even(10)), oneway.Stream{}, in, nil, 46, []finding.Code{finding.DSCPRemarked}, nil},
		{"far out", flow(1000, 0, even(250)), oneway.Stream{}, in, &voice.G711, 0, []finding.Code{finding.QualityBelow}, []finding.Code{finding.LossSteady}},
		{"few packets", flow(50, 0, even(10)), oneway.Stream{}, in, nil, 0, []finding.Code{finding.TooFewProbes}, nil},
		{"clocks that are not known", flow(1000, 0, even(10)), oneway.Stream{}, oneway.Clock{}, &voice.G711, 0, []finding.Code{finding.ClockUnsure}, []finding.Code{finding.QualityBelow}},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := finding.Streamed{From: "quay", To: "holm", There: []oneway.Stream{c.there}, Clock: c.clock, Codec: c.codec, Buffer: voice.Fixed, DSCPs: [2]int{c.dscp, c.dscp}}
			if len(c.back.Sent) > 0 {
				x.Back = []oneway.Stream{c.back}
			}
			r := x.Report()
			var got []finding.Code
			for _, f := range r.Findings {
				got = append(got, f.Code)
				assert.NotEmpty(t, f.Sentence)
			}
			assert.Subset(t, got, append([]finding.Code{}, c.must...))
			for _, code := range c.mustNot {
				assert.NotContains(t, got, code)
			}
			assert.Equal(t, "quay → holm", r.Directions[0].Direction)
			seconds := 0
			for _, s := range r.Directions[0].Spans {
				seconds += s.Sent
			}
			assert.Equal(t, r.Directions[0].Sent, seconds, "each packet is of one second")
			assert.Equal(t, c.clock.Known, r.Directions[0].MedianMs != nil, "without a clock there is no delay")
		})
	}
}

func TestSeveralCalls(t *testing.T) {
	good, bad := flow(500, 0, even(10)), flow(500, 0, losing(10, 10))
	r := finding.Streamed{From: "a", To: "b", There: []oneway.Stream{good, good, bad}, Clock: oneway.Stepped(0), Codec: &voice.G711, Buffer: voice.Fixed}.Report()
	d := r.Directions[0]
	assert.Equal(t, 1500, d.Sent)
	assert.InDelta(t, 93.2, *d.Quality.R, 0.1, "the median call")
	assert.Less(t, *d.Quality.WorstR, 75.0)
	assert.Greater(t, *d.Lost, 30)
	assert.InDelta(t, 10, *d.MedianMs, 0.01)
	assert.Zero(t, *d.JitterMs, "calls are not neighbours of each other")
}

func TestThroughputs(t *testing.T) {
	v := func(f float64) *float64 { return &f }
	direction := func(name string, bps, rest, load float64, held string) finding.ThroughputDirection {
		return finding.ThroughputDirection{Direction: name, ReceivedBps: v(bps), RTTRestMs: v(rest), RTTLoadMs: v(load), HeldBy: held, HeldSure: 0.9, HeldWhy: "it is so"}
	}
	r := finding.ThroughputReport{Protocol: "tcp", Directions: []finding.ThroughputDirection{direction("a → b", 8e6, 20, 220, "held_by_link"), direction("b → a", 50e6, 20, 30, "policed")}}
	var got []finding.Code
	for _, f := range finding.OfThroughput(r) {
		got = append(got, f.Code)
		assert.NotEmpty(t, f.Advice)
	}
	assert.ElementsMatch(t, []finding.Code{finding.HeldByLink, finding.Bloat, finding.Policed, finding.DirectionDiffers}, got)
	r.Directions[1].Rising, r.Directions[1].HeldBy = true, ""
	got = nil
	for _, f := range finding.OfThroughput(r) {
		got = append(got, f.Code)
	}
	assert.ElementsMatch(t, []finding.Code{finding.HeldByLink, finding.Bloat, finding.TooFewProbes}, got, "what still rises is compared with nothing")
	r.Directions[1] = direction("b → a", 50e6, 20, 30, "policed")
	r.Conditions.AtOnce = true
	r.Directions[0] = direction("a → b", 8e6, 20, 25, "")
	found := finding.OfThroughput(r)
	require.Len(t, found, 1, "at once they share the way: that they differ says nothing")
	assert.Contains(t, found[0].Sentence, "b → a: a policer holds it at 50.0 Mbit/s")
}
