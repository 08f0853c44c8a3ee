package baseline

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMedianPicksWhatSortingWould(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for n := 1; n < 60; n++ {
		for range 50 {
			values := make([]float64, n)
			for i := range values {
				values[i] = float64(r.IntN(1 + n/2)) // with equal ones among them
			}
			sorted := slices.Clone(values)
			slices.Sort(sorted)
			assert.Equal(t, quantile(sorted, 0.5), median(values))
			slices.Sort(values)
			assert.Equal(t, sorted, values, "none is lost")
		}
	}
	assert.Zero(t, median(nil))
}

func TestCalmedIsTheMiddleOfFiveNeighbours(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 4))
	for range 500 {
		values := make([]float64, 9)
		for i := range values {
			values[i] = float64(r.IntN(6))
		}
		for i := range values {
			from := min(max(0, i-2), 4)
			five := slices.Clone(values[from : from+5])
			slices.Sort(five)
			assert.Equal(t, five[2], calmed(values, i), "%v at %d", values, i)
		}
	}
}
