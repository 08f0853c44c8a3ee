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

// askedLong is how long a change has to go on, and be measured, for it to count.
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
	for _, m := range []baseline.Measure{baseline.Loss, baseline.RTT, baseline.Jitter} {
		then, otherwise, byHour := p.beside(m, f.at, to)
		if m == baseline.Loss && time.Duration(len(then))*p.every < askedLong {
			return
		}
		if len(then) == 0 || len(byHour) == 0 {
			f.asked = f.asked || m == baseline.RTT // not a single answer
			continue
		}
		middle, least := medianOf, max(1, 0.1*medianOf(otherwise))
		if m == baseline.Loss {
			middle, least = meanOf, 0.005
		}
		by := middle(then) - middle(otherwise)
		f.asked = f.asked || by >= least && by >= askedSpreads*spreadOf(byHour, m == baseline.Loss)
	}
}

// spreadOf is the robust spread of readings around the middle of their hour: by their median
// deviation; of losses, which most readings have none of, by the middle two thirds if that is
// wider.
func spreadOf(byHour map[int][]float64, losses bool) float64 {
	var off, far []float64
	for _, list := range byHour {
		m := medianOf(list)
		for _, v := range list {
			off, far = append(off, v-m), append(far, math.Abs(v-m))
		}
	}
	spread := 1.4826 * medianOf(far)
	if losses {
		spread = max(spread, (quantileOf(off, 0.84)-quantileOf(off, 0.16))/2)
	}
	return spread
}

// beside are the readings of a measure from a time on: as they are, as they would be without the
// fault, and those of the same hours of like days before, by the hour.
func (p path) beside(m baseline.Measure, from, to time.Time) (then, otherwise []float64, byHour map[int][]float64) {
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
	byHour = map[int][]float64{}
	for t := from; t.Before(to); t = t.Add(10 * time.Minute) {
		hours[hourOf(t.In(p.zone))] = true
	}
	for point := range clean.points {
		if !point.At.Before(to) {
			break
		}
		v, ok := point.Value(m)
		hour := hourOf(point.At.In(p.zone))
		switch {
		case !ok:
		case !point.At.Before(from):
			otherwise = append(otherwise, v)
		case hours[hour]:
			byHour[hour] = append(byHour[hour], v)
		}
	}
	return then, otherwise, byHour
}

// hourOf is an hour of a working day or a day off.
func hourOf(local time.Time) int {
	if weekend(local) {
		return 24 + local.Hour()
	}
	return local.Hour()
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
