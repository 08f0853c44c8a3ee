package guardbench

import (
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// RunSize measures how long it takes to tell a change among so many guarded paths: a hundred of
// them have readings, and a third of those change.
func RunSize(seed uint64, paths int) []float64 {
	r := rand.New(rand.NewPCG(seed, 3))
	b := calm()
	g := guard.New(guard.Options{})
	key := func(i int) guard.Key { return guard.Key{From: "northquay", To: fmt.Sprint("host", i)} }
	for i := range paths {
		g.Path(key(i)).Judge().SetBaseline(b)
	}
	started := begin.AddDate(0, 0, 14)
	const first, minutes, measured = 20, 50, 100
	shifts := make([]float64, measured)
	for i := range shifts {
		if i%3 == 0 {
			shifts[i] = between(r, 1.2, 10)
		}
	}
	for m := range minutes {
		at := started.Add(time.Duration(m) * time.Minute)
		for i, shift := range shifts {
			if m < first {
				shift = 0
			}
			p := quietPoint(r, at, 60, 10+shift, 0)
			if v, ok := p.Value(baseline.RTT); ok {
				p.Set(baseline.RTT, v+0.3*r.NormFloat64())
			}
			g.Add(key(i), p)
		}
	}
	var delays []float64
	for i := range shifts {
		for _, e := range g.Path(key(i)).Episodes() {
			delays = append(delays, e.ToldAt.Sub(started.Add(first*time.Minute)).Minutes())
		}
	}
	return delays
}

// PrintSize writes the delays among 100 and among 10,000 paths.
func PrintSize(w io.Writer, seed uint64) {
	few, many := RunSize(seed, 100), RunSize(seed, 10_000)
	fmt.Fprintf(w, "told among 100 paths after %.1f min (median), among 10,000 after %.1f: %.2f times\n", Median(few), Median(many), Median(many)/Median(few))
}
