package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestANewLevelWaitsUntilSomebodyAcceptsIt: twelve quiet days, then five milliseconds more for
// four days.
func TestANewLevelWaitsUntilSomebodyAcceptsIt(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}}).Paths[0]
	end := time.Now().Truncate(time.Minute)
	moved := end.Add(-4 * 24 * time.Hour)
	require.NoError(t, s.CoverDays(t.Context(), end.AddDate(0, 0, -17), end.AddDate(0, 0, 1)))
	require.NoError(t, c.Paths.Import(t.Context(), path, func(yield func(paths.Minute) bool) {
		for at := end.AddDate(0, 0, -16); at.Before(end); at = at.Add(time.Minute) {
			rtt := 10 * time.Millisecond
			if !at.Before(moved) {
				rtt += 5 * time.Millisecond
			}
			r := minute(path, at, rtt, 0)
			probes, err := reading.Unpack(r.Reading.At, r.Packed)
			if err != nil || !yield(paths.Minute{Reading: r.Reading, Probes: probes}) {
				return
			}
		}
	}))
	v, err := c.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateDegraded, v.Verdict.State)
	require.Len(t, v.Waiting(), 1)
	level := v.Waiting()[0]
	assert.Equal(t, guard.NewLevel, level.Kind)
	assert.Equal(t, baseline.RTT, level.Measure)
	assert.InDelta(t, 10, level.Before, 0.2)
	assert.InDelta(t, 15, level.Now, 0.2)
	assert.WithinDuration(t, moved, level.Since, 2*time.Minute)
	assert.Contains(t, v.Findings[0].Sentence, "instead of 10.0 since")
	assert.Contains(t, v.Findings[1].Sentence, "a new level, 15.0 ms instead of 10.0 ms, that waits to be accepted")

	require.ErrorIs(t, c.Paths.Accept(t.Context(), path, guard.Creeping, nil), kind.ErrInvalid, "nothing crept")
	require.ErrorIs(t, c.Paths.Accept(t.Context(), path, "daily", nil), kind.ErrInvalid)
	require.ErrorIs(t, c.Paths.Accept(t.Context(), path, guard.NewLevel, []baseline.Measure{baseline.Loss}), kind.ErrInvalid, "of another measure")
	require.NoError(t, c.Paths.Accept(t.Context(), path, guard.NewLevel, nil))
	require.ErrorIs(t, c.Paths.Accept(t.Context(), path, guard.NewLevel, nil), kind.ErrInvalid, "once is enough")
	v, err = c.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateSteady, v.Verdict.State)
	assert.Empty(t, v.Waiting())
	n, ok := v.Baseline.At(baseline.RTT, end)
	require.True(t, ok)
	assert.InDelta(t, 15, n.Expected, 0.3, "it is what is normal now")
	episodes, err := s.Episodes(t.Context(), path, moved, end.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, episodes, 1)
	assert.NotNil(t, episodes[0].ToAt, "the episode is over")
	changes, err := s.Changes(t.Context(), store.Changed{}, store.Page{Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, "level_accepted", changes[0].What)

	again, _ := open(t, s)
	back, err := again.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateSteady, back.Verdict.State)
	assert.Len(t, back.Properties, 1, "it is remembered")
	assert.False(t, back.Properties[0].AcceptedAt.IsZero())
}

// TestBaselinesThatAreKept: pinned beside the one that rolls, compared, carried elsewhere.
func TestBaselinesThatAreKept(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}})
	end := time.Now().Truncate(time.Minute)
	fill := func(path ident.ID, rtt time.Duration) {
		require.NoError(t, c.Paths.Import(t.Context(), path, func(yield func(paths.Minute) bool) {
			for ago := 26 * 60; ago > 0; ago-- {
				r := minute(path, end.Add(-time.Duration(ago)*time.Minute), rtt, 0)
				probes, err := reading.Unpack(r.Reading.At, r.Packed)
				if err != nil || !yield(paths.Minute{Reading: r.Reading, Probes: probes}) {
					return
				}
			}
		}))
	}
	one, two := w.Paths[0], w.Paths[1]
	fill(one, 10*time.Millisecond)
	fill(two, 25*time.Millisecond)
	require.NoError(t, c.Paths.PinBaseline(t.Context(), one, true))
	kept, err := c.Paths.Baselines(t.Context(), one)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.True(t, kept[0].Pinned && kept[0].InUse)
	a, err := c.Paths.StoredBaseline(t.Context(), one, kept[0].ID)
	require.NoError(t, err)
	vb, err := c.View(two)
	require.NoError(t, err)
	differs := map[baseline.Measure]bool{}
	for _, d := range baseline.Compare(a, vb.Baseline) {
		differs[d.Measure] = d.Differs
	}
	assert.Equal(t, map[baseline.Measure]bool{baseline.RTT: true, baseline.Jitter: false, baseline.Loss: false}, differs)

	require.NoError(t, c.Paths.ImportBaseline(t.Context(), two, a, []baseline.Measure{baseline.RTT}, true))
	vb, err = c.View(two)
	require.NoError(t, err)
	assert.True(t, vb.Pinned)
	n, _ := vb.Baseline.At(baseline.RTT, end)
	assert.InDelta(t, 10, n.Expected, 0.3, "that of the other path")
	require.ErrorIs(t, c.Paths.ImportBaseline(t.Context(), two, a, []baseline.Measure{baseline.MOS}, false), kind.ErrInvalid, "it holds none of that")
	require.NoError(t, c.Paths.RollBaseline(t.Context(), two))
	vb, err = c.View(two)
	require.NoError(t, err)
	assert.False(t, vb.Pinned)
	n, _ = vb.Baseline.At(baseline.RTT, end)
	assert.InDelta(t, 25, n.Expected, 0.3, "its own again")
	_, err = c.Paths.StoredBaseline(t.Context(), two, ident.New())
	require.ErrorContains(t, err, "not found")
}
