package capacity_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

func TestRates(t *testing.T) {
	for text, want := range map[string]capacity.Rate{"20M": 20e6, "20Mbit/s": 20e6, "64k": 64e3, "1.5Gbit/s": 1.5e9, "9600": 9600, "6 Mbit/s": 6e6} {
		got, err := capacity.ParseRate(text)
		require.NoError(t, err, text)
		assert.InDelta(t, float64(want), float64(got), 1e-6, text)
	}
	for _, text := range []string{"", "M", "-5M", "0", "fast", "1e99G", "NaN"} {
		_, err := capacity.ParseRate(text)
		assert.ErrorContains(t, err, "is not a rate", text)
	}
	for r, want := range map[capacity.Rate]string{20e6: "20.0 Mbit/s", 999.6e6: "1.00 Gbit/s", 9.4e6: "9.40 Mbit/s", 941e6: "941 Mbit/s", 64e3: "64.0 kbit/s", 300: "300 bit/s"} {
		assert.Equal(t, want, r.String())
	}
	assert.False(t, capacity.Of(10, 0).IsSet())
	assert.InDelta(t, 8e6, float64(capacity.Of(1e6, 1).Or(0)), 1e-9)
}

// TestLayers: of 1,472 bytes of UDP in IPv4 an Ethernet frame has 1,518, and takes the
// time of 1,538 on the line.
func TestLayers(t *testing.T) {
	for _, c := range []struct {
		framing               capacity.Framing
		payload, ip, frm, lin float64
	}{
		{capacity.Framing{Family: 4, Transport: capacity.UDP, Payload: 1472}, 1472, 1500, 1518, 1538},
		{capacity.Framing{Family: 6, Transport: capacity.UDP, Payload: 1452}, 1452, 1500, 1518, 1538},
		{capacity.Framing{Family: 4, Transport: capacity.TCP, Payload: 1448, Options: 12}, 1448, 1500, 1518, 1538},
		{capacity.Framing{Family: 4, Transport: capacity.UDP, Payload: 10}, 10, 38, 64, 84}, // padded
	} {
		for layer, want := range map[capacity.Layer]float64{capacity.Payload: c.payload, capacity.IP: c.ip, capacity.Frame: c.frm, capacity.Line: c.lin} {
			got, ok := c.framing.At(capacity.Rate(c.payload), layer)
			assert.True(t, ok)
			assert.InDelta(t, want, float64(got), 1e-6, "%v %s", c.framing, layer)
		}
	}
	_, ok := capacity.Framing{}.At(1, capacity.Line)
	assert.False(t, ok)
}

func TestTrimmedMean(t *testing.T) {
	for _, c := range []struct {
		rates []capacity.Rate
		want  float64
	}{{[]capacity.Rate{5}, 5}, {[]capacity.Rate{1, 2, 3, 10}, 4}, {[]capacity.Rate{100, 4, 5, 6, 0}, 5}, {[]capacity.Rate{9, 1, 5, 5, 5, 5}, 5}} {
		assert.InDelta(t, c.want, float64(capacity.TrimmedMean(c.rates).Or(-1)), 1e-9, "%v", c.rates)
	}
	assert.False(t, capacity.TrimmedMean(nil).IsSet())
}

// TestFramework: of 102,000 segments 2,000 are sent again, and the round trip is 32 ms
// in the mean over 25 ms at least (the examples of RFC 6349 §4.1).
func TestFramework(t *testing.T) {
	f := capacity.FrameworkOf(capacity.Transfer{Segments: 102_000, Retransmits: 2_000, LeastRTT: figure.Of(25 * time.Millisecond), MeanRTT: figure.Of(32 * time.Millisecond)})
	assert.InDelta(t, 0.9804, f.Efficiency.Or(0), 1e-4)
	assert.InDelta(t, 0.28, f.BufferDelay.Or(0), 1e-9)
	assert.False(t, f.TransferRatio.IsSet(), "the bottleneck is not known")
	// A 100 Mbit/s line carries 1448/1538 of it as payload: 94.1482 Mbit/s. 100 MB take
	// 8.4973 s of it.
	f = capacity.FrameworkOf(capacity.Transfer{Took: 10 * time.Second, Bytes: 100e6, Segment: 1448, Family: 4, Bottleneck: 100e6})
	assert.InDelta(t, 10/8.49724, f.TransferRatio.Or(0), 1e-4)
	assert.False(t, f.Efficiency.IsSet())
}

func TestWhatHeld(t *testing.T) {
	ms := func(n int) figure.Duration { return figure.Of(time.Duration(n) * time.Millisecond) }
	for _, c := range []struct {
		name string
		e    capacity.Evidence
		want capacity.Cause
	}{
		{"the receiver's window", capacity.Evidence{ByReceiver: figure.Of(0.9), Segments: 1e5, RTTRest: ms(40), RTTLoad: ms(40)}, capacity.ByWindow},
		{"the sender's buffer", capacity.Evidence{ByBuffer: figure.Of(0.8), Segments: 1e5, RTTRest: ms(40), RTTLoad: ms(41)}, capacity.ByWindow},
		{"a window on a long path that carries more", capacity.Evidence{Rate: 1e6, ByReceiver: figure.Of(0.4), Segments: 1e3, RTTRest: ms(550), RTTLoad: ms(551), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Rate: 1.5e6, For: time.Second, Delayed: ms(1)}}, capacity.ByWindow},
		// What a full link of 1 Mbit/s leaves of 1.5 for a second stands 333 ms at the end.
		{"a window, on a machine that delays packets itself", capacity.Evidence{Rate: 1e6, ByReceiver: figure.Of(0.3), Segments: 1e3, RTTRest: ms(550), RTTLoad: ms(551), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Rate: 1.5e6, For: time.Second, Delayed: ms(20)}}, capacity.ByWindow},
		{"a window, but what is beyond has to wait", capacity.Evidence{Rate: 1e6, ByReceiver: figure.Of(0.3), Segments: 1e3, RTTRest: ms(550), RTTLoad: ms(551), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Rate: 1.5e6, For: time.Second, Delayed: ms(160)}}, capacity.NotKnown},
		{"a window, but nothing beyond was offered", capacity.Evidence{Rate: 1e6, ByReceiver: figure.Of(0.3), Segments: 1e3, RTTRest: ms(550), RTTLoad: ms(551), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Rate: 1e6, For: time.Second}}, capacity.NotKnown},
		{"no time, which looks like a full buffer", capacity.Evidence{ByBuffer: figure.Of(0.7), Segments: 1e5, RTTRest: ms(1), RTTLoad: ms(1), Own: figure.Of(0.95)}, capacity.ByHost},
		{"loss at half the rate too", capacity.Evidence{Segments: 1e5, Retransmits: 1000, RTTRest: ms(40), RTTLoad: ms(40), Below: &capacity.Burst{Lost: lost(0.01)}}, capacity.ByLoss},
		{"loss too seldom to be seen in a short stream", capacity.Evidence{Segments: 2300, Retransmits: 13, RTTRest: ms(79), RTTLoad: ms(79), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Lost: lost(0.006)}}, capacity.ByLoss},
		{"loss, and nothing else was tried", capacity.Evidence{Segments: 1e5, Retransmits: 1000, RTTRest: ms(40), RTTLoad: ms(40)}, capacity.ByLoss},
		{"dropped at once", capacity.Evidence{Segments: 1e5, Retransmits: 1000, RTTRest: ms(40), RTTLoad: ms(40), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Lost: lost(0.4), Delayed: ms(0)}}, capacity.ByPolicer},
		{"a full link", capacity.Evidence{Segments: 1e5, Retransmits: 100, RTTRest: ms(20), RTTLoad: ms(70), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Lost: lost(0.4), Delayed: ms(50)}}, capacity.ByLink},
		{"a full link with few buffers", capacity.Evidence{Segments: 1e5, Retransmits: 100, RTTRest: ms(20), RTTLoad: ms(23), Below: &capacity.Burst{Lost: lost(0)}, Above: &capacity.Burst{Lost: lost(0.4), Delayed: ms(8)}}, capacity.ByLink},
		{"no time", capacity.Evidence{Segments: 1e5, RTTRest: ms(1), RTTLoad: ms(2), Own: figure.Of(0.97)}, capacity.ByHost},
		{"little time, and nothing else is left", capacity.Evidence{Segments: 1e5, RTTRest: ms(23), RTTLoad: ms(23), Own: figure.Of(0.75), ByBuffer: figure.Of(0.05), Below: &capacity.Burst{Lost: lost(0)}}, capacity.ByHost},
		{"little time, and partly a window", capacity.Evidence{Segments: 1e5, RTTRest: ms(23), RTTLoad: ms(23), Own: figure.Of(0.75), ByBuffer: figure.Of(0.3), Below: &capacity.Burst{Lost: lost(0)}}, capacity.NotKnown},
		{"little time, but nobody knows what waited", capacity.Evidence{Segments: 1e5, Own: figure.Of(0.75), Below: &capacity.Burst{Lost: lost(0)}}, capacity.NotKnown},
		{"little time, but nothing was tried below", capacity.Evidence{Segments: 1e5, RTTRest: ms(23), RTTLoad: ms(23), Own: figure.Of(0.75)}, capacity.NotKnown},
		{"little time, but a full link", capacity.Evidence{Segments: 1e5, RTTRest: ms(23), RTTLoad: ms(43), Own: figure.Of(0.75), Below: &capacity.Burst{Lost: lost(0)}}, capacity.ByLink},
		{"nothing", capacity.Evidence{Segments: 1e5, RTTRest: ms(20), RTTLoad: ms(21), Own: figure.Of(0.3)}, capacity.NotKnown},
		{"nothing is known", capacity.Evidence{}, capacity.NotKnown},
	} {
		t.Run(c.name, func(t *testing.T) {
			list := capacity.WhatHeld(c.e)
			if c.want == capacity.NotKnown {
				assert.Empty(t, list)
				return
			}
			require.NotEmpty(t, list)
			assert.Equal(t, c.want, list[0].Cause, list[0].Why)
			for _, h := range list {
				assert.NotEmpty(t, h.Why)
			}
		})
	}
}

// TestSeveralCauses: each is judged by its own evidence, and a machine that other programs
// keep busy is none.
func TestSeveralCauses(t *testing.T) {
	ms := func(n int) figure.Duration { return figure.Of(time.Duration(n) * time.Millisecond) }
	lossy, clean := &capacity.Burst{Lost: lost(0.1)}, &capacity.Burst{Lost: lost(0)}
	for _, c := range []struct {
		name string
		e    capacity.Evidence
		want []capacity.Cause
	}{
		{"loss, on a machine that others keep busy", capacity.Evidence{Segments: 3226, Retransmits: 359, RTTRest: ms(20), RTTLoad: ms(21), Own: figure.Of(0.01), Machine: figure.Of(1.0), Below: lossy, Above: &capacity.Burst{Lost: lost(0.1)}}, []capacity.Cause{capacity.ByLoss}},
		{"a full link, on such a machine", capacity.Evidence{Segments: 1e5, Retransmits: 100, RTTRest: ms(20), RTTLoad: ms(70), Own: figure.Of(0.02), Machine: figure.Of(1.0), Below: clean, Above: &capacity.Burst{Lost: lost(0.3), Delayed: ms(50)}}, []capacity.Cause{capacity.ByLink}},
		{"nothing else, on such a machine", capacity.Evidence{Segments: 1e5, RTTRest: ms(1), RTTLoad: ms(2), Own: figure.Of(0.4), Machine: figure.Of(0.99)}, []capacity.Cause{capacity.ByHost}},
		{"a policer, and loss beside it", capacity.Evidence{Segments: 1e5, Retransmits: 1000, RTTRest: ms(20), RTTLoad: ms(20), Below: &capacity.Burst{Lost: lost(0.01)}, Above: &capacity.Burst{Lost: lost(0.35), Delayed: ms(0)}}, []capacity.Cause{capacity.ByLoss, capacity.ByPolicer}},
		{"a policer, and loss too small to hold it", capacity.Evidence{Segments: 1e5, Retransmits: 1000, RTTRest: ms(20), RTTLoad: ms(20), Below: &capacity.Burst{Lost: loss.Ratio{Lost: 1, Sent: 450}}, Above: &capacity.Burst{Lost: lost(0.35), Delayed: ms(0)}}, []capacity.Cause{capacity.ByPolicer}},
		{"datagrams beyond a policer", capacity.Evidence{Datagrams: true, Below: clean, Above: &capacity.Burst{Lost: lost(0.33), Delayed: ms(0)}}, []capacity.Cause{capacity.ByPolicer}},
		{"datagrams beyond a queue", capacity.Evidence{Datagrams: true, Below: clean, Above: &capacity.Burst{Lost: lost(0.3), Delayed: ms(40)}}, []capacity.Cause{capacity.ByLink}},
		{"datagrams over a link that loses at any rate", capacity.Evidence{Datagrams: true, Below: lossy, Above: &capacity.Burst{Lost: lost(0.1), Delayed: ms(0)}}, []capacity.Cause{capacity.ByLoss}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []capacity.Cause
			for _, h := range capacity.WhatHeld(c.e) {
				got = append(got, h.Cause)
			}
			assert.Equal(t, c.want, got)
		})
	}
	assert.False(t, (&capacity.Burst{Lost: loss.Ratio{Lost: 1, Sent: 450}}).Settled(), "one of 450 may be chance: ask again")
	assert.True(t, (&capacity.Burst{Lost: loss.Ratio{Sent: 4000}}).Settled())
	assert.True(t, (&capacity.Burst{Lost: loss.Ratio{Lost: 40, Sent: 450}}).Settled())
}

// lost is a ratio of ten thousand.
func lost(part float64) loss.Ratio { return loss.Ratio{Lost: int(part*10000 + 0.5), Sent: 10000} }

func TestBloat(t *testing.T) {
	by, is := capacity.Bloat(figure.Of(10*time.Millisecond), figure.Of(210*time.Millisecond))
	assert.True(t, is)
	assert.Equal(t, 200*time.Millisecond, by)
	_, is = capacity.Bloat(figure.Of(400*time.Millisecond), figure.Of(500*time.Millisecond))
	assert.False(t, is)
	_, is = capacity.Bloat(figure.Duration{}, figure.Of(time.Second))
	assert.False(t, is)
}
