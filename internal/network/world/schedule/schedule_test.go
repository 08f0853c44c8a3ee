package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world/schedule"
)

func at(day, hour, minute int) time.Time {
	return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC)
}

func TestCron(t *testing.T) {
	w := schedule.Window{Zone: time.UTC}
	require.NoError(t, w.Cron("30 2 * * mon-fri", 20*time.Minute)) // 18 November 2026 is a Wednesday
	for _, c := range []struct {
		at   time.Time
		open bool
		next time.Time
	}{
		{at(18, 2, 29), false, at(18, 2, 30)},
		{at(18, 2, 30), true, at(18, 2, 50)},
		{at(18, 2, 49), true, at(18, 2, 50)},
		{at(18, 2, 50), false, at(19, 2, 30)},
		{at(20, 3, 0), false, at(23, 2, 30)},
	} {
		assert.Equal(t, c.open, w.Open(c.at), "%v", c.at)
		next, ok := w.Next(c.at)
		assert.True(t, ok)
		assert.Equal(t, c.next, next.UTC(), "after %v", c.at)
	}
	w.From = at(19, 0, 0)
	assert.False(t, w.Open(at(18, 2, 40)), "not before it begins at all")
	assert.True(t, w.Open(at(19, 2, 40)))
	var long schedule.Window
	long.Zone = time.UTC
	require.NoError(t, long.Cron("0 * * * *", 90*time.Minute))
	assert.True(t, long.Open(at(18, 2, 59)), "it lasts into the next time")
	require.ErrorContains(t, long.Cron("0 25 * * *", time.Minute), "cron expression")
	require.ErrorContains(t, long.Cron("0 2 * * *", 0), "how long it lasts")
}

func TestInstants(t *testing.T) {
	reference := at(18, 15, 30)
	for text, want := range map[string]time.Time{
		"day-3 09:40":          at(15, 9, 40),
		"day 00:00":            at(18, 0, 0),
		"day+1 24:00":          at(20, 0, 0),
		"start+90s":            reference.Add(90 * time.Second),
		"start - 1h":           reference.Add(-time.Hour),
		"2026-11-20T09:40:00Z": at(20, 9, 40),
	} {
		got, err := schedule.Instant(text, reference, time.UTC)
		require.NoError(t, err, text)
		assert.True(t, want.Equal(got), "%s: %v", text, got)
	}
	for _, text := range []string{"", "noon", "day-3", "day-3 25:00", "start+soon", "start"} {
		_, err := schedule.Instant(text, reference, time.UTC)
		assert.Error(t, err, text)
	}
}

func TestBrokenHours(t *testing.T) {
	var w schedule.Window
	for _, text := range []string{"16:00", "16-18", "16:00-x", "25:00-26:00"} {
		assert.Error(t, w.Daily(text), text)
	}
	for _, text := range []string{"mon", "someday 16:00-18:00", "mon-fri 16:00"} {
		assert.Error(t, w.Weekly(text), text)
	}
	always := schedule.Window{Zone: time.UTC}
	assert.True(t, always.Open(at(1, 0, 0)), "the zero value holds always")
	_, ok := always.Next(at(1, 0, 0))
	assert.False(t, ok)
}
