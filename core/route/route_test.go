package route_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

func TestCarry(t *testing.T) {
	of := func(lost ...int) []loss.Ratio {
		var hops []loss.Ratio
		for _, n := range lost {
			hops = append(hops, loss.Ratio{Lost: n, Sent: 1000})
		}
		return hops
	}
	for _, c := range []struct {
		name   string
		hops   []loss.Ratio
		ratios []float64
		begins []int // hops, from 1
		spares []int
	}{
		{"nothing is lost", of(0, 0, 0, 0), []float64{0, 0, 0, 0}, nil, nil},
		{"four percent begin at hop 3 and carry on", of(0, 0, 40, 42, 39), []float64{0, 0, 0.039, 0.039, 0.039}, []int{3}, nil},
		{"hop 2 spares half of its answers", of(0, 500, 0, 0), []float64{0, 0, 0, 0}, nil, []int{2}},
		{"hop 2 never answers", of(0, 1000, 0, 0), []float64{0, 0, 0, 0}, nil, []int{2}},
		{"hop 2 spares, and loss begins at 3", of(0, 500, 50, 51), []float64{0, 0.05, 0.05, 0.051}, []int{2}, []int{2}},
		{"more is lost at each of two hops", of(20, 22, 80, 79), []float64{0.02, 0.022, 0.079, 0.079}, []int{1, 3}, nil},
		{"a little more by chance is no more", of(20, 25, 22, 28), []float64{0.02, 0.022, 0.022, 0.028}, []int{1}, nil},
		{"the target alone drops", of(0, 0, 0, 100), []float64{0, 0, 0, 0.1}, []int{4}, nil},
		{"nothing answers behind hop 2", of(0, 0, 1000, 1000), []float64{0, 0, 1, 1}, []int{3}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			var ratios []float64
			var begins, spares []int
			for i, x := range route.Carry(c.hops) {
				ratios = append(ratios, x.Ratio.Or(-1))
				if x.Begins {
					begins = append(begins, i+1)
				}
				if x.Spares {
					spares = append(spares, i+1)
				}
			}
			assert.InDeltaSlice(t, c.ratios, ratios, 1e-9)
			assert.Equal(t, c.begins, begins)
			assert.Equal(t, c.spares, spares)
		})
	}
	few := route.Carry([]loss.Ratio{{Lost: 0, Sent: 10}, {Lost: 1, Sent: 10}, {Lost: 1, Sent: 10}})
	assert.False(t, few[1].Begins, "one of ten is too little to tell")
	unasked := route.Carry([]loss.Ratio{{Lost: 0, Sent: 100}, {}, {Lost: 0, Sent: 100}})
	assert.False(t, unasked[1].Ratio.IsSet())
}

func TestAdd(t *testing.T) {
	around := func(ms float64) []time.Duration {
		var list []time.Duration
		for i := range 21 {
			list = append(list, time.Duration((ms+float64(i-10)*0.01)*float64(time.Millisecond)))
		}
		return list
	}
	ms := func(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }
	for _, c := range []struct {
		name           string
		hops           [][]time.Duration
		delay, carried []float64
		slow           []int
	}{
		{"each adds some", [][]time.Duration{around(1), around(5), around(25)}, []float64{1, 4, 20}, []float64{1, 4, 20}, nil},
		{"hop 2 answers slowly", [][]time.Duration{around(1), around(40), around(5)}, []float64{1, 39, -35}, []float64{1, 4, 0}, []int{2}},
		{"hop 2 is silent", [][]time.Duration{around(1), nil, around(25)}, []float64{1, -1, 24}, []float64{1, -1, 24}, nil},
		{"hop 2 a little slower by chance", [][]time.Duration{around(1), around(5.05), around(5)}, []float64{1, 4.05, -0.05}, []float64{1, 4, 0}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			var slow []int
			for i, x := range route.Add(c.hops) {
				if c.hops[i] == nil {
					assert.False(t, x.Delay.IsSet() || x.Median.IsSet() || x.Carried.IsSet(), "what did not answer has no delay")
					continue
				}
				assert.InDelta(t, c.delay[i], ms(x.Delay.Or(0)), 1e-6, "hop %d", i+1)
				assert.InDelta(t, c.carried[i], ms(x.Carried.Or(0)), 1e-6, "carried, hop %d", i+1)
				if x.Slow {
					slow = append(slow, i+1)
				}
			}
			assert.Equal(t, c.slow, slow)
		})
	}
}
