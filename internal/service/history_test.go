package service_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// past yields so many minutes up to an end: quiet, and in the last hour slow.
func past(path ident.ID, end time.Time, n int) func(func(paths.Minute) bool) {
	return func(yield func(paths.Minute) bool) {
		for ago := n; ago > 0; ago-- {
			rtt, lost := 10*time.Millisecond, 0
			if ago <= 60 {
				rtt, lost = 30*time.Millisecond, 3
			}
			r := minute(path, end.Add(-time.Duration(ago)*time.Minute), rtt, lost)
			probes, err := reading.Unpack(r.Reading.At, r.Packed)
			if err != nil || !yield(paths.Minute{Reading: r.Reading, Probes: probes}) {
				return
			}
		}
	}
}

func TestImportedHistoryIsThatOfAMeasuredOne(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	spec := func(to string) watches.Spec { return watches.Spec{From: []string{"quay"}, To: []string{to}} }
	imported := addWatch(t, c, "imported", spec("192.0.2.1")).Paths[0]
	measured := addWatch(t, c, "measured", spec("192.0.2.2")).Paths[0]
	end := time.Now().Truncate(time.Hour)
	const n = 300
	require.NoError(t, c.Paths.Import(t.Context(), imported, past(imported, end, n)))
	for m := range past(measured, end, n) {
		r := protocol.Record{Path: measured, Reading: m.Reading, Packed: reading.Pack(m.Reading.At, m.Probes)}
		require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Readings: []protocol.Record{r}}))
	}
	require.NoError(t, s.RollDue(t.Context(), end.Add(48*time.Hour), func(ident.ID, store.Slot) {}))
	for _, span := range store.RollupSpans() {
		a, err := s.Rollups(t.Context(), imported, span, end.Add(-48*time.Hour), end.Add(24*time.Hour))
		require.NoError(t, err)
		b, err := s.Rollups(t.Context(), measured, span, end.Add(-48*time.Hour), end.Add(24*time.Hour))
		require.NoError(t, err)
		require.NotEmpty(t, a)
		assert.Equal(t, b, a, "rollups of %v", span)
	}
	long := addWatch(t, c, "long", spec("192.0.2.3")).Paths[0]
	require.NoError(t, c.Paths.Import(t.Context(), long, past(long, end, 9*24*60)))
	v, err := c.View(long)
	require.NoError(t, err)
	rows, err := s.Episodes(t.Context(), long, end.Add(-48*time.Hour), end)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.WithinDuration(t, end.Add(-time.Hour), paths.EpisodeOf(rows[0]).From, 3*time.Minute)
	assert.Equal(t, end.Add(-time.Minute).UTC(), v.Last.Reading.At.UTC())
	assert.NotEmpty(t, v.Trace, "the last day in small is there at once")
	kept, err := s.Baselines(t.Context(), long, false)
	require.NoError(t, err)
	assert.Len(t, kept, 1)
}

func TestAnImportThatIsStopped(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	path := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}}).Paths[0]
	require.NoError(t, c.Paths.Import(t.Context(), path, func(func(paths.Minute) bool) {}), "nothing to take in")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, c.Paths.Import(ctx, path, past(path, time.Now(), 1500)))
	require.ErrorIs(t, c.Paths.Import(t.Context(), ident.New(), past(path, time.Now(), 1)), store.ErrNotFound)
}

func TestTheServiceTrainsAndRollsByItself(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}}).Paths[0]
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: quay(c)}
	for ago := 45; ago > 0; ago-- {
		u.Readings = append(u.Readings, minute(path, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, 0))
	}
	require.NoError(t, c.Upload(t.Context(), u))
	heard, stop := c.Events.Listen()
	defer stop()
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		assert.NoError(t, c.Run(ctx))
	}()
	require.Eventually(t, func() bool {
		v, err := c.View(path)
		return err == nil && v.Baseline != nil && len(v.Trace) >= 3
	}, time.Minute, 20*time.Millisecond)
	cancel()
	<-ended
	v, _ := c.View(path)
	assert.Equal(t, 45, v.Baseline.Readings)
	assert.Equal(t, guard.StateSteady, v.Verdict.State)
	told := false
	for len(heard) > 0 {
		e := <-heard
		told = told || e.Kind == events.StateChanged && e.Path == path
	}
	assert.True(t, told, "listeners are told that it is no longer unmeasured")
}

func TestAListenerThatDoesNotKeepUpIsLetGo(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	slow, stop := c.Events.Listen()
	defer stop()
	quick, stopQuick := c.Events.Listen()
	seen := 0
	for range 5000 {
		c.Notices.Notify(t.Context(), "test", "a notice")
		for len(quick) > 0 {
			<-quick
			seen++
		}
		if seen > 4200 {
			break
		}
	}
	n := 0
	for range slow {
		n++ // until it is closed
	}
	assert.Equal(t, 4096, n, "what it was owed, then the end")
	stopQuick()
	_, open := <-quick
	assert.False(t, open)
}

func TestWorstFirst(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4", "192.0.2.5"}})
	end := time.Now().Truncate(time.Minute)
	lossOf := map[int]func(ago int) int{
		0: func(int) int { return 0 },
		1: func(ago int) int { return map[bool]int{true: 6}[ago <= 30] },
		2: func(ago int) int { return map[bool]int{true: 60}[ago <= 30] },
		3: func(int) int { return 60 },
	}
	for i, lost := range lossOf {
		u := protocol.Upload{Agent: quay(c)}
		for ago := 200; ago > 0; ago-- {
			if ago == 40 {
				require.NoError(t, c.Upload(t.Context(), u))
				u = protocol.Upload{Agent: quay(c)}
				if i < 3 {
					_, err := c.Paths.TakeBaseline(t.Context(), w.Paths[i], 24*time.Hour, false)
					require.NoError(t, err)
				}
			}
			u.Readings = append(u.Readings, minute(w.Paths[i], end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost(ago)))
		}
		require.NoError(t, c.Upload(t.Context(), u))
	}
	var order []ident.ID
	for _, v := range c.Views(service.Filter{}) {
		order = append(order, v.ID)
	}
	assert.Equal(t, []ident.ID{w.Paths[2], w.Paths[1], w.Paths[3], w.Paths[4], w.Paths[0]}, order, "lost, degraded, never answered, unmeasured, steady")
	assert.Len(t, c.Views(service.Filter{States: []guard.State{guard.StateLost}}), 2)
	assert.Len(t, c.Views(service.Filter{Search: "192.0.2.4"}), 1)
}
