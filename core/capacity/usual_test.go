package capacity_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/capacity"
)

// TestUsual: worked by hand.
func TestUsual(t *testing.T) {
	for _, c := range []struct {
		name              string
		before            []capacity.Rate
		median, low, high float64
	}{
		{"all alike: 5 %", []capacity.Rate{100, 100, 100, 100, 100}, 100, 95, 105},
		// Distances from 100: 0, 10, 10, 20, 20; their median 10.
		{"spread", []capacity.Rate{80, 90, 100, 110, 120}, 100, 100 - 44.478, 100 + 44.478},
		{"one that is far off does not count", []capacity.Rate{100, 101, 99, 100, 5, 100}, 100, 95, 105},
		{"an even number of them", []capacity.Rate{10, 10, 20, 20, 10, 20}, 15, 0, 37.239},
	} {
		t.Run(c.name, func(t *testing.T) {
			u, ok := capacity.UsualOf(c.before)
			assert.True(t, ok)
			assert.InDelta(t, c.median, float64(u.Median), 1e-9)
			assert.InDelta(t, c.low, float64(u.Low), 1e-3)
			assert.InDelta(t, c.high, float64(u.High), 1e-3)
			assert.Equal(t, len(c.before), u.Readings)
		})
	}
	_, ok := capacity.UsualOf([]capacity.Rate{1, 2, 3, 4})
	assert.False(t, ok, "too few to say what is usual")
}
