package throughput

import (
	"context"
	"math"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
)

// finish concludes what the runs found.
func (m *measurement) finish(ctx context.Context) {
	for i, d := range m.last {
		if d == nil || d.Direction == "" {
			continue
		}
		d.Trimmed = bps(capacity.TrimmedMean(m.rates[i]))
		if m.r.Protocol == capacity.TCP && m.report.Complete {
			m.judge(ctx, d)
		}
		m.report.Directions = append(m.report.Directions, *d)
	}
	if len(m.report.Directions) > 0 {
		m.report.Trimmed, m.report.HeldBy = m.report.Directions[0].Trimmed, m.report.Directions[0].HeldBy
	}
	m.report.ElapsedMs = figure.Millis(m.o.Network.Clock().Now().Sub(m.started))
	m.report.Findings = finding.OfThroughput(m.report)
}

// judge says what held a direction back.
func (m *measurement) judge(ctx context.Context, d *finding.ThroughputDirection) {
	e := capacity.Evidence{RTTRest: duration(d.RTTRestMs), RTTLoad: duration(d.RTTLoadMs), Busy: m.busy(d)}
	if d.ReceivedBps != nil {
		e.Rate = capacity.Rate(*d.ReceivedBps)
	}
	if d.Segments != nil {
		e.Segments, e.Retransmits = *d.Segments, *d.Retransmits
		e.ByReceiver, e.ByBuffer = figure.Of(*d.ByReceiver), figure.Of(*d.ByBuffer)
	}
	if d.Rising = rising(d.Intervals); d.Rising {
		d.HeldWhy = "it was still rising when the test ended"
		return
	}
	h := capacity.WhatHeld(e)
	if h.Cause != capacity.ByWindow && h.Cause != capacity.ByHost && m.r.Direction != Both {
		e.Below, e.Above = m.explain(ctx, d)
		h = capacity.WhatHeld(e)
	}
	d.HeldBy, d.HeldWhy, d.HeldSure = string(h.Cause), h.Why, h.Sure
}

// rising reports that the rate grew from second to second to the end, by a half at least.
func rising(list []finding.ThroughputInterval) bool {
	var rates []float64
	for _, i := range list {
		if !i.WarmUp && i.Seconds > 0.5 {
			rates = append(rates, i.ReceivedBps)
		}
	}
	n := len(rates)
	if n < 3 || rates[n-1] < 1.5*rates[0] {
		return false
	}
	for k := 1; k < n; k++ {
		if rates[k] < 0.98*rates[k-1] {
			return false
		}
	}
	return rates[n-1] > 1.05*rates[n-2]
}

func duration(ms *float64) figure.Duration {
	if ms == nil {
		return figure.Duration{}
	}
	return figure.Of(figure.FromMillis(*ms))
}

// busy is how busy the busier end was: the threads that moved the bytes, its whole
// machine, or as close as the transfer came to what that reaches within itself.
func (m *measurement) busy(d *finding.ThroughputDirection) figure.Number {
	most := -1.0
	for _, v := range []*float64{d.BusyNear, d.BusyFar, d.BusiestNear, d.BusiestFar} {
		if v != nil {
			most = max(most, *v)
		}
	}
	if y := m.report.Yardstick; y != nil && d.ReceivedBps != nil {
		for _, v := range []*float64{y.NearBps, y.FarBps} {
			if v != nil && *v > 0 {
				most = max(most, math.Min(1, *d.ReceivedBps / *v))
			}
		}
	}
	if most < 0 {
		return figure.Number{}
	}
	return figure.Of(most)
}
