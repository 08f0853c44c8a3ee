package throughput

import (
	"context"
	"fmt"
	"math"

	"woodlark.example/core/capacity"
	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/loss"
)

// finish concludes what the runs found.
func (m *measurement) finish(ctx context.Context) {
	for i, d := range m.last {
		if d == nil || d.Direction == "" {
			continue
		}
		d.Trimmed = bps(capacity.TrimmedMean(m.rates[i]))
		if m.report.Complete {
			m.judge(ctx, d)
		}
		m.othersBusy(d)
		m.report.Directions = append(m.report.Directions, *d)
	}
	if len(m.report.Directions) > 0 {
		m.report.Trimmed, m.report.HeldBy = m.report.Directions[0].Trimmed, m.report.Directions[0].HeldBy
	}
	m.report.ElapsedMs = figure.Millis(m.o.Network.Clock().Now().Sub(m.started))
	m.report.Findings = finding.OfThroughput(m.report)
}

// judge says what held a direction back. Of datagrams that only matters where some of them
// were lost.
func (m *measurement) judge(ctx context.Context, d *finding.ThroughputDirection) {
	udp := m.r.Protocol == capacity.UDP
	if udp && !loses(d) {
		return
	}
	own, machine := m.busy(d)
	e := capacity.Evidence{RTTRest: duration(d.RTTRestMs), RTTLoad: duration(d.RTTLoadMs), Own: own, Machine: machine, Datagrams: udp}
	if d.ReceivedBps != nil {
		e.Rate = capacity.Rate(*d.ReceivedBps)
	}
	if d.Segments != nil {
		e.Segments, e.Retransmits = *d.Segments, *d.Resent
		if d.ByReceiver != nil && d.ByBuffer != nil {
			e.ByReceiver, e.ByBuffer = figure.Of(*d.ByReceiver), figure.Of(*d.ByBuffer)
		}
	}
	if d.Rising = !udp && rising(d.Spans); d.Rising {
		d.HeldWhy = "it was still rising when the test ended"
		return
	}
	held := capacity.WhatHeld(e)
	if m.r.Direction != Both && (len(held) == 0 || held[0].Cause != capacity.ByWindow) {
		e.Below, e.Above = m.explain(ctx, d)
		held = capacity.WhatHeld(e)
	}
	d.HeldWhy = capacity.Nothing
	for i, h := range held {
		if i == 0 {
			d.HeldBy, d.HeldWhy, d.HeldSure = string(h.Cause), h.Why, h.Sure
			continue
		}
		d.HeldAlso = append(d.HeldAlso, finding.AlsoHeld{By: string(h.Cause), Why: h.Why, Sure: h.Sure})
	}
}

// loses reports whether surely more of the datagrams was lost than a sound way loses.
func loses(d *finding.ThroughputDirection) bool {
	if d.LossRatio == nil || d.Packets == nil {
		return false
	}
	low, _, ok := loss.Ratio{Lost: int(*d.LossRatio*float64(*d.Packets) + 0.5), Sent: int(*d.Packets)}.Interval()
	return ok && low >= 0.001
}

// othersBusy says apart from what held the rate that other programs kept a machine busy.
func (m *measurement) othersBusy(d *finding.ThroughputDirection) {
	for _, end := range []struct {
		who      string
		all, own *float64
	}{{m.report.From, d.BusyNear, d.BusiestNear}, {m.report.To, d.BusyFar, d.BusiestFar}} {
		const busy, little = 0.9, 0.5
		if end.all == nil || end.own == nil || *end.all < busy || *end.own >= little {
			continue
		}
		m.note(fmt.Sprintf("Other programs kept the machine of %s busy meanwhile (%.0f %% of it, this test %.0f %% of a processor).", end.who, 100**end.all, 100**end.own))
	}
}

// rising reports that the rate grew from second to second to the end, by a half at least.
func rising(list []finding.ThroughputSpan) bool {
	var rates []float64
	for _, i := range list {
		if !i.WarmUp && i.Length > 0.5 {
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

// busy is how busy the busier end was: with this, by the threads that moved the bytes or
// by how close the transfer came to what the end reaches within itself; and as a whole.
func (m *measurement) busy(d *finding.ThroughputDirection) (own, machine figure.Number) {
	most := func(list ...*float64) (n figure.Number) {
		for _, v := range list {
			if v != nil && *v >= n.Or(-1) {
				n = figure.Of(*v)
			}
		}
		return n
	}
	inside := []*float64{d.BusiestNear, d.BusiestFar}
	if y := m.report.Yardstick; y != nil && d.ReceivedBps != nil {
		for _, v := range []*float64{y.NearBps, y.FarBps} {
			if v != nil && *v > 0 {
				part := math.Min(1, *d.ReceivedBps / *v)
				inside = append(inside, &part)
			}
		}
	}
	return most(inside...), most(d.BusyNear, d.BusyFar)
}
