package guardbench

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// path is one made-up path.
type path struct {
	climate climate
	fault   *made
	seed    uint64
	every   time.Duration
	probes  int
	zone    *time.Location
	start   time.Time
	days    int
	// during is called before each reading, with what the minutes that it is of are like.
	during func(t time.Time, minutes []state)
}

// points makes the readings of the path in order.
func (p *path) points(yield func(baseline.Point) bool) {
	r := rand.New(rand.NewPCG(p.seed, 2))
	bent := rand.New(rand.NewPCG(p.seed, 3))
	next := p.climate.make(rand.New(rand.NewPCG(p.seed, 1)))
	until := p.start.AddDate(0, 0, p.days)
	minutes := int(p.every / time.Minute)
	probes := max(1, p.probes/minutes/3)
	delays, jitters := make([]float64, 0, 3*minutes), make([]float64, 0, 3*minutes)
	weathers := make([]state, minutes)
	for t := p.start; t.Before(until); t = t.Add(p.every) {
		delays, jitters = delays[:0], jitters[:0]
		var sent, lost int
		var noise float64
		absent := false
		for k := range weathers {
			weathers[k] = next(t.Add(time.Duration(k) * time.Minute).In(p.zone))
		}
		if p.during != nil {
			p.during(t, weathers)
		}
		for k, weather := range weathers {
			m := t.Add(time.Duration(k) * time.Minute)
			absent = absent || weather.absent
			// In thirds, so that a change may begin in the middle of a minute.
			for third := range 3 {
				s := weather
				p.fault.apply(bent, &s, m.Add(time.Duration(third)*20*time.Second))
				sent += probes
				if s.down {
					lost += probes
					continue
				}
				here := min(probes, poisson(r, s.loss*float64(probes))+int(math.Round(s.burst/3)))
				lost += here
				noise += s.noise / float64(3*minutes)
				if here < probes {
					delays = append(delays, s.delay+s.tail)
					jitters = append(jitters, s.jitter)
				}
			}
		}
		if absent {
			continue
		}
		point := baseline.Point{At: t, Span: p.every, Sent: sent, Lost: lost, Answered: sent - lost}
		if point.Answered > 0 && len(delays) > 0 {
			slices.Sort(delays)
			point.Set(baseline.RTT, max(0.05, delays[len(delays)/2]+noise*r.NormFloat64()/math.Sqrt(float64(minutes))))
			var j float64
			for _, x := range jitters {
				j += x / float64(len(jitters))
			}
			point.Set(baseline.Jitter, max(0.01, j*(1+0.15*r.NormFloat64())))
		}
		if !yield(point) {
			return
		}
	}
}

// spread is the robust spread of the path's round trips around their middle by the hour of
// working days and days off, and that middle over all.
func (p *path) spread() (spread, middle float64) {
	clean := *p
	clean.fault, clean.days = nil, 14
	byHour := map[int][]float64{}
	var all []float64
	for point := range clean.points {
		if v, ok := point.Value(baseline.RTT); ok {
			local := point.At.In(p.zone)
			h := local.Hour()
			if weekend(local) {
				h += 24
			}
			byHour[h] = append(byHour[h], v)
			all = append(all, v)
		}
	}
	var off []float64
	for _, list := range byHour {
		m := medianOf(list)
		for _, v := range list {
			off = append(off, math.Abs(v-m))
		}
	}
	return 1.4826 * medianOf(off), medianOf(all)
}

func medianOf(list []float64) float64 {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[len(list)/2]
}
