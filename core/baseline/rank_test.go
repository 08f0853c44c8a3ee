package baseline

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGreater(t *testing.T) {
	// Wholly separated 5 and 5: U = 25, mean 12.5, sd √(25·11/12) = 4.787; with
	// continuity z = 12/4.787 = 2.507, one-sided 0.00609.
	assert.InDelta(t, 0.00609, greater([]float64{6, 7, 8, 9, 10}, []float64{1, 2, 3, 4, 5}), 5e-5)
	// The other way round z = (−12.5−0.5)/4.787.
	assert.InDelta(t, 0.99669, greater([]float64{1, 2, 3, 4, 5}, []float64{6, 7, 8, 9, 10}), 5e-5)
	// Ties share their mean rank: 1 1 | 1 2 has ranks 2 2 | 2 4, so U = 1 of 4,
	// ties 24, variance 4/12·(5 − 24/12) = 1, z = (1−2−0.5)/1.
	assert.InDelta(t, 0.93319, greater([]float64{1, 1}, []float64{1, 2}), 5e-5)
	assert.Equal(t, 1.0, greater([]float64{3, 3}, []float64{3, 3, 3}), "all equal")
	assert.Equal(t, 1.0, greater(nil, []float64{1}))
}

func TestChangeIndex(t *testing.T) {
	for _, c := range []struct {
		name   string
		values []float64
		rise   bool
		want   int
	}{
		{"up", []float64{1, 2, 1, 2, 9, 8, 9, 8}, true, 4},
		{"down", []float64{9, 8, 9, 1, 2, 1, 2}, false, 3},
		{"an outlier before", []float64{1, 90, 1, 2, 1, 2, 9, 8, 9, 8}, true, 6},
		{"no rise in a fall", []float64{9, 9, 9, 1, 1, 1}, true, 0},
		{"too few", []float64{4}, true, 0},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, changeIndex(c.values, c.rise)) })
	}
}
