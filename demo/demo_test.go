package demo_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/demo"
	"woodlark.example/internal/probe/history"
	"woodlark.example/wire"
)

// reference is a Monday morning.
var reference = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// judge runs the demo's days of one path through the guard, with a new baseline every night.
func judge(t *testing.T, agent, target string, f wire.Family) *guard.Path {
	t.Helper()
	m, err := demo.World(reference, time.UTC)
	require.NoError(t, err)
	from, err := m.Find(agent)
	require.NoError(t, err)
	to, err := m.Find(target)
	require.NoError(t, err)
	addr, ok := m.Nodes()[to].Addr(f)
	require.True(t, ok)
	p := guard.NewPath(&guard.Options{}, 0.1)
	start := reference.Add(-demo.HistoryDays * 24 * time.Hour)
	err = history.Minutes(t.Context(), m, history.Path{From: from, To: addr, Interval: time.Second, Wait: 2 * time.Second}, start, reference,
		func(r reading.Reading, _ []reading.Probe) error {
			p.Add(baseline.PointOf(r))
			return nil
		})
	require.NoError(t, err)
	return p
}

func TestTheTruths(t *testing.T) {
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC) }
	within := func(t *testing.T, want, got time.Time) {
		t.Helper()
		assert.WithinDuration(t, want, got, 5*time.Minute)
	}
	const ops = "ops.northquay.example"
	t.Run("Gannet Bay is full every late afternoon", func(t *testing.T) {
		p := judge(t, ops, "terminal.gannetbay.example", wire.IPv4)
		assert.Empty(t, p.Episodes(), "so it is, and that is no alarm")
		require.Len(t, p.Properties(), 1, "one property")
		d := p.Properties()[0]
		assert.Equal(t, guard.Daily, d.Kind)
		assert.InDelta(t, 16*60, d.From, 20)
		assert.InDelta(t, 18*60+30, d.To, 20)
		assert.True(t, slices.ContainsFunc(d.Also, func(x guard.Beside) bool { return x.Measure == baseline.Loss }))
	})
	t.Run("Tern Point has lost two percent since three days ago", func(t *testing.T) {
		episodes := judge(t, ops, "terminal.ternpoint.example", wire.IPv4).Episodes()
		require.Len(t, episodes, 1)
		assert.True(t, episodes[0].Open())
		within(t, at(20, 9, 40), episodes[0].From)
		x, ok := episodes[0].Excess(baseline.Loss)
		require.True(t, ok)
		assert.InDelta(t, 0.02, x.Now, 0.015)
	})
	t.Run("Holm is slower since its traffic moved", func(t *testing.T) {
		episodes := judge(t, ops, "terminal.holm.example", wire.IPv4).Episodes()
		require.Len(t, episodes, 1)
		assert.True(t, episodes[0].Open())
		within(t, at(22, 14, 20), episodes[0].From)
		x, ok := episodes[0].Excess(baseline.RTT)
		require.True(t, ok)
		assert.InDelta(t, 6.5, x.Normal, 1)
		assert.InDelta(t, 24, x.Now, 2)
	})
	t.Run("the kiosk was down last night", func(t *testing.T) {
		episodes := judge(t, ops, "kiosk.oxwater.example", wire.IPv4).Episodes()
		require.Len(t, episodes, 1)
		assert.Equal(t, guard.Lost, episodes[0].Kind)
		assert.WithinDuration(t, at(22, 23, 10), episodes[0].From, 5*time.Second)
		assert.WithinDuration(t, at(22, 23, 50), episodes[0].To, 5*time.Second)
	})
	t.Run("the landing stages are slower since yesterday evening", func(t *testing.T) {
		for _, stage := range []string{"stage.aukrock.example", "stage.eidersound.example", "stage.fulmarstack.example"} {
			episodes := judge(t, ops, stage, wire.IPv4).Episodes()
			require.Len(t, episodes, 1, stage)
			assert.True(t, episodes[0].Open())
			within(t, at(22, 18, 10), episodes[0].From)
			x, ok := episodes[0].Excess(baseline.RTT)
			require.True(t, ok)
			assert.InDelta(t, 4.6, x.Now-x.Normal, 0.3)
		}
	})
	t.Run("the gate drops ICMP", func(t *testing.T) {
		p := judge(t, ops, "gate.drydock.example", wire.IPv4)
		assert.False(t, p.Judge().Answered())
		assert.Empty(t, p.Episodes())
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
			p := judge(t, c.from, c.to, c.family)
			assert.True(t, p.Judge().Answered())
			assert.Empty(t, p.Episodes())
		})
	}
}
