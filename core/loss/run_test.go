package loss_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/loss"
)

// series has losses in a stretch, and single ones by chance.
func series(n, from, to int, single float64) []bool {
	r := rand.New(rand.NewPCG(3, uint64(n)))
	list := make([]bool, n)
	for i := range list {
		list[i] = i >= from && i < to || r.Float64() < single
	}
	return list
}

func TestOneOutage(t *testing.T) {
	for _, c := range []struct {
		name string
		lost []bool
		want int // lost in the outage; 0 for none
	}{
		{"a hundred in a row", series(3000, 500, 600, 0), 100},
		{"three in a row of a hundred: 98 ÷ C(100,3)", series(100, 50, 53, 0), 3},
		{"two in a row of a hundred are too few", series(100, 50, 52, 0), 0},
		{"three in a row of ten come by chance: 8 ÷ 120", series(10, 4, 7, 0), 0},
		{"at the end, and still going on", series(200, 150, 200, 0), 50},
		{"a run, and losses beside it", series(3000, 500, 600, 0.02), 0},
		{"at random", series(1000, 0, 0, 0.05), 0},
		{"all", series(50, 0, 50, 0), 0},
		{"none", series(50, 0, 0, 0), 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			o, ok := loss.OneOutage(c.lost)
			assert.Equal(t, c.want > 0, ok, "%+v", o)
			if ok {
				assert.Equal(t, c.want, o.Lost)
				assert.Equal(t, c.want, o.To-o.From+1)
				assert.Less(t, o.Chance, 0.01)
			}
		})
	}
	o, ok := loss.OneOutage(series(100, 50, 53, 0))
	require.True(t, ok)
	assert.InDelta(t, 98./161700, o.Chance, 1e-9, "98 places for the run, 161,700 for three losses")
	gap := series(3000, 500, 600, 0)
	gap[550] = false
	o, ok = loss.OneOutage(gap)
	assert.True(t, ok, "one stray answer does not end it")
	assert.Equal(t, 99, o.Lost)
}

func TestLongestRun(t *testing.T) {
	o, ok := loss.LongestRun(series(3000, 500, 560, 0.02))
	require.True(t, ok)
	assert.GreaterOrEqual(t, o.Lost, 60)
	assert.Less(t, o.Chance, 1e-12)
	_, ok = loss.LongestRun(series(3000, 0, 0, 0.05))
	assert.False(t, ok, "what chance makes")
	_, ok = loss.LongestRun(nil)
	assert.False(t, ok)
}
