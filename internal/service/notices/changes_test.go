package notices_test

import (
	"database/sql"
	"errors"
	"log/slog"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

// TestWhatWasDoneIsNotedLater: a line that the database could not take is written once it can, in its
// order and with its own time.
func TestWhatWasDoneIsNotedLater(t *testing.T) {
	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	n := notices.New(notices.Options{Store: s, Log: slog.New(slog.DiscardHandler), Events: &events.Stream{}, Zone: time.UTC, Disk: func() string { return "" }})
	ctx := notices.WithActor(t.Context(), "ann")
	does := func(text string) {
		_, err := db.ExecContext(t.Context(), text)
		require.NoError(t, err)
	}
	does("RENAME TABLE changes TO changes_elsewhere, notices TO notices_elsewhere")
	before := time.Now()
	n.Changed(ctx, "watch_removed", "holm", map[string]int{"probes": 3}, nil)
	n.Notify(ctx, "disk_full", "The disk is full.")
	n.Changed(ctx, "watch_added", "holm", nil, nil)
	over := time.Now()
	assert.Error(t, n.KeepLate(ctx))
	does("RENAME TABLE changes_elsewhere TO changes, notices_elsewhere TO notices")
	n.Changed(ctx, "watch_changed", "holm", nil, nil)
	require.NoError(t, n.KeepLate(ctx))
	require.NoError(t, n.KeepLate(ctx), "once")
	list, err := s.Changes(ctx, store.Changed{}, store.Page{Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []string{"watch_changed", "watch_added", "watch_removed"}, []string{list[0].What, list[1].What, list[2].What})
	assert.Equal(t, "ann", list[2].Who)
	assert.JSONEq(t, `{"before": {"probes": 3}, "after": null}`, list[2].Detail)
	assert.WithinRange(t, list[2].At, before.Add(-time.Second), over.Add(time.Second), "when it was done")
	told, err := s.Notices(ctx, before.Add(-time.Minute))
	require.NoError(t, err)
	require.Len(t, told, 1)
}

// TestWhenTheDatabaseIsBack: what takes anything is back, unless readings are held back: then what takes
// them is.
func TestWhenTheDatabaseIsBack(t *testing.T) {
	n := notices.New(notices.Options{Store: storetest.New(t), Log: slog.New(slog.DiscardHandler), Events: &events.Stream{}, Zone: time.UTC, Disk: func() string { return "" }})
	away := func() bool { since, _ := n.Away(); return !since.IsZero() }
	n.NoteHeld(nil)
	n.NoteAway(errors.New("another"))
	assert.False(t, away())
	n.NoteAway(store.ErrAway)
	assert.True(t, away())
	n.NoteTakes(t.Context())
	assert.False(t, away())
	n.NoteHeld(store.ErrAway)
	n.NoteTakes(t.Context())
	assert.True(t, away(), "readings wait")
	n.NoteBack(t.Context())
	assert.False(t, away())
	n.NoteAway(store.ErrAway)
	n.NoteTakes(t.Context())
	assert.False(t, away(), "none waits any more")
}
