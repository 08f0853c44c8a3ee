package guardbench

import (
	"fmt"
	"io"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// Cost is what it takes to train one path of each climate on a fortnight of minutes, and to judge
// one of its readings.
type Cost struct {
	Training []time.Duration // one a climate
	Judging  time.Duration   // a reading, on average over all
}

// RunCost measures it.
func RunCost(seed uint64) Cost {
	var c Cost
	var judged int
	var spent time.Duration
	for i, climate := range climates {
		p := path{climate: climate, seed: seed*1_000_003 + uint64(i), every: time.Minute, probes: 60, zone: time.UTC, start: begin, days: 16}
		train := p.start.AddDate(0, 0, 14)
		g := guard.NewPath(&guard.Options{Calendar: baseline.Calendar{Zone: p.zone}, Elsewhere: true}, 0)
		h := &baseline.History{}
		var rest []baseline.Point
		for point := range p.points {
			if point.At.Before(train) {
				g.Add(point)
				h.Add(point)
			} else {
				rest = append(rest, point)
			}
		}
		c.Training = append(c.Training, shortest(func() { g.Train(h, train) }))
		from := time.Now()
		for _, point := range rest {
			g.Add(point)
		}
		spent += time.Since(from)
		judged += len(rest)
	}
	c.Judging = spent / time.Duration(max(judged, 1))
	return c
}

// shortest is the time of the quickest of some runs: what is slower is the machine's.
func shortest(run func()) time.Duration {
	const times = 5
	least := time.Hour
	for range times {
		from := time.Now()
		run()
		least = min(least, time.Since(from))
	}
	return least
}

// Print writes the cost.
func (c Cost) Print(w io.Writer) {
	list := slices.Sorted(slices.Values(c.Training))
	fmt.Fprintf(w, "training a path of a fortnight of minutes: %.1f ms (median of %d climates), %.1f to %.1f; judging a reading of it: %.1f µs\n",
		ms(list[len(list)/2]), len(list), ms(list[0]), ms(list[len(list)-1]), float64(c.Judging.Nanoseconds())/1000)
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
