package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/compare"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/comparisons"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestComparisons of a path at two moments, and of two paths at one.
func TestComparisons(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}})
	end := time.Now().Truncate(time.Minute)
	fill := func(path ident.ID, rtt func(ago int) time.Duration) {
		require.NoError(t, c.Paths.Import(t.Context(), path, func(yield func(paths.Minute) bool) {
			for ago := 120; ago > 0; ago-- {
				r := minute(path, end.Add(-time.Duration(ago)*time.Minute), rtt(ago), 0)
				probes, err := reading.Unpack(r.Reading.At, r.Packed)
				if err != nil || !yield(paths.Minute{Reading: r.Reading, Probes: probes}) {
					return
				}
			}
		}))
	}
	one, two := w.Paths[0], w.Paths[1]
	fill(one, func(ago int) time.Duration {
		if ago > 60 {
			return 10 * time.Millisecond
		}
		return 25 * time.Millisecond
	})
	fill(two, func(int) time.Duration { return 10 * time.Millisecond })
	at := func(path ident.ID, ago time.Duration) comparisons.End {
		return comparisons.End{Path: path, From: end.Add(-ago), To: end.Add(-ago + time.Hour)}
	}
	r, err := c.Comparisons.Of(t.Context(), at(one, 2*time.Hour), at(one, time.Hour))
	require.NoError(t, err)
	assert.Contains(t, r.Sentence, " is worse than ")
	assert.Contains(t, r.Sentence, "median RTT 25 ms against 10 ms (+15 ms)")
	d := r.Differences[0]
	assert.Equal(t, compare.Differs, d.State)
	assert.InDelta(t, 15, *d.By, 0.1)
	for _, x := range r.Differences {
		if x.Key == "loss" {
			assert.NotEqual(t, compare.Differs, x.State, "nothing was lost, here and there")
		}
	}
	r, err = c.Comparisons.Of(t.Context(), at(one, 2*time.Hour), at(two, 2*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, "No figure surely differs by as much as is worth speaking of.", r.Sentence)

	for says, e := range map[string]comparisons.End{
		"one of both":     {},
		"no span":         {Path: one, From: end, To: end},
		"has no readings": {Path: one, From: end.Add(-48 * time.Hour), To: end.Add(-47 * time.Hour)},
	} {
		_, err := c.Comparisons.Of(t.Context(), at(two, time.Hour), e)
		require.ErrorContains(t, err, says)
		require.ErrorContains(t, err, "the second: ")
	}
	_, err = c.Comparisons.Of(t.Context(), comparisons.End{Path: one}, at(one, time.Hour))
	require.ErrorIs(t, err, kind.ErrInvalid)
	_, err = c.Comparisons.Of(t.Context(), comparisons.End{Run: ident.New()}, at(one, time.Hour))
	require.ErrorIs(t, err, store.ErrNotFound)
}
