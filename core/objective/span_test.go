package objective

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFitness: an hour by the minute, worked by hand: 50 minutes good, 6 with too much delay in two
// stretches, 4 without an answer; and a call measured twice.
func TestFitness(t *testing.T) {
	start := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	var list []Sample
	for i := range 60 {
		v := map[Measure]float64{Loss: 0, RTT: 20, Availability: 1}
		switch {
		case i >= 10 && i < 14:
			v[RTT] = 60 // twice its limit: half as much again off
		case i >= 30 && i < 32:
			v[RTT] = 44
		case i >= 50 && i < 54:
			v = map[Measure]float64{Loss: 1, Availability: 0}
		}
		list = append(list, Sample{start.Add(time.Duration(i) * time.Minute), time.Minute, v})
	}
	list = append(list, Sample{start.Add(5 * time.Minute), 10 * time.Second, map[Measure]float64{MOS: 4.3}}, Sample{start.Add(20 * time.Minute), 10 * time.Second, map[Measure]float64{MOS: 3.2}})
	f := Limits{Loss: 0.01, RTT: 40, Availability: 0.99, MOS: 4}.Over(list, start, start.Add(time.Hour))
	assert.Equal(t, time.Hour+20*time.Second, f.Measured)
	assert.Equal(t, 50*time.Minute+10*time.Second, f.Within)
	share, ok := f.Share()
	require.True(t, ok)
	assert.InDelta(t, 3010.0/3620, share, 1e-9)
	line := map[Measure]FitnessLine{}
	for _, l := range f.Lines {
		line[l.Measure] = l
	}
	require.Len(t, line, 4)
	assert.InDelta(t, 56.0/60, line[Availability].Mean, 1e-9)
	assert.False(t, line[Availability].Met)
	assert.Equal(t, 50*time.Minute, line[RTT].Within)
	assert.Equal(t, 56*time.Minute, line[RTT].Measured, "what did not answer has no delay")
	assert.Equal(t, [2]float64{20, 60}, [2]float64{line[RTT].Median, line[RTT].Worst})
	assert.True(t, line[RTT].Met)
	assert.InDelta(t, 4.0/60, line[Loss].Mean, 1e-9)
	assert.False(t, line[Loss].Met, "all in all too much is lost, though the median minute loses nothing")
	assert.Equal(t, 3.2, line[MOS].Worst)
	require.Len(t, f.Worst, 3)
	assert.Equal(t, Stretch{start.Add(50 * time.Minute), start.Add(54 * time.Minute), Loss, 1, 40 * time.Minute}, f.Worst[0], "no answer weighs most: ten times its time")
	assert.Equal(t, Stretch{start.Add(10 * time.Minute), start.Add(14 * time.Minute), RTT, 60, 6 * time.Minute}, f.Worst[1])
	assert.Equal(t, Stretch{start.Add(30 * time.Minute), start.Add(32 * time.Minute), RTT, 44, 132 * time.Second}, f.Worst[2])

	none := Limits{RTT: 40}.Over(nil, start, start.Add(time.Hour))
	_, ok = none.Share()
	assert.False(t, ok, "of nothing there is no share")
	assert.Empty(t, none.Lines)
}

func TestLimitsThatCannotBe(t *testing.T) {
	for _, l := range []Limits{{}, {"gulls": 1}, {Loss: 2}, {Loss: -0.1}, {MOS: 5}, {MOS: 0}, {RateThere: 0}, {Availability: 1.1}} {
		assert.Error(t, l.Check(), l)
	}
	for _, o := range All() {
		assert.NoError(t, o.Limits().Check(), o.Name)
	}
	assert.Equal(t, Limits{Delay: 100, Variation: 50, Loss: 0.001, MOS: 4}, All()[0].Limits())
}

func TestCallQuality(t *testing.T) {
	assert.InDelta(t, 4.4, CallQuality(20*time.Millisecond, 0), 0.03)
	assert.InDelta(t, 3.92, CallQuality(20*time.Millisecond, 0.1), 0.01, "5 % lost one way: R = 93.2 - 95*5/(5+25.1) - 1.7")
	assert.InDelta(t, 3.71, CallQuality(600*time.Millisecond, 0), 0.01, "360 ms from mouth to ear")
}
