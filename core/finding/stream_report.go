package finding

import (
	"slices"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/oneway"
	"woodlark.example/core/voice"
)

// StreamReport is what a stream between two ends found, for machines. A figure that is
// not known is null.
type StreamReport struct {
	Target     string            `json:"target"`
	Address    string            `json:"address"`
	From       string            `json:"from"`
	To         string            `json:"to"`     // the far end's name of itself
	Format     string            `json:"format"` // stamp or rtp
	Codec      string            `json:"codec,omitempty"`
	Streams    int               `json:"streams"`
	IntervalMs float64           `json:"interval_ms"`
	StartedAt  time.Time         `json:"started_at"`
	ElapsedMs  float64           `json:"elapsed_ms"`
	Complete   bool              `json:"complete"`
	Problem    string            `json:"problem,omitempty"` // why it broke off
	Clock      ClockReport       `json:"clock"`
	RTTRestMs  *float64          `json:"rtt_rest_ms"`
	RTTLoadMs  *float64          `json:"rtt_load_ms"`
	Directions []StreamDirection `json:"directions"`
	Reports    int               `json:"rtcp_reports"`
	Reflector  *ReflectorReport  `json:"reflector,omitempty"` // when it was measured by one
	Note       string            `json:"note,omitempty"`
	Findings   []Finding         `json:"findings"`
}

// ClockReport is how the two ends' clocks stand to each other.
type ClockReport struct {
	InStep   bool     `json:"in_step"`
	OffsetMs *float64 `json:"offset_ms"` // far less near, as estimated; null when in step, or not known
	SkewPPM  *float64 `json:"skew_ppm"`
	ErrorMs  *float64 `json:"error_ms"` // one-way delays are off by this at most
}

// ReflectorReport is what is known of a STAMP reflector (RFC 8762, RFC 8972), and of all
// packets that it was asked with.
type ReflectorReport struct {
	Sent          int      `json:"sent"`
	Answered      int      `json:"answered"`
	RTTMedianMs   *float64 `json:"rtt_median_ms"` // without what it kept packets for
	DwellMs       *float64 `json:"dwell_median_ms"`
	Authenticated bool     `json:"authenticated"`
	Stateful      *bool    `json:"stateful"` // null when nothing shows it
	Extensions    []string `json:"extensions"`
	Unknown       []string `json:"extensions_unknown"` // that it does not answer
	SeenAs        string   `json:"seen_as,omitempty"`  // where packets came from, as it saw it
	Clock         string   `json:"clock,omitempty"`    // what keeps its clock
	Stamps        string   `json:"stamps,omitempty"`
	DSCPRefused   bool     `json:"dscp_refused"`
	Unplaced      int      `json:"losses_unplaced"` // whose number is exact, and which each was is not known
}

// StreamDirection is one direction.
type StreamDirection struct {
	Direction  string         `json:"direction"` // A → B
	From       string         `json:"from"`
	To         string         `json:"to"`
	There      bool           `json:"there"` // from the near end to the far one
	Bps        float64        `json:"sent_bps"`
	Sent       int            `json:"sent"`
	Received   int            `json:"received"`
	Lost       *int           `json:"lost"` // null when it is not known which way packets were lost
	LossRatio  *float64       `json:"loss_ratio"`
	LossLow    *float64       `json:"loss_low_ratio"`
	LossHigh   *float64       `json:"loss_high_ratio"`
	Runs       int            `json:"loss_runs"`
	LongestRun int            `json:"longest_run"`
	BurstRatio *float64       `json:"burst_ratio"`
	Duplicates int            `json:"duplicates"`
	Reordered  int            `json:"reordered"`
	Reorder    *float64       `json:"reorder_ratio"`
	Extent     int            `json:"reorder_extent"`
	MinMs      *float64       `json:"delay_min_ms"`
	MeanMs     *float64       `json:"delay_mean_ms"`
	MedianMs   *float64       `json:"delay_median_ms"`
	P95Ms      *float64       `json:"delay_p95_ms"`
	P99Ms      *float64       `json:"delay_p99_ms"`
	MaxMs      *float64       `json:"delay_max_ms"`
	JitterMs   *float64       `json:"jitter_ms"`
	RFC3550Ms  *float64       `json:"jitter_rfc3550_ms"`
	PDVMs      *float64       `json:"pdv_ms"`
	Variation  *float64       `json:"variation_ms"`    // 99.9 % quantile less the minimum
	MediaMs    *float64       `json:"media_jitter_ms"` // as a receiver of RTP reckons it, on the mean; null without a codec
	MediaMost  *float64       `json:"media_jitter_max_ms"`
	LateSent   int            `json:"late_sent"`
	DSCPSent   *int           `json:"dscp_sent"` // null when it is not known
	DSCPs      []DSCPCount    `json:"dscp_received"`
	Shape      *ShapeReport   `json:"delay_shape,omitempty"`
	Quality    *QualityReport `json:"quality,omitempty"` // left out without a codec
	Spans      []StreamSpan   `json:"spans"`
}

// ShapeReport is how the delays of the packets that kept their order lie.
type ShapeReport struct {
	QuantilesMs []float64 `json:"quantiles_ms"`        // at delay.Parts
	Offset      bool      `json:"offset,omitempty"`    // all are off by what the two clocks are apart
	MemoryMs    float64   `json:"memory_ms,omitempty"` // after that the correlation of what lasts has fallen to 1/e; absent when none shows
	MemoryShare float64   `json:"memory_share_ratio,omitempty"`
	HeldMs      *float64  `json:"reordered_held_ms,omitempty"` // how much longer those took that came behind a later one
}

// shape writes how delays lie.
func (x Streamed) shape(s oneway.Shape) *ShapeReport {
	if len(s.Quantiles) == 0 {
		return nil
	}
	r := &ShapeReport{QuantilesMs: []float64{}, Offset: !x.Clock.InStep, MemoryMs: float64(s.Memory.For) / 1e6, MemoryShare: s.Memory.Share, HeldMs: millis(s.Held)}
	for _, q := range s.Quantiles {
		r.QuantilesMs = append(r.QuantilesMs, float64(q)/1e6)
	}
	return r
}

// DSCPCount is how many packets arrived with a DSCP.
type DSCPCount struct {
	DSCP    int `json:"dscp"`
	Packets int `json:"packets"`
}

// QualityReport is how calls sounded through a de-jitter buffer. Of several calls R and
// MOS are the median of them, and the worst of them.
type QualityReport struct {
	Buffer    string   `json:"buffer"`
	Discarded int      `json:"discarded"`
	Ratio     *float64 `json:"impaired_ratio"` // lost or discarded
	MouthMs   *float64 `json:"mouth_to_ear_ms"`
	R         *float64 `json:"r_factor"`
	MOS       *float64 `json:"mos"`
	WorstR    *float64 `json:"r_factor_worst"`
	WorstMOS  *float64 `json:"mos_worst"`
}

// StreamSpan is a stretch of a stream.
type StreamSpan struct {
	Start    float64  `json:"start_s"`
	Length   float64  `json:"span_s"`
	Sent     int      `json:"sent"`
	Lost     int      `json:"lost"`
	MedianMs *float64 `json:"delay_median_ms"`
	MaxMs    *float64 `json:"delay_max_ms"`
	JitterMs *float64 `json:"jitter_ms"`
	R        *float64 `json:"r_factor"`
	MOS      *float64 `json:"mos"`
}

// Streamed is what a stream is concluded from.
type Streamed struct {
	From, To    string
	There, Back []oneway.Stream // by call; empty where nothing was sent
	DSCPs       [2]int          // that were sent, there and back; -1 when not known
	Bps         [2]float64
	Clock       oneway.Clock
	Codec       *voice.Codec // nil when it is no call
	Buffer      voice.Buffer
	Rest, Load  figure.Duration
	// LossUnknown says that only packets are told of whose answer came back.
	LossUnknown bool
}

// Report writes what was found, with its findings. What names the run is the caller's
// to add.
func (x Streamed) Report() StreamReport {
	r := StreamReport{From: x.From, To: x.To, Clock: x.clock(), RTTRestMs: millis(x.Rest), RTTLoadMs: millis(x.Load), Directions: []StreamDirection{}, Findings: []Finding{}}
	for i, list := range [][]oneway.Stream{x.There, x.Back} {
		if len(list) == 0 {
			continue
		}
		r.Directions = append(r.Directions, x.direction(list, i == 0, x.DSCPs[i], x.Bps[i]))
	}
	r.Findings = x.conclude(r)
	return r
}

func (x Streamed) clock() ClockReport {
	c := ClockReport{InStep: x.Clock.InStep}
	if !x.Clock.Known {
		return c
	}
	c.ErrorMs = millis(figure.Of(x.Clock.Error))
	if !x.Clock.InStep {
		ppm := x.Clock.Skew * 1e6
		c.OffsetMs, c.SkewPPM = millis(figure.Of(x.Clock.Offset)), &ppm
	}
	return c
}

func (x Streamed) direction(list []oneway.Stream, there bool, dscp int, bps float64) StreamDirection {
	m := oneway.OfAll(list, x.Clock, there)
	d := StreamDirection{From: x.From, To: x.To, There: there, Bps: bps, Sent: m.Loss.Sent, Received: m.Loss.Sent - m.Loss.Lost,
		Runs: m.Pattern.Runs, LongestRun: m.Pattern.Longest, BurstRatio: number(m.Pattern.BurstRatio), Duplicates: m.Duplicates, Reordered: m.Order.Reordered,
		Reorder: number(m.Order.Ratio), Extent: m.Order.Extent, JitterMs: millis(m.Delay.Jitter), RFC3550Ms: millis(m.Delay.JitterRFC3550), PDVMs: millis(m.Delay.PDV),
		Variation: millis(m.PDV999), LateSent: m.Late, DSCPs: []DSCPCount{}, Spans: []StreamSpan{}}
	if !there {
		d.From, d.To = x.To, x.From
	}
	d.Direction = d.From + " → " + d.To
	if dscp >= 0 {
		d.DSCPSent = &dscp
	}
	if !x.LossUnknown {
		d.Lost, d.LossRatio = &m.Loss.Lost, ratio(m.Loss)
	}
	if low, high, ok := m.Loss.Interval(); ok && !x.LossUnknown {
		d.LossLow, d.LossHigh = &low, &high
	}
	if x.Clock.Known {
		d.MinMs, d.MeanMs, d.MedianMs = millis(m.Delay.Min), millis(m.Delay.Mean), millis(m.Delay.Median)
		d.P95Ms, d.P99Ms, d.MaxMs = millis(m.Delay.P95), millis(m.Delay.P99), millis(m.Delay.Max)
	}
	for value, n := range m.DSCPs {
		d.DSCPs = append(d.DSCPs, DSCPCount{value, n})
	}
	slices.SortFunc(d.DSCPs, func(a, b DSCPCount) int { return b.Packets - a.Packets })
	if x.Codec != nil {
		d.Quality = x.quality(list, there)
		d.MediaMs, d.MediaMost = x.media(list)
	}
	d.Shape = x.shape(m.Shape)
	d.Spans = x.seconds(list, there)
	return d
}

// media is the jitter by media times: the mean over all calls, and the greatest of any.
func (x Streamed) media(list []oneway.Stream) (mean, most *float64) {
	var sum, top time.Duration
	n := 0
	for _, s := range list {
		a, b := oneway.MediaJitter(s, int(x.Codec.Frame))
		if v, ok := a.Get(); ok {
			sum, top, n = sum+v, max(top, b.Or(0)), n+1
		}
	}
	if n == 0 {
		return nil, nil
	}
	return millis(figure.Of(sum / time.Duration(n))), millis(figure.Of(top))
}

func number(v figure.Number) *float64 {
	n, ok := v.Get()
	if !ok {
		return nil
	}
	return &n
}

func (x Streamed) quality(list []oneway.Stream, there bool) *QualityReport {
	q := &QualityReport{Buffer: "fixed"}
	if x.Buffer.Adaptive {
		q.Buffer = "adaptive"
	}
	var rs []float64
	var mouths []time.Duration
	impaired, all := 0, 0
	for _, s := range list {
		delays := oneway.Delays(s, x.Clock, there)
		one := voice.Judge(*x.Codec, x.Buffer, sentOnly(s, delays))
		q.Discarded += one.Discarded
		impaired += one.Lost + one.Discarded
		all += len(delays)
		if r, ok := one.R.Get(); ok {
			rs = append(rs, r)
		}
		if m, ok := one.Mouth.Get(); ok {
			mouths = append(mouths, m)
		}
	}
	if all > 0 {
		v := float64(impaired) / float64(all)
		q.Ratio = &v
	}
	// What a call is like hangs on the delay, and without a clock there is none.
	if !x.Clock.Known {
		return q
	}
	if len(mouths) > 0 {
		slices.Sort(mouths)
		q.MouthMs = millis(figure.Of(delay.Quantile(mouths, 0.5)))
	}
	if len(rs) > 0 {
		slices.Sort(rs)
		middle := (rs[(len(rs)-1)/2] + rs[len(rs)/2]) / 2
		mos, worst := voice.MOS(middle), voice.MOS(rs[0])
		q.R, q.MOS, q.WorstR, q.WorstMOS = &middle, &mos, &rs[0], &worst
	}
	return q
}

// sentOnly leaves out packets that never left.
func sentOnly(s oneway.Stream, delays []figure.Duration) []figure.Duration {
	var list []figure.Duration
	for i, d := range delays {
		if !s.Sent[i].IsZero() {
			list = append(list, d)
		}
	}
	return list
}

// mostSeconds is into how many stretches a stream is cut at most.
const mostSeconds = 300

// seconds cuts the streams into stretches of whole seconds.
func (x Streamed) seconds(list []oneway.Stream, there bool) []StreamSpan {
	first, last := bounds(list)
	if first.IsZero() {
		return []StreamSpan{}
	}
	step := time.Second
	for last.Sub(first)/step >= mostSeconds {
		step += time.Second
	}
	n := int(last.Sub(first)/step) + 1
	var cut [][]oneway.Stream
	for _, s := range list {
		cut = append(cut, s.Split(first, step, n))
	}
	out := []StreamSpan{}
	for k := range n {
		var parts []oneway.Stream
		for _, c := range cut {
			parts = append(parts, c[k])
		}
		m := oneway.OfAll(parts, x.Clock, there)
		s := StreamSpan{Start: (time.Duration(k) * step).Seconds(), Length: step.Seconds(), Sent: m.Loss.Sent, Lost: m.Loss.Lost, JitterMs: millis(m.Delay.Jitter)}
		if x.Clock.Known {
			s.MedianMs, s.MaxMs = millis(m.Delay.Median), millis(m.Delay.Max)
		}
		if x.Codec != nil && x.Clock.Known {
			var rs []float64
			for _, p := range parts {
				if r, ok := voice.Judge(*x.Codec, x.Buffer, oneway.Delays(p, x.Clock, there)).R.Get(); ok {
					rs = append(rs, r)
				}
			}
			if len(rs) > 0 {
				slices.Sort(rs)
				r := (rs[(len(rs)-1)/2] + rs[len(rs)/2]) / 2
				mos := voice.MOS(r)
				s.R, s.MOS = &r, &mos
			}
		}
		out = append(out, s)
	}
	return out
}

// bounds are when the first and the last packet left.
func bounds(list []oneway.Stream) (first, last time.Time) {
	for _, s := range list {
		for _, t := range s.Sent {
			if t.IsZero() {
				continue
			}
			if first.IsZero() || t.Before(first) {
				first = t
			}
			if t.After(last) {
				last = t
			}
		}
	}
	return first, last
}
