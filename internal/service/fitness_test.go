package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/objective"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/objectives"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestFitnessOfAPath: an hour of which ten minutes lose a tenth; by an objective of one's own and
// by a ready-made one.
func TestFitnessOfAPath(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}})
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: quay(c)}
	for ago := 60; ago > 0; ago-- {
		lost := 0
		if ago > 20 && ago <= 30 {
			lost = 6
		}
		u.Readings = append(u.Readings, minute(w.Paths[0], end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost))
	}
	require.NoError(t, c.Upload(t.Context(), u))
	require.NoError(t, c.Objectives.Save(t.Context(), objectives.Objective{Name: "counter", Source: "contract", Limits: objective.Limits{objective.Loss: 0.05, objective.RTT: 12, objective.Availability: 0.999}}))
	o, f, err := c.Objectives.Fitness(t.Context(), w.Paths[0], "counter", end.Add(-time.Hour), end)
	require.NoError(t, err)
	assert.Equal(t, "contract", o.Source)
	share, ok := f.Share()
	require.True(t, ok)
	assert.InDelta(t, 50.0/60, share, 1e-9)
	require.Len(t, f.Worst, 1)
	assert.Equal(t, end.Add(-30*time.Minute).UTC(), f.Worst[0].From.UTC())
	assert.Equal(t, 10*time.Minute, f.Worst[0].To.Sub(f.Worst[0].From))
	assert.InDelta(t, 0.1, f.Worst[0].Worst, 1e-9)
	_, f, err = c.Objectives.Fitness(t.Context(), w.Paths[0], "voice", end.Add(-time.Hour), end)
	require.NoError(t, err)
	require.Len(t, f.Lines, 4, "delay, variation, loss, MOS")

	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	kept, err := again.Objectives.Find("counter")
	require.NoError(t, err)
	assert.Equal(t, 0.05, kept.Limits[objective.Loss])
	for says, o := range map[string]objectives.Objective{"no name for": {Name: "A B"}, "ready-made": {Name: "voice", Limits: objective.Limits{objective.Loss: 1}}, "at least one limit": {Name: "a"}, "cannot be a limit": {Name: "a", Limits: objective.Limits{objective.Loss: 2}}} {
		err := c.Objectives.Save(t.Context(), o)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
	_, _, err = c.Objectives.Fitness(t.Context(), w.Paths[0], "gull", end.Add(-time.Hour), end)
	assert.ErrorIs(t, err, store.ErrNotFound)
	_, _, err = c.Objectives.Fitness(t.Context(), w.Paths[0], "voice", end, end)
	assert.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorIs(t, c.Objectives.Remove(t.Context(), "voice"), kind.ErrInvalid)
	require.NoError(t, c.Objectives.Remove(t.Context(), "counter"))
	assert.ErrorIs(t, c.Objectives.Remove(t.Context(), "counter"), store.ErrNotFound)
}
