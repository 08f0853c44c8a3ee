package baseline

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestScale(t *testing.T) {
	log := scale{Floor: 10, Soft: 2, Log: true}
	for _, c := range []struct{ v, y float64 }{
		{10, 0}, {12, math.Ln2}, {9, -0.5}, {10 + 2*(math.E-1), 1},
	} {
		assert.InDelta(t, c.y, log.to(c.v), 1e-12)
		assert.InDelta(t, c.v, log.from(c.y), 1e-12)
	}
	less := scale{Floor: 4, Soft: 0.5, Less: true}
	assert.Equal(t, 2.0, less.to(3), "a MOS that is lower by one is worse by two")
	assert.Equal(t, 3.0, less.from(2))
	assert.Equal(t, 2.0, less.worse(4, 1))
	assert.InDelta(t, math.Ln2, log.worse(10, 2), 1e-12)
}

func TestRobustMean(t *testing.T) {
	even := []float64{1, 1, 1, 1, 1, 1}
	// Median 10.5, deviations 0.5 0.5 0.5 1.5 1.5 89.5: their median is 1, so 3·1.4826 about
	// 10.5 is 14.948: (10+11+12+9+11... by hand: 10+11+10+12+9+14.948 = 66.948.
	assert.InDelta(t, 66.948/6, robustMean([]float64{10, 11, 10, 12, 9, 100}, even, 0), 1e-3)
	assert.Equal(t, 15.0, robustMean([]float64{10, 20}, even[:2], 0), "of two the mean")
	assert.Equal(t, 12.5, robustMean([]float64{10, 20}, []float64{3, 1}, 0), "by weight")
}

func TestWeightedMedian(t *testing.T) {
	assert.Equal(t, 2.0, weightedMedian([]float64{3, 1, 2}, []float64{1, 1, 1}))
	assert.Equal(t, 1.5, weightedMedian([]float64{2, 1}, []float64{1, 1}))
	assert.Equal(t, 9.0, weightedMedian([]float64{1, 2, 9}, []float64{1, 1, 5}))
}

func TestTheClockOfAPlace(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	w := Calendar{Zone: oslo, Holidays: []time.Time{time.Date(2026, 12, 25, 0, 0, 0, 0, oslo)}}.clockwork()
	for _, c := range []struct {
		at     string
		minute int
		off    bool
	}{
		{"2026-03-28T23:59:00Z", 59, true},   // Sunday 00:59 there
		{"2026-03-29T00:59:00Z", 119, true},  // 01:59
		{"2026-03-29T01:00:00Z", 180, true},  // the hour from two to three is left out
		{"2026-03-30T06:10:00Z", 490, false}, // Monday 08:10
		{"2026-12-25T09:00:00Z", 600, true},  // a Friday, but a holiday
		{"2026-12-24T22:30:00Z", 1410, false},
		{"2026-12-24T23:00:00Z", 0, true},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		m := w.at(at.Unix())
		assert.Equal(t, c.minute, m.minute, c.at)
		assert.Equal(t, c.off, m.off, c.at)
	}
	kathmandu, err := time.LoadLocation("Asia/Kathmandu") // 5:45 ahead
	require.NoError(t, err)
	k := Calendar{Zone: kathmandu}.clockwork()
	assert.Equal(t, 0, k.at(time.Date(2026, 5, 4, 18, 15, 0, 0, time.UTC).Unix()).minute)
	assert.Equal(t, uint8(0b1000001), Calendar{}.Mask(true))
	assert.True(t, Calendar{}.DayOff(civilDay(time.Date(2026, 3, 7, 0, 0, 0, 0, time.UTC))), "a Saturday")
	assert.False(t, Calendar{}.DayOff(civilDay(time.Date(2026, 3, 9, 0, 0, 0, 0, time.UTC))), "a Monday")
}

func TestDensity(t *testing.T) {
	var h histogram
	for i := range 20_000 {
		// A normal distribution by its quantiles.
		q := (float64(i) + 0.5) / 20_000
		h[gridIndex(math.Sqrt2*math.Erfinv(2*q-1))]++
	}
	d := densityOf(&h)
	var sum float64
	for i, v := range d.log {
		sum += math.Exp(float64(v)) * gridWidth(i)
	}
	assert.InDelta(t, 1, sum, 0.02)
	assert.InDelta(t, math.Log(1/math.Sqrt(2*math.Pi)), d.log[gridIndex(0)], 0.1, "the normal density at its middle")
	at := func(z, slack, gap float64) [Detectors]float32 {
		w, _ := d.weigh(z, slack, gap)
		return w
	}
	assert.Negative(t, at(0, 0, 0)[small])
	assert.Positive(t, at(2.5, 0, 0)[small])
	assert.Greater(t, at(8, 0, 0)[large], float32(5), "eight spreads were never seen")
	assert.Negative(t, at(8, 8, 0)[large], "a day may lie so far off")
	assert.Negative(t, at(8, 0, 8)[large], "it is the second level")
	assert.Greater(t, at(4, 0, 8)[large], float32(3), "between the levels nothing is normal")
	assert.Greater(t, at(16, 0, 8)[large], float32(3), "beyond both")
}

func TestGridIndex(t *testing.T) {
	for _, z := range []float64{-20, -3, -0.5, 0, 0.02, 1, 7, 90, 900} {
		assert.InDelta(t, z, gridValue(gridIndex(z)), 0.035*math.Hypot(1, z), "%v", z)
	}
}

func TestCounts(t *testing.T) {
	seen := make([]float64, len(lattice))
	seen[0] = 1e6
	c := countsOf(seen, 60, 0.005)
	more := c.more(0.05) // 3 of 60 lost beside: Poisson
	for k, want := range map[int]float64{0: math.Exp(-3), 1: 3 * math.Exp(-3), 3: 4.5 * math.Exp(-3)} {
		assert.InDelta(t, want, more[k], 1e-4, "%d lost", k)
	}
	var sum float64
	for _, v := range more {
		sum += v
	}
	assert.InDelta(t, 1, sum, 0.01)
	w, _ := c.weigh(3, 60, 0)
	assert.Greater(t, w[large], float32(2))
	w, _ = c.weigh(3, 60, 0.08)
	assert.Negative(t, w[large], "so much may be lost at that hour")
	assert.Equal(t, 3, c.step(1, 20), "of fewer probes one counts for more")
	assert.Equal(t, 1, c.step(1, 3000), "something lost is not nothing")
}

func TestLimits(t *testing.T) {
	calm := make([]float64, 84)
	for i := range calm {
		calm[i] = 2 + float64(i%7)/7
	}
	assert.Equal(t, 16.0, limitOf(calm, 16, false), "a calm past asks for no more than usual")
	restless := make([]float64, 84)
	for i := range restless {
		restless[i] = 4 - 5*math.Log(-math.Log((float64(i)+0.5)/84)) // Gumbel, 5 wide
	}
	// Once in 20 years of 4 hours: 4 + 5·ln(43,800) = 57.4.
	assert.InDelta(t, 57.4, limitOf(restless, 16, false), 8)
	assert.Equal(t, 16.0, limitOf(nil, 16, false))
	// In one block of twelve something comes whose highest evidence is 10 on average,
	// exponentially: once in 20 years there are 3,650 of those, and 10·ln(3,650) = 82.
	seldom := make([]float64, 84)
	for i := range 7 {
		seldom[77+i] = -10 * math.Log((float64(7-i)-0.5)/7)
	}
	assert.Less(t, limitOf(seldom, 16, false), 60.0)
	assert.InDelta(t, 70, limitOf(seldom, 16, true), 12)
}

func TestTwoGroups(t *testing.T) {
	var values []float64
	for i := range 300 {
		values = append(values, 10+0.1*math.Sin(float64(i)))
	}
	for i := range 60 {
		values = append(values, 14+0.1*math.Sin(float64(i)))
	}
	low, high, ok := twoGroups(sortedCopy(values))
	require.True(t, ok)
	assert.InDelta(t, 10, low, 0.1)
	assert.InDelta(t, 14, high, 0.1)
	_, _, ok = twoGroups(sortedCopy(values[:300]))
	assert.False(t, ok, "one group")
	for i := range 60 {
		values = append(values, 10+4*float64(i)/60)
	}
	_, _, ok = twoGroups(sortedCopy(values))
	assert.False(t, ok, "there is something between")
}

func sortedCopy(values []float64) []float64 {
	out := append([]float64{}, values...)
	median(out)
	return out
}

func TestEarly(t *testing.T) {
	middle := []float64{0, 0, 0, 5, 5, 0, 0, 0}
	slack := []float64{1, 1, 1, 2, 2, 1, 1, 1}
	// One bin before and after a rise, what is normal in the rise is; in it nothing changes.
	assert.Equal(t, []float64{1, 1, 7, 2, 2, 7, 1, 1}, early(middle, slack, 1))
}

func TestHingeAndRising(t *testing.T) {
	list := []float64{0, 0, 0, 0, 1, 2, 3, 4}
	at, slope := hinge(list)
	assert.Equal(t, 3, at)
	assert.InDelta(t, 1, slope, 1e-12)
	assert.Equal(t, 1.0, rising([]float64{1, 2, 3, 4}))
	assert.Equal(t, -1.0, rising([]float64{4, 3, 2, 1}))
	assert.InDelta(t, 1.0/3, rising([]float64{1, 3, 2}), 1e-12, "two pairs of three rise")
}

func TestForetell(t *testing.T) {
	list, wrong := foretell([]float64{2, 4, 4}, []bool{true, true, true}, 0.5)
	assert.Equal(t, []float64{0, 1, 2.5, 3.25}, list)
	assert.InDelta(t, (9+2.25)/2, wrong, 1e-12)
}

func TestParseTolerance(t *testing.T) {
	for _, c := range []struct {
		text string
		m    Measure
		want Tolerance
	}{
		{"rtt=2ms,10%", RTT, Tolerance{Least: 2, Share: 0.1}},
		{"loss=0.5%", Loss, Tolerance{Least: 0.005}},
		{"mos=0.3", MOS, Tolerance{Least: 0.3}},
		{"resolve=0.2s", ResolveTime, Tolerance{Least: 200}},
	} {
		m, got, err := ParseTolerance(c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.m, m)
		assert.InDelta(t, c.want.Least, got.Least, 1e-12)
		assert.InDelta(t, c.want.Share, got.Share, 1e-12)
	}
	for text, want := range map[string]string{
		"rtt": "write MEASURE=VALUE", "delay=2ms": "is unknown", "rtt=fast": "is no value", "rtt=2kg": "counted in ms", "loss=0": "above zero",
	} {
		_, _, err := ParseTolerance(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestRecurrencesRunPastMidnight(t *testing.T) {
	r := Recurrence{Weekdays: Weekdays(time.Saturday), From: 23 * 60, To: 2 * 60}
	at := func(w time.Weekday, minute int) bool { return r.covers(moment{weekday: w, minute: minute}) }
	assert.True(t, at(time.Saturday, 23*60+30))
	assert.True(t, at(time.Sunday, 60), "it began on Saturday")
	assert.False(t, at(time.Saturday, 60), "that began on Friday")
	assert.False(t, at(time.Sunday, 23*60+30))
	assert.False(t, at(time.Saturday, 12*60))
}
