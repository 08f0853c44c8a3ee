package oneway

import (
	"slices"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// OfAll computes what several streams met that went the same way side by side, such as
// calls. Neighbours are within a stream only: the pattern is that of all streams one
// after the other.
func OfAll(list []Stream, c Clock, far bool) Direction {
	if len(list) == 1 {
		return Of(list[0], c, far)
	}
	all := Direction{DSCPs: map[int]int{}, TTLs: map[int]int{}}
	var samples []delay.Sample
	var lost []bool
	arrived := 0
	shape := Shape{} // the delays are all streams', what lasts of them the first one's
	for _, s := range list {
		one := Of(s, c, far)
		all.Duplicates += one.Duplicates
		all.Late += one.Late
		all.Order.Reordered += one.Order.Reordered
		all.Order.Extent = max(all.Order.Extent, one.Order.Extent)
		arrived += one.Loss.Sent - one.Loss.Lost
		if shape.Memory.For == 0 {
			shape.Memory = one.Shape.Memory
		}
		if held, some := one.Shape.Held.Get(); some {
			shape.Held = figure.Of(max(held, shape.Held.Or(0)))
		}
		for k, n := range one.DSCPs {
			all.DSCPs[k] += n
		}
		for k, n := range one.TTLs {
			all.TTLs[k] += n
		}
		for i, d := range Delays(s, c, far) {
			if s.Sent[i].IsZero() {
				continue
			}
			v, ok := d.Get()
			if ok {
				samples = append(samples, delay.Sample{Number: len(lost), RTT: v})
			}
			lost = append(lost, !ok)
		}
		lost = append(lost, false) // keeps streams apart
	}
	all.Loss = loss.Ratio{Lost: len(lost) - len(list) - len(samples), Sent: len(lost) - len(list)}
	all.Pattern, all.Delay = loss.PatternOf(lost), delay.Summarise(samples)
	if len(samples) > 0 {
		all.PDV999 = pdv(samples, 0.999)
	}
	shape.Quantiles = quantiles(samples)
	all.Shape = shape
	if arrived > 0 {
		all.Order.Ratio = figure.Of(float64(all.Order.Reordered) / float64(arrived))
	}
	return all
}

func quantiles(samples []delay.Sample) []time.Duration {
	sorted := make([]time.Duration, len(samples))
	for i, s := range samples {
		sorted[i] = s.RTT
	}
	slices.Sort(sorted)
	return delay.Quantiles(sorted)
}

// Split cuts a stream into stretches by when packets were sent, by the sender's clock:
// n of them, each of a step, from a time on. Their packets are numbered anew.
func (s Stream) Split(from time.Time, step time.Duration, n int) []Stream {
	parts := make([]Stream, n)
	part, number := make([]int, len(s.Sent)), make([]int, len(s.Sent))
	for i := range parts {
		parts[i].Interval = s.Interval
	}
	for i, t := range s.Sent {
		part[i] = -1
		if t.IsZero() || t.Before(from) {
			continue
		}
		if k := int(t.Sub(from) / step); k < n {
			part[i], number[i] = k, len(parts[k].Sent)
			parts[k].Sent = append(parts[k].Sent, t)
		}
	}
	for _, a := range s.Arrivals {
		if a.Number < 0 || a.Number >= len(part) || part[a.Number] < 0 {
			continue
		}
		k := part[a.Number]
		a.Number = number[a.Number]
		parts[k].Arrivals = append(parts[k].Arrivals, a)
	}
	return parts
}
