package objective_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/objective"
)

func TestFitnessStepByStep(t *testing.T) {
	at := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	minute := func(n int, loss, mos float64) objective.Sample {
		return objective.Sample{At: at.Add(time.Duration(n) * time.Minute), Span: time.Minute, Values: map[objective.Measure]float64{objective.Loss: loss, objective.MOS: mos}}
	}
	limits := objective.Limits{objective.Loss: 0.01, objective.MOS: 4}
	samples := []objective.Sample{minute(0, 0, 4.4), minute(1, 0.02, 4.2), minute(9, 0, 3), minute(40, 0, 1), {At: at.Add(11 * time.Minute), Span: 30 * time.Second, Values: map[objective.Measure]float64{objective.Jitter: 4}}}
	steps := limits.Steps(samples, at, at.Add(30*time.Minute), 3)
	require.Len(t, steps, 3)
	assert.Equal(t, 10*time.Minute, steps[0].Span)
	assert.Equal(t, at.Add(10*time.Minute), steps[1].At)
	assert.Equal(t, 3*time.Minute, steps[0].Measured)
	assert.Equal(t, time.Minute, steps[0].Within)
	assert.InDelta(t, 0.02/3, steps[0].Mean[objective.Loss], 1e-12)
	assert.InDelta(t, (4.4+4.2+3)/3, steps[0].Mean[objective.MOS], 1e-12)
	assert.Equal(t, 3.0, steps[0].Worst[objective.MOS], "the least is the worst")
	assert.Equal(t, 0.02, steps[0].Worst[objective.Loss])
	assert.Empty(t, steps[1].Mean, "what the limits are not of is not in it")
	assert.Zero(t, steps[1].Measured)
	assert.Empty(t, steps[2].Mean)
	assert.Nil(t, limits.Steps(samples, at, at, 3))
	assert.Nil(t, limits.Steps(samples, at, at.Add(time.Hour), 0))
}
