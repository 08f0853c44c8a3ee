package oneway_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"woodlark.example/core/oneway"
)

// TestMediaJitter: worked by hand from RFC 3550 A.8, in milliseconds.
func TestMediaJitter(t *testing.T) {
	start := time.Unix(1000, 0)
	for _, c := range []struct {
		name       string
		frame      int
		numbers    []int
		at         []float64 // ms
		mean, most float64
	}{
		{"on time", 1, []int{0, 1, 2}, []float64{5, 25, 45}, 0, 0},
		// D = 16 − 0, then −16: J = 1, then 1 + 15/16.
		{"one late", 1, []int{0, 1, 2}, []float64{0, 36, 40}, (1 + 1.9375) / 3, 1.9375},
		{"a lost one is no jitter", 1, []int{0, 2, 3}, []float64{0, 40, 60}, 0, 0},
		// The second of a frame has the media time of the first: D = 3.2.
		{"two packets of a frame", 2, []int{0, 1}, []float64{0, 3.2}, 0.1, 0.2},
		// Overtaken: 0 for the second, then media goes back by 20 and arrivals on by 1.
		{"overtaken", 1, []int{0, 2, 1}, []float64{0, 40, 41}, 21.0 / 16 / 3, 21.0 / 16},
		{"a single one", 1, []int{4}, []float64{80}, 0, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := oneway.Stream{Interval: 20 * time.Millisecond}
			for i, n := range c.numbers {
				s.Arrivals = append(s.Arrivals, oneway.Arrival{Number: n, At: start.Add(time.Duration(c.at[i] * 1e6))})
			}
			mean, most := oneway.MediaJitter(s, c.frame)
			m, ok := mean.Get()
			assert.True(t, ok)
			assert.InDelta(t, c.mean*1e6, float64(m), 2)
			top, _ := most.Get()
			assert.InDelta(t, c.most*1e6, float64(top), 2)
		})
	}
	for _, s := range []oneway.Stream{{}, {Interval: time.Second}, {Arrivals: []oneway.Arrival{{}}}} {
		mean, most := oneway.MediaJitter(s, 1)
		assert.Equal(t, [2]bool{}, [2]bool{mean.IsSet(), most.IsSet()})
	}
}
