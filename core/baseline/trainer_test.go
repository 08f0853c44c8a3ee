package baseline_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
)

func TestWhenToTrainNext(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	first := []baseline.Point{{At: monday}}
	assert.Equal(t, monday.Add(6*time.Hour), baseline.NextTraining(first, monday.Add(5*time.Hour), time.UTC), "hourly on the first day")
	assert.Equal(t, monday.AddDate(0, 0, 3), baseline.NextTraining(first, monday.Add(2*24*time.Hour+5*time.Hour), time.UTC), "then at midnight")
	assert.Equal(t, time.Date(2026, 11, 4, 23, 0, 0, 0, time.UTC), baseline.NextTraining(first, monday.Add(2*24*time.Hour+5*time.Hour), oslo).UTC(), "the local one")
	assert.Equal(t, monday.Add(time.Hour), baseline.NextTraining(nil, monday, time.UTC))
}

func TestATrainerLearnsAsItGoes(t *testing.T) {
	// An afternoon of every day is slow: from the second day on it is an
	// episode each time, is never learnt as normal, and comes back daily.
	slow := func(m int) float64 {
		if hour := m / 60 % 24; hour >= 14 && hour < 16 {
			return 40
		}
		return 10
	}
	w := world{rand.New(rand.NewPCG(8, 8)), slow, constant(0)}
	tr := baseline.NewTrainer(baseline.NewJudge(baseline.Options{Paths: 10}), time.UTC, 14*24*time.Hour)
	for _, p := range w.points(0, 6*day) {
		tr.Add(p)
	}
	require.GreaterOrEqual(t, len(tr.Episodes()), 5)
	for _, e := range tr.Episodes() {
		assert.False(t, e.Open())
		assert.WithinDuration(t, e.From.Truncate(24*time.Hour).Add(14*time.Hour), e.From, 5*time.Minute)
		assert.InDelta(t, 120, e.To.Sub(e.From).Minutes(), 8)
	}
	d, ok := baseline.DailyOf(tr.Episodes(), monday, monday.AddDate(0, 0, 6), time.UTC)
	require.True(t, ok)
	assert.InDelta(t, 14*60, d.FromMinute, 5)
	n, _, ok := tr.Judge().Baseline().At(baseline.RTT, monday.AddDate(0, 0, 6).Add(3*time.Hour))
	require.True(t, ok)
	assert.InDelta(t, 10, n.Median, 0.1)
}

func TestATrainingWindowForgets(t *testing.T) {
	w := world{rand.New(rand.NewPCG(9, 9)), constant(10), constant(0)}
	tr := baseline.NewTrainer(baseline.NewJudge(baseline.Options{}), time.UTC, 48*time.Hour)
	for _, p := range w.points(0, 5*day) {
		tr.Add(p)
	}
	b := tr.Judge().Baseline()
	require.NotNil(t, b)
	assert.False(t, b.From.Before(monday.AddDate(0, 0, 2)), "older readings are let go")
	tr.Train(monday.AddDate(0, 0, 30))
	assert.Same(t, b, tr.Judge().Baseline(), "with nothing to learn from, the old one stays")
}

func TestPointsAndMeasures(t *testing.T) {
	r := reading.Of(monday, time.Minute, 4, 0, []reading.Probe{
		{Outcome: reading.Answered, RTT: 10 * time.Millisecond}, {Outcome: reading.Answered, RTT: 14 * time.Millisecond}, {}, {Outcome: reading.Refused}})
	p := baseline.PointOf(r)
	for m, want := range map[baseline.Measure]float64{baseline.RTT: 12, baseline.Jitter: 4, baseline.Loss: 0.25} {
		v, ok := p.Value(m)
		assert.True(t, ok)
		assert.Equal(t, want, v, m.String())
		text, err := m.MarshalText()
		require.NoError(t, err)
		var back baseline.Measure
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, m, back)
	}
	var odd baseline.Measure
	require.ErrorContains(t, odd.UnmarshalText([]byte("speed")), `measure "speed" is unknown`)
	none := baseline.Point{}
	for _, m := range baseline.Measures() {
		_, ok := none.Value(m)
		assert.False(t, ok, "nothing sent, no %v", m)
	}
	assert.False(t, none.Silent())
	assert.True(t, baseline.Point{Sent: 3}.Silent())
	assert.False(t, baseline.Point{Sent: 3, Answered: 1, RTT: figure.Of(time.Millisecond)}.Silent())
}

func TestIntervals(t *testing.T) {
	open := baseline.Interval{From: monday}
	assert.True(t, open.Covers(monday))
	assert.True(t, open.Covers(monday.AddDate(1, 0, 0)))
	assert.False(t, open.Covers(monday.Add(-time.Second)))
	shut := baseline.Interval{From: monday, To: monday.Add(time.Hour)}
	assert.False(t, shut.Covers(monday.Add(time.Hour)), "its end is not in it")
}

func TestSeverityOrdersExcesses(t *testing.T) {
	slight := baseline.Excess{Measure: baseline.RTT, Normal: 10, Now: 13}
	grave := baseline.Excess{Measure: baseline.RTT, Normal: 10, Now: 60}
	loss := baseline.Excess{Measure: baseline.Loss, Normal: 0, Now: 0.02}
	assert.InDelta(t, 3, slight.Severity(), 1e-9, "3 ms over a tolerance of 1 ms")
	assert.InDelta(t, 50, grave.Severity(), 1e-9)
	assert.InDelta(t, 4, loss.Severity(), 1e-9, "two percent over half a point")
}
