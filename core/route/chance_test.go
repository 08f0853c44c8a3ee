package route_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

// TestChance: worked by counting the ways to draw.
func TestChance(t *testing.T) {
	for _, c := range []struct {
		name         string
		mine, others []float64
		want         float64
	}{
		{"the highest of four", []float64{2}, []float64{1, 1, 1}, 1. / 4},
		{"the two highest of four", []float64{3, 4}, []float64{1, 2}, 1. / 6},
		{"one below the top of three", []float64{2}, []float64{1, 3}, 2. / 3},
		{"all alike", []float64{1, 1}, []float64{1, 1}, 1},
		{"eight above eight", []float64{2, 2, 2, 2, 2, 2, 2, 2}, []float64{1, 1, 1, 1, 1, 1, 1, 1}, 1. / 12870},
		{"nobody", nil, []float64{1}, 1},
		{"no others", []float64{1}, nil, 1},
	} {
		assert.InDelta(t, c.want, route.Chance(c.mine, c.others), 1e-12, c.name)
	}
	// More ways than are counted: a sample, which is the same each time.
	var low, high []float64
	for n := range 24 {
		low, high = append(low, float64(n%3)), append(high, float64(n%3)+30)
	}
	assert.InDelta(t, 1./20001, route.Chance(high, low), 1e-12, "no draw comes near")
	assert.InDelta(t, 1, route.Chance(low, high), 1e-12)
	even := route.Chance(low, low)
	assert.InDelta(t, 0.5, even, 0.15)
	assert.Equal(t, even, route.Chance(low, low))
}

func TestShift(t *testing.T) {
	assert.Equal(t, 30.0, route.Shift([]float64{42, 72}, []float64{12, 42}), "of 30, 0, 60 and 30")
	assert.Equal(t, 1.5, route.Shift([]float64{3}, []float64{1, 2}))
	assert.True(t, math.IsNaN(route.Shift(nil, []float64{1})))
}

// TestUneven: 20 of 100 and 10 of 100 have a chi-square of 3.92 with one degree of freedom, of which
// the chance is 0.048; the cube root comes within a few thousandths of it.
func TestUneven(t *testing.T) {
	of := func(lost ...int) (list []route.FlowFigures) {
		for _, n := range lost {
			list = append(list, route.FlowFigures{Loss: loss.Ratio{Lost: n, Sent: 100}})
		}
		return list
	}
	assert.InDelta(t, 0.048, route.Uneven(of(20, 10)), 0.005)
	assert.Greater(t, route.Uneven(of(10, 11, 9, 10)), 0.9)
	assert.Less(t, route.Uneven(of(20, 0, 20, 0)), 1e-6)
	assert.Equal(t, 1.0, route.Uneven(of(1, 0, 0, 0)), "too few to tell")
	assert.Equal(t, 1.0, route.Uneven(of(50)), "one flow differs from none")
	assert.Equal(t, 1.0, route.Uneven(of(100, 100)))
}
