package guard_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// minuteOf is a minute in which some probes are sent, and a part of them lost.
func minuteOf(r *rand.Rand, m, sent int, loss float64) baseline.Point {
	p := baseline.Point{At: at(m), Span: time.Minute, Sent: sent}
	for range sent {
		if r.Float64() < loss {
			p.Lost++
		}
	}
	p.Answered = p.Sent - p.Lost
	if p.Answered > 0 {
		p.Set(baseline.RTT, 10+0.1*r.NormFloat64())
		p.Set(baseline.Jitter, 0.2*(1+0.1*r.NormFloat64()))
	}
	return p
}

// lossless is what is normal of a path that answers in 10 ms and loses nothing.
func lossless(t *testing.T) *baseline.Baseline {
	r := rand.New(rand.NewPCG(1, 1))
	var h baseline.History
	for m := range 10 * day {
		h.Add(minuteOf(r, m, 12, 0))
	}
	b, err := baseline.Build(&h, baseline.Training{})
	require.NoError(t, err)
	return b
}

// branches are paths from two offices over one core to four islands: three of them behind a hop
// that does not answer, whose link loses, and one beside it.
func branches(t *testing.T, b *baseline.Baseline, began int) (g *guard.Guard, worse, well []guard.Key) {
	t.Helper()
	g = guard.New(guard.Options{})
	for i, from := range []string{"northquay", "drydock"} {
		for n, to := range []string{"192.0.2.11", "192.0.2.12", "192.0.2.13", "192.0.2.14"} {
			k := guard.Key{From: from, To: to, Family: "4"}
			g.Path(k).Judge().SetBaseline(b)
			gate := fmt.Sprintf("198.51.100.%d", i+1)
			if n < 3 {
				worse = append(worse, k)
				g.Route(k, at(began), []string{gate, "198.51.100.9", "", to})
			} else {
				well = append(well, k)
				g.Route(k, at(began), []string{gate, "198.51.100.9", "198.51.100.8", to})
			}
		}
	}
	return g, worse, well
}

// TestOneFaultIsOneIncident: of few probes some paths lose none for minutes, and are told of later
// than others. What they have in common is still one thing, and goes on until it is over.
func TestOneFaultIsOneIncident(t *testing.T) {
	b := lossless(t)
	const seeds, first, minutes = 150, 10, 90
	start := 14 * day
	var doubled, short int
	for seed := range uint64(seeds) {
		r := rand.New(rand.NewPCG(seed, 5))
		g, worse, well := branches(t, b, start)
		for m := range minutes {
			for _, k := range worse {
				loss := 0.0
				if m >= first {
					loss = 0.078
				}
				g.Add(k, minuteOf(r, start+m, 12, loss))
			}
			for _, k := range well {
				g.Add(k, minuteOf(r, start+m, 12, 0))
			}
		}
		list := g.Incidents()
		if len(list) != 1 {
			doubled++
			continue
		}
		assert.Equal(t, "198.51.100.9", list[0].Segment.From, "seed %d", seed)
		assert.Empty(t, list[0].Segment.To, "seed %d: the hop behind it does not answer", seed)
		if len(list[0].Members) < len(worse) {
			short++
		}
	}
	t.Logf("%d of %d told as several incidents, %d of some of the paths", doubled, seeds, short)
	assert.LessOrEqual(t, doubled, 1)
	assert.LessOrEqual(t, short, seeds/20, "some are told of after more than an hour")
}
