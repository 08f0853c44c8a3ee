package guardbench

import (
	"cmp"
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// askedSpreads is how many robust spreads a change has to be for it to count.
const askedSpreads = 3

// askedLong is how long a change has to go on for it to count.
const askedLong = 30 * time.Minute

// weigh holds the path with the fault against the path without it.
func (f *made) weigh(p path) {
	if !f.to.IsZero() && f.to.Sub(f.at) < askedLong {
		return
	}
	to := f.at.Add(12 * time.Hour)
	if !f.to.IsZero() && f.to.Before(to) {
		to = f.to
	}
	for _, m := range []baseline.Measure{baseline.RTT, baseline.Jitter, baseline.Loss} {
		then, otherwise, usual := p.beside(m, f.at, to)
		if len(then) == 0 || len(usual) == 0 {
			f.asked = f.asked || m == baseline.RTT // not a single answer
			continue
		}
		middle := medianOf
		least := max(1, 0.1*middle(usual))
		spread := spreadOf(usual)
		if m == baseline.Loss {
			middle, least = meanOf, 0.005
			// Where most readings lose nothing, the middle half of them has no width.
			spread = max(spread, (quantileOf(usual, 0.84)-quantileOf(usual, 0.16))/2)
		}
		by := middle(then) - middle(otherwise)
		f.asked = f.asked || by >= least && by >= askedSpreads*spread
	}
}

// beside are the readings of a measure from a time on: as they are, as they would be without the
// fault, and those of the same hours of like days before. The last are held against their hour.
func (p path) beside(m baseline.Measure, from, to time.Time) (then, otherwise, usual []float64) {
	clean := p
	clean.fault = nil
	for point := range p.points {
		if !point.At.Before(to) {
			break
		}
		if v, ok := point.Value(m); ok && !point.At.Before(from) {
			then = append(then, v)
		}
	}
	hours := map[int]bool{}
	for t := from; t.Before(to); t = t.Add(10 * time.Minute) {
		hours[hourOf(t.In(p.zone))] = true
	}
	for point := range clean.points {
		if !point.At.Before(to) {
			break
		}
		v, ok := point.Value(m)
		switch {
		case !ok:
		case !point.At.Before(from):
			otherwise = append(otherwise, v)
		case hours[hourOf(point.At.In(p.zone))]:
			usual = append(usual, v)
		}
	}
	return then, otherwise, usual
}

// hourOf is an hour of a working day or a day off.
func hourOf(local time.Time) int {
	if weekend(local) {
		return 24 + local.Hour()
	}
	return local.Hour()
}

func spreadOf(list []float64) float64 {
	m := medianOf(list)
	off := make([]float64, len(list))
	for i, v := range list {
		off[i] = math.Abs(v - m)
	}
	return 1.4826 * medianOf(off)
}

func meanOf(list []float64) (v float64) {
	for _, x := range list {
		v += x / float64(len(list))
	}
	return v
}

func quantileOf[T cmp.Ordered](list []T, p float64) T {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[min(len(list)-1, int(p*float64(len(list))))]
}
