package service_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service/watches"
)

// TestTimesOfAWatch: they are kept, given to its agent, and said.
func TestTimesOfAWatch(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": "Northquay"})
	code, _, err := c.Fleet.Invite(t.Context(), "pier", "", "", time.Hour)
	require.NoError(t, err)
	pier, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier"}, "192.0.2.7")
	require.NoError(t, err)
	plan := func() protocol.Plan {
		_, worker, ok := c.Fleet.ByKey(pier.Key)
		require.True(t, ok)
		p, _ := worker.Plan()
		return p
	}
	nights := schedule.Times{Hours: "22:00-06:00", Zone: "Europe/Dublin", StartAt: time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)}
	to := []string{"192.0.2.9"}
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "a nights", watches.Spec{From: []string{"pier"}, To: to, Times: nights}, false)
	require.NoError(t, err)
	require.Len(t, plan().Tasks, 1)
	assert.Equal(t, []schedule.Times{nights}, plan().Tasks[0].Times)
	kept, err := json.Marshal(w.Spec)
	require.NoError(t, err)
	var back watches.Spec
	require.NoError(t, json.Unmarshal(kept, &back))
	assert.Equal(t, nights, back.Times)

	mornings := schedule.Times{Hours: "06:00-09:00"}
	_, err = c.Watches.Save(t.Context(), ident.ID{}, "b mornings", watches.Spec{From: []string{"pier"}, To: to, Times: mornings}, false)
	require.NoError(t, err)
	require.Len(t, plan().Tasks, 1, "two watches share one measurement")
	assert.Equal(t, []schedule.Times{nights, mornings}, plan().Tasks[0].Times, "at the times of either")
	all, err := c.Watches.Save(t.Context(), ident.ID{}, "c always", watches.Spec{From: []string{"pier"}, To: to}, false)
	require.NoError(t, err)
	assert.Empty(t, plan().Tasks[0].Times, "one measures always")
	require.NoError(t, c.Watches.Remove(t.Context(), all))
	assert.Len(t, plan().Tasks[0].Times, 2)

	daily, err := c.Watches.Save(t.Context(), ident.ID{}, "d daily", watches.Spec{Kind: "trace", From: []string{"pier"}, To: to, Times: schedule.Times{Cron: "30 2 * * *", Zone: "Europe/Dublin"}}, false)
	require.NoError(t, err)
	require.Len(t, plan().Standing, 1)
	assert.Equal(t, "30 2 * * *", plan().Standing[0].Times.Cron)
	assert.Zero(t, plan().Standing[0].Every)
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	next, says := daily.Due(at)
	assert.Equal(t, "2026-11-30T02:30:00Z", next.Format(time.RFC3339))
	assert.Empty(t, says)
	assert.InDelta(t, 1, daily.PerDay(at), 0.01)
	next, says = w.Due(at)
	assert.Equal(t, "it begins at 2026-12-01T00:00:00Z", says)
	assert.Equal(t, "2026-12-01T00:00:00Z", next.Format(time.RFC3339))
	next, says = w.Due(at.AddDate(0, 0, 7))
	assert.Equal(t, "outside its hours", says)
	assert.Equal(t, "2026-12-06T22:00:00Z", next.Format(time.RFC3339))
	assert.InDelta(t, 8.0/24, w.PerDay(at.AddDate(0, 0, 7)), 0.001, "of a continuous one the share of the day")
	w.Spec.Times.EndAt = at.AddDate(0, 0, 1)
	next, says = w.Due(at.AddDate(0, 0, 1))
	assert.Nil(t, next)
	assert.Contains(t, says, "over since 2026-11-30")

	// A path is not unmeasured because its watch does not measure now.
	assert.Less(t, w.Patience(time.Date(2026, 12, 3, 23, 0, 0, 0, time.UTC)), 5*time.Minute)
	noon := time.Date(2026, 12, 3, 12, 0, 0, 0, time.UTC)
	w.Spec.Times.EndAt = time.Time{}
	assert.InDelta(t, 6*time.Hour+3*time.Minute, w.Patience(noon), float64(time.Minute), "since six in the morning")
	assert.InDelta(t, 24*time.Hour+9*time.Hour+31*time.Minute, daily.Patience(noon), float64(2*time.Minute), "two of its times")
}
