package demo_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/reading"
	"woodlark.example/demo"
	"woodlark.example/internal/probe/history"
	"woodlark.example/wire"
)

// reference is a Monday morning.
var reference = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// judge runs fourteen days of one path through the judge, with a new baseline
// every midnight, and returns the episodes.
func judge(t *testing.T, agent, target string, f wire.Family) (baseline.Verdict, []baseline.Episode) {
	t.Helper()
	m, err := demo.World(reference, time.UTC)
	require.NoError(t, err)
	from, err := m.Find(agent)
	require.NoError(t, err)
	to, err := m.Find(target)
	require.NoError(t, err)
	addr, ok := m.Nodes()[to].Addr(f)
	require.True(t, ok)
	trainer := baseline.NewTrainer(baseline.NewJudge(baseline.Options{Paths: 16}), time.UTC, 14*24*time.Hour)
	start := reference.Add(-demo.HistoryDays * 24 * time.Hour)
	err = history.Minutes(t.Context(), m, history.Path{From: from, To: addr, Interval: time.Second, Wait: 2 * time.Second}, start, reference,
		func(r reading.Reading, _ []reading.Probe) error {
			trainer.Add(baseline.PointOf(r))
			return nil
		})
	require.NoError(t, err)
	return trainer.Judge().Verdict(reference, 3*time.Minute), trainer.Episodes()
}

func TestTheFiveTruths(t *testing.T) {
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC) }
	within := func(t *testing.T, want, got time.Time) {
		t.Helper()
		assert.WithinDuration(t, want, got, 5*time.Minute)
	}
	const ops = "ops.northquay.example"
	t.Run("Gannet Bay is full every late afternoon", func(t *testing.T) {
		v, episodes := judge(t, ops, "terminal.gannetbay.example", wire.IPv4)
		assert.Equal(t, baseline.StateSteady, v.State)
		d, ok := baseline.DailyOf(episodes, reference.Add(-14*24*time.Hour), reference, time.UTC)
		require.True(t, ok, "%v", episodes)
		assert.InDelta(t, 16*60, d.FromMinute, 10)
		assert.InDelta(t, 18*60+30, d.ToMinute, 10)
		assert.GreaterOrEqual(t, d.Days, 12)
	})
	t.Run("Tern Point has lost two percent since three days ago", func(t *testing.T) {
		v, episodes := judge(t, ops, "terminal.ternpoint.example", wire.IPv4)
		assert.Equal(t, baseline.StateDegraded, v.State)
		within(t, at(20, 9, 40), v.Since)
		require.Len(t, episodes, 1)
		x, ok := episodes[0].Excess(baseline.Loss)
		require.True(t, ok)
		assert.InDelta(t, 0.02, x.Now, 0.015)
	})
	t.Run("Holm is slower since its traffic moved", func(t *testing.T) {
		v, episodes := judge(t, ops, "terminal.holm.example", wire.IPv4)
		assert.Equal(t, baseline.StateDegraded, v.State)
		within(t, at(22, 14, 20), v.Since)
		require.Len(t, episodes, 1)
		x, ok := episodes[0].Excess(baseline.RTT)
		require.True(t, ok)
		assert.InDelta(t, 6.5, x.Normal, 1)
		assert.InDelta(t, 24, x.Now, 2)
	})
	t.Run("the kiosk was down last night", func(t *testing.T) {
		v, episodes := judge(t, ops, "kiosk.oxwater.example", wire.IPv4)
		assert.Equal(t, baseline.StateSteady, v.State)
		require.Len(t, episodes, 1)
		assert.Equal(t, baseline.Lost, episodes[0].Kind)
		assert.Equal(t, at(22, 23, 10), episodes[0].From)
		assert.Equal(t, at(22, 23, 50), episodes[0].To)
	})
	t.Run("the gate drops ICMP", func(t *testing.T) {
		v, episodes := judge(t, ops, "gate.drydock.example", wire.IPv4)
		assert.Equal(t, baseline.StateLost, v.State)
		assert.True(t, v.Never)
		assert.Empty(t, episodes)
	})
}

func TestAllOthersAreFine(t *testing.T) {
	for _, c := range []struct {
		from, to string
		family   wire.Family
	}{
		{"ops.northquay.example", "terminal.oxwater.example", wire.IPv4},
		{"ops.northquay.example", "terminal.oxwater.example", wire.IPv6},
		{"ops.northquay.example", "app.ticketing.example", wire.IPv6},
		{"ops.northquay.example", "bridge.razorbill.example", wire.IPv4},
		{"ops.northquay.example", "bridge.puffin.example", wire.IPv4},
		{"app.ticketing.example", "bridge.puffin.example", wire.IPv4},
		{"office.drydock.example", "app.ticketing.example", wire.IPv4},
		{"office.drydock.example", "app.ticketing.example", wire.IPv6},
		{"office.drydock.example", "ops.northquay.example", wire.IPv4},
		{"ops.northquay.example", "app.ticketing.example", wire.IPv4},
		{"app.ticketing.example", "ops.northquay.example", wire.IPv4},
		{"app.ticketing.example", "bridge.razorbill.example", wire.IPv4},
	} {
		t.Run(c.from+" to "+c.to+" "+c.family.String(), func(t *testing.T) {
			t.Parallel()
			v, episodes := judge(t, c.from, c.to, c.family)
			assert.Equal(t, baseline.StateSteady, v.State)
			assert.Empty(t, episodes)
		})
	}
}
