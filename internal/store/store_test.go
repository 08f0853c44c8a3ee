package store_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// minute makes a minute of sixty probes, of which every lossEvery-th is lost.
func minute(path ident.ID, at time.Time, base time.Duration, lossEvery int) protocol.Record {
	var probes []reading.Probe
	for i := range 60 {
		p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, Stamp: reading.StampKernel,
			RTT: base + time.Duration(i%7)*time.Microsecond}
		if lossEvery > 0 && i%lossEvery == 0 {
			p = reading.Probe{DueAt: p.DueAt}
		}
		probes = append(probes, p)
	}
	return protocol.Record{Path: path, Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)}
}

func TestReadingsComeBackAsTheyWere(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	want := minute(path, noon, 12*time.Millisecond, 20)
	want.Flags = protocol.HeldBack
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Readings: []protocol.Record{want}}))
	got, err := s.Readings(t.Context(), path, noon, noon.Add(time.Minute), 0, true)
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, want, got[0])
}

func TestAnUploadMayComeTwice(t *testing.T) {
	s := storetest.New(t)
	path, run := ident.New(), ident.New()
	u := protocol.Upload{Readings: []protocol.Record{minute(path, noon, time.Millisecond, 0)},
		Runs: []protocol.Run{{ID: run, Path: path, Started: noon, Outcome: protocol.Missed, Reason: "the service was away"}}}
	require.NoError(t, s.SaveUpload(t.Context(), u))
	require.NoError(t, s.SaveUpload(t.Context(), u))
	got, err := s.Readings(t.Context(), path, noon.Add(-time.Hour), noon.Add(time.Hour), 0, false)
	require.NoError(t, err)
	assert.Len(t, got, 1)
	runs, err := s.Runs(t.Context(), store.RunFilter{Path: path})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, protocol.Missed, runs[0].Outcome)
	assert.Equal(t, "the service was away", runs[0].Reason)
}

func TestRollupsMergeExactly(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	var u protocol.Upload
	for i := range 120 {
		u.Readings = append(u.Readings, minute(path, noon.Add(time.Duration(i)*time.Minute), time.Duration(10+i%3)*time.Millisecond, 15))
	}
	require.NoError(t, s.SaveUpload(t.Context(), u))
	made := 0
	count := func(ident.ID, store.Slot) { made++ }
	require.NoError(t, s.RollDue(t.Context(), noon.Add(48*time.Hour), count))
	assert.Equal(t, 12+2+1, made)
	for _, c := range []struct {
		span  time.Duration
		slots int
	}{{10 * time.Minute, 12}, {time.Hour, 2}, {24 * time.Hour, 1}} {
		slots, err := s.Rollups(t.Context(), path, c.span, noon.Add(-24*time.Hour), noon.Add(24*time.Hour))
		require.NoError(t, err)
		require.Len(t, slots, c.slots, "%v", c.span)
		var sent, lost int
		for _, slot := range slots {
			sent += slot.Sent
			lost += slot.Lost
			median, ok := slot.Median.Get()
			assert.True(t, ok)
			assert.InEpsilon(t, float64(11*time.Millisecond), float64(median), 0.005, "the sketch is within half a percent")
			minimum, _ := slot.Min.Get()
			assert.Equal(t, 10*time.Millisecond, minimum.Truncate(time.Millisecond), "the least is exact")
		}
		assert.Equal(t, 7200, sent)
		assert.Equal(t, 480, lost)
	}
	// A reading that comes late makes its rollups anew.
	late := minute(path, noon.Add(125*time.Minute), time.Millisecond, 0)
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Readings: []protocol.Record{late}}))
	made = 0
	require.NoError(t, s.RollDue(t.Context(), noon.Add(48*time.Hour), count))
	assert.Equal(t, 3, made)
	day, err := s.Rollups(t.Context(), path, 24*time.Hour, noon.Add(-24*time.Hour), noon.Add(24*time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 7260, day[0].Sent)
}

func TestOldDaysAreDropped(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	for d := range 5 {
		require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Readings: []protocol.Record{minute(path, noon.AddDate(0, 0, d), time.Millisecond, 0)}}))
	}
	_, err := s.DropBefore(t.Context(), noon.AddDate(0, 0, 3))
	require.NoError(t, err)
	got, err := s.Readings(t.Context(), path, noon.AddDate(0, 0, -1), noon.AddDate(0, 0, 9), 0, false)
	require.NoError(t, err)
	assert.Len(t, got, 2, "the days from the fourth on stay")
}

func TestANameIsTakenOnce(t *testing.T) {
	s := storetest.New(t)
	w := store.Watch{ID: ident.New(), Name: "terminals", Spec: "{}", CreatedAt: noon, UpdatedAt: noon}
	require.NoError(t, s.SaveWatch(t.Context(), w, nil))
	w.ID = ident.New()
	require.ErrorIs(t, s.SaveWatch(t.Context(), w, nil), store.ErrTaken)
}

func TestAnOpenedStoreIsNotMigratedTwice(t *testing.T) {
	dsn := storetest.DSN()
	for range 2 {
		s, err := store.Open(t.Context(), store.Options{DSN: dsn})
		require.NoError(t, err)
		require.NoError(t, s.Close())
	}
}

func TestABadNameOfADatabaseIsExplained(t *testing.T) {
	for dsn, want := range map[string]string{
		"nonsense":                     "not of the form",
		"root@unix(/nowhere.sock)/":    "no /name at its end",
		"root:secret@tcp(nowhere)/x/y": "",
	} {
		_, err := store.Open(t.Context(), store.Options{DSN: dsn})
		require.Error(t, err)
		assert.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), "secret")
	}
}
