package reading

import (
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
)

// Figures is a reading as it is written for machines, the same on the command
// line and over HTTP. The unit is in each key; what could not be computed is
// null.
type Figures struct {
	StartedAt       time.Time `json:"started_at"`
	SpanS           float64   `json:"span_s" doc:"How long the reading lasted, in seconds"`
	Expected        int       `json:"expected,omitzero" doc:"Probes that were due; left out when not known"`
	Sent            int       `json:"sent"`
	Answered        int       `json:"answered"`
	Lost            int       `json:"lost" doc:"No answer within the wait; late ones count"`
	Late            int       `json:"late"`
	Refused         int       `json:"refused"`
	Unsent          int       `json:"unsent"`
	Duplicates      int       `json:"duplicates"`
	LateSent        int       `json:"late_sent" doc:"Probes that this host sent late"`
	Reordered       *int      `json:"reordered" doc:"Answers that the answer to a later probe overtook"`
	Damaged         *int      `json:"damaged" doc:"Answers with another payload than was sent; they count as none"`
	LossRatio       *float64  `json:"loss_ratio"`
	LossLowRatio    *float64  `json:"loss_low_ratio" doc:"Lower limit of the 95 % Wilson interval"`
	LossHighRatio   *float64  `json:"loss_high_ratio" doc:"Upper limit of the 95 % Wilson interval"`
	LossSettlesAt   *int      `json:"loss_settles_at" doc:"Probes in all that would narrow the interval to ±1 point"`
	RTTMinMs        *float64  `json:"rtt_min_ms"`
	RTTMeanMs       *float64  `json:"rtt_mean_ms"`
	RTTMedianMs     *float64  `json:"rtt_median_ms"`
	RTTP95Ms        *float64  `json:"rtt_p95_ms"`
	RTTP99Ms        *float64  `json:"rtt_p99_ms"`
	RTTMaxMs        *float64  `json:"rtt_max_ms"`
	RTTSDMs         *float64  `json:"rtt_sd_ms"`
	JitterMs        *float64  `json:"jitter_ms"`
	JitterRFC3550Ms *float64  `json:"jitter_rfc3550_ms"`
	PDVMs           *float64  `json:"pdv_ms"`
	SpreadMs        *float64  `json:"spread_ms"`
	Timestamps      string    `json:"timestamps" doc:"Where round-trip times were taken: kernel, user, world or none"`
	Cause           string    `json:"cause" doc:"What the last refusal or failed sending said"`
	AnsweredAs      string    `json:"answered_as" doc:"How it was answered where otherwise than asked, such as by a datagram of its own; else empty"`
	OtherAddress    string    `json:"other_address" doc:"The address that answered in the target's place; empty when none did"`
}

// Figures writes the reading for machines.
func (r Reading) Figures() Figures {
	f := Figures{
		StartedAt: r.At.UTC(), SpanS: r.Span.Seconds(), Expected: r.Expected, Sent: r.Sent, Answered: r.Answered, Lost: r.Lost,
		Late: r.Late, Refused: r.Refused, Unsent: r.Unsent, Duplicates: r.Duplicates, LateSent: r.LateSent,
		RTTMinMs: figure.Ms(r.RTT.Min), RTTMeanMs: figure.Ms(r.RTT.Mean), RTTMedianMs: figure.Ms(r.RTT.Median), RTTP95Ms: figure.Ms(r.RTT.P95),
		RTTP99Ms: figure.Ms(r.RTT.P99), RTTMaxMs: figure.Ms(r.RTT.Max), RTTSDMs: figure.Ms(r.RTT.SD), JitterMs: figure.Ms(r.RTT.Jitter),
		JitterRFC3550Ms: figure.Ms(r.RTT.JitterRFC3550), PDVMs: figure.Ms(r.RTT.PDV), SpreadMs: figure.Ms(r.RTT.Spread),
		Timestamps: r.Stamp.String(), Cause: r.Cause, AnsweredAs: r.As, OtherAddress: r.Other,
	}
	if n, ok := r.Reordered.Get(); ok {
		f.Reordered = &n
	}
	if n, ok := r.Damaged.Get(); ok {
		f.Damaged = &n
	}
	if ratio, ok := r.Loss().Value().Get(); ok {
		low, high, _ := r.Loss().Interval()
		f.LossRatio, f.LossLowRatio, f.LossHighRatio = &ratio, &low, &high
	}
	if n, ok := r.Loss().SettlesAtPoint().Get(); ok {
		f.LossSettlesAt = &n
	}
	return f
}

// Reading reads figures back.
func (f Figures) Reading() Reading {
	d := func(ms *float64) figure.Duration {
		if ms == nil {
			return figure.Duration{}
		}
		return figure.Of(figure.FromMillis(*ms))
	}
	n := func(v *int) figure.Opt[int] {
		if v == nil {
			return figure.Opt[int]{}
		}
		return figure.Of(*v)
	}
	return Reading{
		Reordered: n(f.Reordered), Damaged: n(f.Damaged), As: f.AnsweredAs, Other: f.OtherAddress,
		At: f.StartedAt, Span: time.Duration(f.SpanS * float64(time.Second)), Expected: f.Expected, Sent: f.Sent, Answered: f.Answered,
		Lost: f.Lost, Late: f.Late, Refused: f.Refused, Unsent: f.Unsent, Duplicates: f.Duplicates, LateSent: f.LateSent, Cause: f.Cause,
		Stamp: StampFrom(f.Timestamps),
		RTT: delay.Summary{Count: f.Answered, Min: d(f.RTTMinMs), Mean: d(f.RTTMeanMs), Median: d(f.RTTMedianMs), P95: d(f.RTTP95Ms),
			P99: d(f.RTTP99Ms), Max: d(f.RTTMaxMs), SD: d(f.RTTSDMs), Jitter: d(f.JitterMs), JitterRFC3550: d(f.JitterRFC3550Ms),
			PDV: d(f.PDVMs), Spread: d(f.SpreadMs)},
	}
}
