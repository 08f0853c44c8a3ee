package delay_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/delay"
)

func TestStepOf(t *testing.T) {
	const ms = time.Millisecond
	r := rand.New(rand.NewPCG(5, 7))
	made := func(n int, level func(i int) float64, noise float64) []time.Duration {
		list := make([]time.Duration, n)
		for i := range list {
			list[i] = time.Duration((level(i) + noise*r.ExpFloat64()) * float64(ms))
		}
		return list
	}
	at := func(from int, before, after float64) func(int) float64 {
		return func(i int) float64 {
			if i < from {
				return before
			}
			return after
		}
	}
	for _, c := range []struct {
		name   string
		series []time.Duration
		want   int // place of the step; 0 for none
	}{
		{"18 ms more from the 300th on", made(1000, at(300, 22, 40), 0.5), 300},
		{"9 ms less", made(400, at(200, 31, 22), 0.5), 200},
		{"late, over 12 delays", made(600, at(588, 10, 20), 0.2), 588},
		{"one level", made(1000, at(0, 0, 22), 0.5), 0},
		{"a slow drift", made(1000, func(i int) float64 { return 20 + float64(i)/100 }, 0.3), 0},
		{"a stretch that passes", made(1000, func(i int) float64 { return at(300, 22, 40)(i) - at(600, 0, 18)(i) }, 0.5), 0},
		{"two ways by turns", made(1000, func(i int) float64 { return 20 + 10*float64(i%2) }, 0.3), 0},
		{"half a millisecond is not worth a word", made(1000, at(500, 20, 20.5), 0.02), 0},
		{"a long tail", made(1000, at(0, 0, 20), 15), 0},
		{"too few", made(15, at(8, 10, 20), 0.1), 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, ok := delay.StepOf(c.series)
			assert.Equal(t, c.want > 0, ok, "%+v", s)
			if ok {
				assert.InDelta(t, c.want, s.At, 3)
				assert.Less(t, s.Chance, 1e-3)
			}
		})
	}
	_, ok := delay.StepOf(nil)
	assert.False(t, ok)
}
