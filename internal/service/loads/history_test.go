package loads

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// TestThroughputOfAPath: which runs count for a path, and what is usual of them.
func TestThroughputOfAPath(t *testing.T) {
	near, holm, pier := ident.New(), ident.New(), ident.New()
	l := New()
	now := time.Now()
	watch := ident.New()
	run := func(agent, far ident.ID, target string, ago time.Duration, there, back float64) {
		row := store.TwoEnded{ID: ident.New(), WatchID: watch, AgentID: agent, FarID: far, Target: target, Kind: "throughput", Outcome: protocol.Done, StartedAt: now.Add(-ago), ThereBps: &there}
		if back > 0 {
			row.BackBps = &back
		}
		l.Add(row)
	}
	stands := map[ident.ID][]string{holm: {"holm", "terminal.holm.example"}, pier: {"pier"}}
	of := func(path string) *Throughput { // as a path's ends are told to be those of a run
		return l.From(near, func(far ident.ID, target string) bool {
			return target == path || slices.Contains(stands[far], path)
		})
	}
	assert.Nil(t, of("terminal.holm.example"), "nothing was measured")
	run(near, holm, "holm", 40*24*time.Hour, 1e6, 1e6) // too long ago to be usual
	for i := range 6 {
		run(near, holm, "holm", time.Duration(10-i)*time.Hour, 100e6, 50e6)
	}
	run(near, ident.ID{}, "192.0.2.7:7474", 2*time.Hour, 7e6, 0)
	run(near, pier, "pier", 90*time.Minute, 3e6, 0)
	run(holm, near, "quay", 80*time.Minute, 4e6, 0)
	run(near, holm, "holm", time.Hour, 60e6, 0)
	watch = ident.New()
	run(near, pier, "pier", 30*time.Minute, 5e6, 0) // by another watch
	watch = ident.ID{}
	run(near, holm, "holm", 20*time.Minute, 1e6, 1e6) // by hand
	l.Add(store.TwoEnded{AgentID: near, FarID: holm, Kind: "throughput", Outcome: protocol.Failed, StartedAt: now})

	for _, target := range []string{"holm", "terminal.holm.example"} {
		assert.NotNil(t, of(target), target)
	}
	got := of("terminal.holm.example")
	require.NotNil(t, got)
	assert.WithinDuration(t, now.Add(-time.Hour), got.At, time.Second, "the last that a watch did")
	assert.InDelta(t, 60e6, *got.There.Bps, 1)
	require.NotNil(t, got.There.Usual)
	assert.Equal(t, 6, got.There.Usual.Readings)
	assert.InDelta(t, 95e6, float64(got.There.Usual.Low), 1, "so it is below its usual")
	assert.Nil(t, got.Back.Bps)
	assert.InDelta(t, 50e6, float64(got.Back.Usual.Median), 1)

	other := of("192.0.2.7:7474")
	require.NotNil(t, other)
	assert.InDelta(t, 7e6, *other.There.Bps, 1)
	assert.Nil(t, other.There.Usual, "too few to be usual")
	byHand := ident.New()
	run(byHand, holm, "holm", time.Minute, 2e6, 0)
	one := l.From(byHand, func(far ident.ID, _ string) bool { return far == holm })
	require.NotNil(t, one, "where no watch measures, what was asked for by hand")
	assert.Nil(t, one.There.Usual)
	assert.Nil(t, of("terminal.ternpoint.example"))
	beside := l.From(near, func(far ident.ID, _ string) bool { return far == holm })
	require.NotNil(t, beside)
	assert.Equal(t, "holm", beside.To, "where it went")
	assert.Equal(t, holm, beside.Far)
}
