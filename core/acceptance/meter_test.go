package acceptance_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/acceptance"
)

// TestMeter counts by hand: six frames of which one is lost, one comes twice and two change places.
func TestMeter(t *testing.T) {
	m := acceptance.Meter{Window: 2 * time.Millisecond, Windows: 3}
	begin := time.Unix(1_790_000_000, 0)
	add := func(n int64, took time.Duration) {
		due := time.Duration(n) * time.Millisecond
		m.Add(n, due, begin.Add(due), begin.Add(due+took), 100, 46)
	}
	add(0, 5*time.Millisecond)
	add(1, 5*time.Millisecond)
	add(4, 4*time.Millisecond)
	add(2, 8*time.Millisecond) // behind 4
	add(2, 9*time.Millisecond) // again
	add(5, 6*time.Millisecond)
	m.Damage()
	x := m.Done()
	assert.Equal(t, [6]int64{5, 500, 1, 1, 1, 3}, [6]int64{x.Packets, x.Bytes, x.Duplicates, x.Reordered, x.Damaged, x.Whole}, "3 is the first that did not come")
	assert.Equal(t, map[int]int64{46: 5}, x.Marks)
	assert.Equal(t, []acceptance.MeteredWindow{{2, 200, 0}, {1, 100, 3e6}, {2, 200, -1e6}}, x.Windows, "least transits, beyond the first frame's")
	d := x.DelayBy(acceptance.Clocks{Of: acceptance.OneWay, Offset: time.Millisecond})
	assert.Equal(t, acceptance.Delay{Of: acceptance.OneWay, LeastMs: 3, MeanMs: 4.6, P50Ms: 4, P99Ms: 6.92, P999Ms: 6.992, MostMs: 7}, *d)
	assert.InDelta(t, 3.992, d.VariationMs(), 1e-9)
	var none acceptance.Meter
	assert.Nil(t, none.Done().DelayBy(acceptance.Clocks{}), "of nothing nothing is known")
}

// TestQuantilesOfMany: of more frames than are kept the quantiles are those of a sample of all.
func TestQuantilesOfMany(t *testing.T) {
	var m acceptance.Meter
	begin := time.Unix(1_790_000_000, 0)
	r := rand.New(rand.NewPCG(3, 4))
	const n = 400_000
	for i := range n {
		took := time.Duration(r.Float64() * float64(10*time.Millisecond))
		if i >= n/2 { // later ones take longer: a sample of the first alone would not see it
			took += 10 * time.Millisecond
		}
		m.Add(int64(i), 0, begin, begin.Add(took), 64, -1)
	}
	d := m.Done().DelayBy(acceptance.Clocks{})
	assert.InDelta(t, 10, d.P50Ms, 0.2)
	assert.InDelta(t, 19.8, d.P99Ms, 0.05)
	assert.InDelta(t, 19.98, d.P999Ms, 0.02)
	assert.InDelta(t, 10, d.MeanMs, 0.05)
	require.Equal(t, int64(n), m.Done().Whole)
}
