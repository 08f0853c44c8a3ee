package compare

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func rtt(at, low, high float64) Figure {
	return Figure{Key: "rtt", Name: "median RTT", Unit: "ms", At: &at, Low: &low, High: &high, Worth: 0.5, Part: 0.05}
}

func lost(of, all int) Figure {
	f := Figure{Key: "loss", Name: "loss", Unit: "ratio", Worth: 0.001}
	f.At, f.Low, f.High = Ratio(of, all)
	return f
}

// TestDifferences by hand: of two independent figures the half width of the difference is the root
// of the sum of squares.
func TestDifferences(t *testing.T) {
	d := between(rtt(10, 9.7, 10.3), rtt(12, 11.6, 12.4))
	assert.Equal(t, Differs, d.State)
	assert.InDelta(t, 2, *d.By, 1e-12)
	assert.InDelta(t, 1.5, *d.Low, 1e-9, "2 − √(0.4² + 0.3²)")
	assert.InDelta(t, 2.5, *d.High, 1e-9)
	assert.Equal(t, "a", d.Better)
	assert.Equal(t, Alike, between(rtt(10, 9.9, 10.1), rtt(10.2, 10.1, 10.3)).State, "surely less than half a millisecond")
	assert.Equal(t, NotTold, between(rtt(10, 8, 12), rtt(11, 9, 13)).State)
	assert.Equal(t, Alike, between(rtt(100, 99.9, 100.1), rtt(101, 100.9, 101.1)).State, "one in a hundred is not worth speaking of")
	assert.Equal(t, NotTold, between(Figure{Key: "rtt", Unit: "ms", At: new(float64)}, rtt(1, 1, 1)).State)
	// Newcombe 1998, table II, case (a): 56/70 against 48/80, 0.2 (0.0524 to 0.3339).
	x, y := lost(48, 80), lost(56, 70)
	n := between(x, y)
	assert.InDelta(t, 0.2, *n.By, 1e-9)
	assert.InDelta(t, 0.0524, *n.Low, 0.0005)
	assert.InDelta(t, 0.3339, *n.High, 0.0005)
}

func TestTheSentence(t *testing.T) {
	side := func(name string, f ...Figure) Side { return Side{Name: name, Figures: f} }
	for _, c := range []struct {
		a, b Side
		says string
	}{
		{side("wired", rtt(10, 9.9, 10.1), lost(0, 1000)), side("radio", rtt(23, 22.8, 23.2), lost(30, 1000)), "radio is worse than wired: median RTT 23 ms against 10 ms (+13 ms); loss 3 % against 0 % (+3 %)."},
		{side("before", rtt(23, 22.8, 23.2)), side("after", rtt(10, 9.9, 10.1)), "after is better than before: median RTT 10 ms against 23 ms (−13 ms)."},
		{side("v4", rtt(10, 9.9, 10.1)), side("v6", rtt(10.1, 10, 10.2)), "No figure surely differs by as much as is worth speaking of."},
		{side("near", rtt(10, 9, 11), lost(0, 10)), side("far", rtt(11, 10, 12), lost(0, 10)), "It could not be told whether they differ: too little was measured, or they have no figure in common."},
		{side("a"), side("b"), "It could not be told whether they differ: they have no figure in common."},
		{side("a", rtt(10, 9.9, 10.1), lost(30, 1000)), side("b", rtt(23, 22.8, 23.2), lost(0, 1000)), "b against a, better in part and worse in part: median RTT 23 ms against 10 ms (+13 ms); loss 0 % against 3 % (−3 %)."},
	} {
		assert.Equal(t, c.says, Of(c.a, c.b).Sentence)
	}
	x := Of(Side{Name: "a", Route: []string{"192.0.2.1", "?", "192.0.2.9"}}, Side{Name: "b", Route: []string{"192.0.2.1", "192.0.2.7", "192.0.2.9"}})
	require.NotNil(t, x.Route)
	assert.Equal(t, []string{"192.0.2.7"}, x.Route.OnlyB)
	assert.Contains(t, x.Sentence, "The way differs.")
}

// TestIntervalsHoldWhatTheySay: in about 95 of 100 draws the truth lies within.
func TestIntervalsHoldWhatTheySay(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	const draws = 2000
	in := map[string]int{}
	hold := func(name string, truth float64, low, high *float64) {
		if *low <= truth && truth <= *high {
			in[name]++
		}
	}
	for range draws {
		var skewed, plain, tied []float64
		last := 0.0
		for range 60 {
			skewed = append(skewed, math.Exp(r.NormFloat64()))
			plain = append(plain, r.NormFloat64())
			last = 0.5*last + r.NormFloat64()
			tied = append(tied, last)
		}
		_, low, high := Median(skewed)
		hold("median of a skewed one", 1, low, high)
		_, low, high = Mean(plain)
		hold("mean", 0, low, high)
		_, low, high = Mean(tied)
		hold("mean of what hangs together", 0, low, high)
		lost := 0
		for range 300 {
			if r.Float64() < 0.03 {
				lost++
			}
		}
		_, low, high = Ratio(lost, 300)
		hold("ratio", 0.03, low, high)
	}
	for name, n := range in {
		assert.Greater(t, n, draws*90/100, name)
		assert.Less(t, n, draws*99/100, name)
	}
	at, low, _ := Median([]float64{3, 1})
	assert.InDelta(t, 2, *at, 1e-12)
	assert.Nil(t, low)
	at, _, _ = Mean(nil)
	assert.Nil(t, at)
}
