package loss_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/loss"
)

func TestWilsonInterval(t *testing.T) {
	// Worked from the formula with z = 1.959964.
	for _, c := range []struct {
		r         loss.Ratio
		low, high float64
	}{
		{loss.Ratio{Lost: 1, Sent: 4}, 0.0456, 0.6994},
		{loss.Ratio{Lost: 0, Sent: 10}, 0, 0.2775},
		{loss.Ratio{Lost: 10, Sent: 10}, 0.7225, 1},
		{loss.Ratio{Lost: 20, Sent: 1000}, 0.01299, 0.03068},
		{loss.Ratio{Lost: 50, Sent: 100}, 0.4038, 0.5962},
	} {
		low, high, ok := c.r.Interval()
		require.True(t, ok)
		assert.InDelta(t, c.low, low, 5e-5, "%+v", c.r)
		assert.InDelta(t, c.high, high, 5e-5, "%+v", c.r)
	}
	_, _, ok := loss.Ratio{}.Interval()
	assert.False(t, ok, "nothing sent, nothing known")
	assert.False(t, loss.Ratio{}.Value().IsSet())
}

func TestSettlesAt(t *testing.T) {
	for _, r := range []loss.Ratio{{0, 20}, {1, 4}, {20, 1000}} {
		n, ok := r.SettlesAtPoint().Get()
		require.True(t, ok)
		p := float64(r.Lost) / float64(r.Sent)
		// With n probes the interval is no wider than ±1 point, with one fewer it is.
		half := func(n int) float64 {
			low, high := wilson(p, n)
			return (high - low) / 2
		}
		assert.LessOrEqual(t, half(n), 0.01)
		assert.Greater(t, half(n-1), 0.01)
	}
	assert.False(t, loss.Ratio{Lost: 0, Sent: 50}.SettlesAtFifth().IsSet(), "a fifth of nothing is never reached")
	fifth, _ := loss.Ratio{Lost: 50, Sent: 100}.SettlesAtFifth().Get()
	assert.InDelta(t, 92.2, fifth, 2, "z²·p(1−p)/0.1² − z²")
}

func wilson(p float64, n int) (float64, float64) {
	z, m := 1.959963984540054, float64(n)
	centre := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return centre - half, centre + half
}

func TestTellsFrom(t *testing.T) {
	n, ok := loss.Ratio{Lost: 0, Sent: 20}.TellsFrom(0.01).Get()
	require.True(t, ok)
	assert.Equal(t, 381, n, "3.8415/(n+3.8415) falls below 0.01 at 380.3")
	assert.False(t, loss.Ratio{Lost: 1, Sent: 100}.TellsFrom(0.01).IsSet(), "what is on the limit is never told from it")
}

func TestAtLeast(t *testing.T) {
	// Binomial tails: 1 − 0.9¹⁰; 1 − 0.9¹⁰ − 10·0.1·0.9⁹; 0.5³.
	assert.InDelta(t, 0.6513216, loss.Ratio{Lost: 1, Sent: 10}.AtLeast(0.1), 1e-7)
	assert.InDelta(t, 0.2639011, loss.Ratio{Lost: 2, Sent: 10}.AtLeast(0.1), 1e-7)
	assert.InDelta(t, 0.125, loss.Ratio{Lost: 3, Sent: 3}.AtLeast(0.5), 1e-12)
	assert.Equal(t, 1.0, loss.Ratio{Lost: 0, Sent: 10}.AtLeast(0.1))
	assert.Zero(t, loss.Ratio{Lost: 1, Sent: 10}.AtLeast(0))
	assert.Less(t, loss.Ratio{Lost: 18, Sent: 900}.AtLeast(0.0005), 1e-15)
}

func TestPattern(t *testing.T) {
	lost := func(text string) []bool {
		var list []bool
		for _, c := range text {
			list = append(list, c == 'x')
		}
		return list
	}
	for _, c := range []struct {
		name, text    string
		runs, longest int
		mean, burst   float64
		distances     []int
	}{
		{"none", "..........", 0, 0, 0, 0, nil},
		{"one run of four in ten", "..xxxx....", 1, 4, 4, 4 * 0.6, []int{1, 1, 1}},
		{"every second", "x.x.x.x.x.", 5, 1, 1, 0.5, []int{2, 2, 2, 2}},
		{"two runs", "xx.....x..", 2, 2, 1.5, 1.5 * 0.7, []int{1, 6}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := loss.PatternOf(lost(c.text))
			assert.Equal(t, c.runs, p.Runs)
			assert.Equal(t, c.longest, p.Longest)
			assert.Equal(t, c.distances, p.Distances)
			if c.runs > 0 {
				assert.InDelta(t, c.mean, p.MeanRun.Or(0), 1e-9)
				assert.InDelta(t, c.burst, p.BurstRatio.Or(0), 1e-9)
			}
		})
	}
	assert.False(t, loss.PatternOf(lost("xxxx")).BurstRatio.IsSet(), "all lost: no run length is to be expected")
}
