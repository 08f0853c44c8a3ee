package report_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

func of(v float64) *float64 { return &v }

func ref(n int) *int { return &n }

func whole(v int64) *int64 { return &v }

func streamReport() finding.StreamReport {
	second := func(i int, jitter float64, lost int) finding.StreamSpan {
		return finding.StreamSpan{Start: float64(i), Length: 1, Sent: 50, Lost: lost, JitterMs: of(jitter), MedianMs: of(11.5)}
	}
	direction := func(name string, there bool, lost int) finding.StreamDirection {
		return finding.StreamDirection{Direction: name, There: there, Sent: 100, Received: 100 - lost, Lost: &lost, LossRatio: of(float64(lost) / 100), LossLow: of(0), LossHigh: of(0.1), Runs: lost, LongestRun: 1,
			MedianMs: of(11.5), MinMs: of(11), MaxMs: of(13), P99Ms: of(12), JitterMs: of(0.15), PDVMs: of(1), Variation: of(2), Reordered: 2, Extent: 3, DSCPSent: ref(46),
			DSCPs:   []finding.DSCPCount{{DSCP: 46, Packets: 90}, {DSCP: 0, Packets: 10}},
			Quality: &finding.QualityReport{Buffer: "fixed", Discarded: 1, MouthMs: of(71), R: of(86.2), MOS: of(4.25), WorstR: of(70), WorstMOS: of(3.6)}, Spans: []finding.StreamSpan{second(0, 0.1, 0), second(1, 0.2, lost)}}
	}
	return finding.StreamReport{Target: "terminal.holm.example", Address: "203.0.113.26:7474", From: "desk", To: "holm", Format: "rtp", Codec: "G.711", Streams: 2, IntervalMs: 20,
		StartedAt: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), ElapsedMs: 2000, Complete: true, Clock: finding.ClockReport{OffsetMs: of(-350), SkewPPM: of(40), ErrorMs: of(11.5)}, RTTRestMs: of(23), RTTLoadMs: of(24),
		Directions: []finding.StreamDirection{direction("desk → holm", true, 0), direction("holm → desk", false, 5)},
		Findings:   []finding.Finding{{Code: finding.DirectionDiffers, Sentence: "The directions differ.", Advice: "Look at the worse one."}}}
}

func TestReflectorText(t *testing.T) {
	yes := true
	for _, c := range []struct {
		name string
		r    finding.ReflectorReport
		want string
	}{
		{"counts", finding.ReflectorReport{Sent: 500, Answered: 480, RTTMedianMs: of(23), DwellMs: of(0.02), Stateful: &yes, SeenAs: "192.0.2.20:5000", Clock: "NTP", Stamps: "hardware"},
			"  Reflector answered 480 of 500, round trip 23.0 ms, kept packets for 0.0200 ms; it counts.\n  It sees us as 192.0.2.20:5000; clock kept by NTP; stamps in hardware.\n"},
		{"does not count", finding.ReflectorReport{Sent: 500, Answered: 480, Authenticated: true, Unknown: []string{"location"}, DSCPRefused: true},
			"  Reflector answered 480 of 500; nothing shows that it counts; authenticated.\n  Does not answer location; does not answer with the DSCP that it was asked for.\n"},
		{"losses side by side", finding.ReflectorReport{Sent: 500, Answered: 480, Stateful: &yes, Unplaced: 3, Clock: "free"},
			"  Reflector answered 480 of 500; it counts.\n  Clock kept by nothing; of 3 losses side by side it is not known which was which way, but how many.\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var b bytes.Buffer
			r := streamReport()
			r.Reflector = &c.r
			require.NoError(t, document.Text(&b, document.NewInk(false), report.Stream(r, time.UTC)))
			assert.Contains(t, b.String(), c.want)
		})
	}
}

func TestStreamText(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Stream(streamReport(), time.UTC)))
	out := b.String()
	assert.Less(t, strings.Index(out, "The directions differ."), strings.Index(out, "received"), "what is concluded comes first")
	for _, says := range []string{"terminal.holm.example  203.0.113.26:7474  from desk, G.711 over RTP, 2 streams, for 2s from 12:00:00 UTC", "100 of 100", "95 of 100", "5, the longest of 1", "2, by 3 at most",
		"sent 46, came 46 on 90, 0 on 10", "1 by a fixed buffer", "86.2, the worst 70.0", "4.25, the worst 3.60", "Far clock behind by 350 ms, drifting by 40.0 ppm; one-way delays are off by 11.5 ms at most.",
		"Round trip at rest 23.0 ms, beside the stream 24.0 ms.", "5 lost 0.200 ms"} {
		assert.Contains(t, out, says)
	}
	r := streamReport()
	r.Complete, r.Problem, r.Directions = false, "the far end is gone", nil
	b.Reset()
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Stream(r, time.UTC)))
	assert.Contains(t, b.String(), "It broke off: the far end is gone.")
	r = streamReport()
	r.Clock = finding.ClockReport{InStep: true, ErrorMs: of(0.5)}
	r.Directions[0].Quality.R = nil
	b.Reset()
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Stream(r, time.UTC)))
	assert.Contains(t, b.String(), "Both clocks are in step, to within 0.500 ms.")
	assert.Contains(t, b.String(), "not known for this codec")
}

func TestStreamCSV(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, document.CSV(&b, report.Stream(streamReport(), time.UTC)))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	require.Len(t, lines, 5)
	assert.Equal(t, "agent,target,address,family,via,started_at,from,to,direction,start_s,span_s,sent,lost,delay_median_ms,delay_max_ms,jitter_ms,r_factor,mos", lines[0])
	assert.True(t, strings.HasSuffix(lines[4], ",back,1,1,50,5,11.5,,0.2,,"), "what is not known is empty: %s", lines[4])
}

func throughputReport() finding.ThroughputReport {
	direction := func(name string, there bool, bps float64) finding.ThroughputDirection {
		return finding.ThroughputDirection{Direction: name, There: there, ReceivedBps: of(bps), WholeBps: of(bps * 0.98), IPBps: of(bps * 1500 / 1448), FrameBps: of(bps * 1518 / 1448), LineBps: of(bps * 1538 / 1448), SentBps: of(bps * 1.01),
			Trimmed: of(bps), Segments: whole(1000), Resent: whole(7), RTTRestMs: of(20), RTTLoadMs: of(70), Efficiency: of(0.993), BufferDelay: of(2.5), ByReceiver: of(0.01), ByBuffer: of(0), BusyNear: of(0.2), BusyFar: of(0.1),
			Tried: []finding.ThroughputTry{{OfferedBps: bps / 2, LossRatio: of(0), DelayedMs: of(0.7)}},
			Spans: []finding.ThroughputSpan{{Length: 1, ReceivedBytes: 1e6, ReceivedBps: 8e6, WarmUp: true, Resent: whole(3), SentBytes: whole(1_100_000)}, {Start: 1, Length: 1, ReceivedBytes: 2e6, ReceivedBps: 16e6}}}
	}
	return finding.ThroughputReport{Target: "holm", Address: "203.0.113.26:7474", From: "desk", To: "holm", Protocol: "tcp", StartedAt: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Complete: true,
		Directions: []finding.ThroughputDirection{direction("desk → holm", true, 8e6), direction("holm → desk", false, 50e6)},
		Repeats:    make([]finding.ThroughputRepeat, 10), Yardstick: &finding.YardstickReport{NearBps: of(30e9)},
		Conditions: finding.ThroughputConditions{Streams: 2, For: 10, WarmUp: 2, Congestion: "cubic", WindowBytes: 65536, NearSystem: "Linux 6.1", FarSystem: "Linux 6.6"},
		Findings:   []finding.Finding{{Code: finding.HeldByLink, Sentence: "The link holds it."}}}
}

func TestThroughputText(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Throughput(throughputReport(), time.UTC)))
	out := b.String()
	assert.Less(t, strings.Index(out, "The link holds it."), strings.Index(out, "received"))
	for _, says := range []string{"holm  203.0.113.26:7474  from desk, TCP, 2 streams, 10s from 12:00:00 UTC", "8.00 Mbit/s", "50.0 Mbit/s", "7.84 Mbit/s", "8.50 Mbit/s", "best and worst left out", "7 of 1000 segments", "70.0 ms", "99.3 %", "250 %",
		"Within themselves the machines reach 30.0 Gbit/s here and nothing that could be measured there.", "desk → holm: datagrams at 4.00 Mbit/s lost 0 %, the others waited 0.700 ms in the mean.",
		"congestion control cubic; window 65536 bytes; the first 2s left out; Linux 6.1 here, Linux 6.6 there.", "(8.00 Mbit/s)"} {
		assert.Contains(t, out, says)
	}
	r := throughputReport()
	r.Protocol, r.Conditions = "udp", finding.ThroughputConditions{OfferedBps: of(20e6), PacketBytes: 1400, For: 3, AtOnce: true}
	r.Directions = r.Directions[:1]
	r.Directions[0].LossRatio, r.Directions[0].Reordered, r.Directions[0].JitterMs = of(0.01), whole(4), of(0.2)
	b.Reset()
	require.NoError(t, document.Text(&b, document.NewInk(false), report.Throughput(r, time.UTC)))
	for _, says := range []string{"UDP at 20.0 Mbit/s in packets of 1400 bytes, both ways at once", "1.0 %", "0.200 ms"} {
		assert.Contains(t, b.String(), says)
	}
}

func TestThroughputCSV(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, document.CSV(&b, report.Throughput(throughputReport(), time.UTC)))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	require.Len(t, lines, 5)
	assert.True(t, strings.HasPrefix(lines[1], "desk,holm,203.0.113.26:7474,4,tcp,2026-11-23T12:00:00Z,"), lines[1])
	assert.True(t, strings.HasSuffix(lines[1], ",there,0,1,1000000,8000000,1100000,3,,,true"), lines[1])
}
