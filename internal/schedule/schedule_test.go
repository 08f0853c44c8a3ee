package schedule_test

import (
	"math"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/schedule"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	x, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return x
}

// TestTimesAcrossChangesOfClocks: Europe/Dublin is put on by an hour at 01:00 UTC on 29 March 2026
// (01:00 becomes 02:00), and back at 01:00 UTC on 25 October 2026 (02:00 becomes 01:00).
func TestTimesAcrossChangesOfClocks(t *testing.T) {
	for _, c := range []struct {
		name, cron, after string
		want              []string
	}{
		{"a time of day goes with the clock", "0 9 * * *", "2026-03-27T12:00:00Z", []string{"2026-03-28T09:00:00Z", "2026-03-29T08:00:00Z", "2026-03-30T08:00:00Z"}},
		{"one that is left out comes at the change", "30 1 * * *", "2026-03-28T00:00:00Z", []string{"2026-03-28T01:30:00Z", "2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"}},
		{"two that are left out come once", "15,45 1 * * *", "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:15:00Z", "2026-03-30T00:45:00Z"}},
		{"the moment of the change itself", "0 2 * * *", "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T01:00:00Z"}},
		{"one that comes twice is kept the first time", "30 1 * * *", "2026-10-24T00:00:00Z", []string{"2026-10-24T00:30:00Z", "2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{"each hour is each hour that passes, when one comes twice", "30 * * * *", "2026-10-24T23:45:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z", "2026-10-25T02:30:00Z", "2026-10-25T03:30:00Z"}},
		{"and when one is left out", "30 * * * *", "2026-03-28T23:45:00Z", []string{"2026-03-29T00:30:00Z", "2026-03-29T01:30:00Z", "2026-03-29T02:30:00Z"}},
		{"each quarter of an hour over the change", "*/15 * * * *", "2026-10-25T00:40:00Z", []string{"2026-10-25T00:45:00Z", "2026-10-25T01:00:00Z", "2026-10-25T01:15:00Z"}},
		{"working days", "0 8 * * MON-FRI", "2026-10-23T12:00:00Z", []string{"2026-10-26T08:00:00Z", "2026-10-27T08:00:00Z"}},
		{"a day that is rare", "0 0 29 2 *", "2026-01-01T00:00:00Z", []string{"2028-02-29T00:00:00Z", "2032-02-29T00:00:00Z"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := schedule.Times{Cron: c.cron, Zone: "Europe/Dublin"}.With(0, 0, 0)
			require.NoError(t, err)
			from := at(t, c.after)
			for _, want := range c.want {
				from = s.Next(from)
				assert.Equal(t, want, from.UTC().Format(time.RFC3339))
			}
		})
	}
}

// TestTimesAreNeitherSkippedNorDoubled: over a year of each of some zones, a daily time comes
// once each day of the calendar, and an hourly one once each hour that passes.
func TestTimesAreNeitherSkippedNorDoubled(t *testing.T) {
	for _, zone := range []string{"Europe/Dublin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "America/St_Johns", "Africa/Casablanca", "UTC"} {
		z, err := schedule.Zone(zone)
		require.NoError(t, err)
		start := time.Date(2026, 1, 1, 0, 0, 0, 0, z).Add(-time.Second)
		for _, cron := range []string{"30 2 * * *", "15 1 * * *", "59 23 * * *", "0 0 * * *"} {
			s, err := schedule.Times{Cron: cron, Zone: zone}.With(0, 0, 0)
			require.NoError(t, err)
			days := map[string]int{}
			for x := s.Next(start); x.In(z).Year() == 2026; x = s.Next(x) {
				days[x.In(z).Format(time.DateOnly)]++
			}
			assert.Len(t, days, 365, "%s in %s", cron, zone)
			for day, n := range days {
				assert.Equal(t, 1, n, "%s in %s on %s", cron, zone, day)
			}
		}
		s, err := schedule.Times{Cron: "17 * * * *", Zone: zone}.With(0, 0, 0)
		require.NoError(t, err)
		x := s.Next(start)
		for range 365 * 24 {
			next := s.Next(x)
			require.Contains(t, []time.Duration{time.Hour, 90 * time.Minute, 30 * time.Minute}, next.Sub(x), "%s behind %s", zone, x)
			if zone != "Australia/Lord_Howe" { // whose clocks change by half an hour
				require.Equal(t, time.Hour, next.Sub(x), "%s behind %s", zone, x)
			}
			x = next
		}
	}
}

func TestIntervals(t *testing.T) {
	s, err := schedule.Times{}.With(10*time.Minute, 90*time.Second, 0)
	require.NoError(t, err)
	assert.Equal(t, at(t, "2026-11-29T12:01:30Z"), s.Next(at(t, "2026-11-29T11:55:00Z")).UTC())
	assert.Equal(t, at(t, "2026-11-29T12:11:30Z"), s.Next(at(t, "2026-11-29T12:01:30Z")).UTC(), "the next, not itself")
	assert.True(t, s.Open(at(t, "2026-11-29T12:01:30Z")))
	assert.True(t, s.Change(at(t, "2026-11-29T12:01:30Z")).IsZero())

	s, err = schedule.Times{Hours: "mon-fri 08:00-18:00", Zone: "Europe/Dublin", StartAt: at(t, "2026-11-27T10:00:00Z"), EndAt: at(t, "2026-12-01T09:30:00Z")}.With(time.Hour, 0, 0)
	require.NoError(t, err)
	var got []string
	for x := s.Next(at(t, "2026-11-01T00:00:00Z")); !x.IsZero(); x = s.Next(x) {
		got = append(got, x.UTC().Format("02 15:04"))
	}
	assert.Equal(t, []string{"27 10:00", "27 11:00", "27 12:00", "27 13:00", "27 14:00", "27 15:00", "27 16:00", "27 17:00", "30 08:00", "30 09:00", "30 10:00", "30 11:00", "30 12:00", "30 13:00", "30 14:00", "30 15:00", "30 16:00", "30 17:00", "01 08:00", "01 09:00"}, got)
	assert.Equal(t, at(t, "2026-11-27T10:00:00Z"), s.Change(at(t, "2026-11-27T09:00:00Z")).UTC())
	assert.Equal(t, at(t, "2026-11-27T18:00:00Z"), s.Change(at(t, "2026-11-27T12:00:00Z")).UTC())
	assert.False(t, s.Open(at(t, "2026-11-28T12:00:00Z")), "a Saturday")
	assert.False(t, s.Open(at(t, "2026-12-01T09:30:00Z")), "its end is not of it")
}

// TestPoisson: as many as an interval says, at distances that are exponential, the same each
// time they are asked for, and others by another seed.
func TestPoisson(t *testing.T) {
	s, err := schedule.Times{Poisson: true}.With(time.Minute, 0, 42)
	require.NoError(t, err)
	other, err := schedule.Times{Poisson: true}.With(time.Minute, 0, 43)
	require.NoError(t, err)
	start := at(t, "2026-11-29T00:00:00Z")
	var sum, squares float64
	n := 0
	differs := false
	for x := start; x.Sub(start) < 14*24*time.Hour; n++ {
		next := s.Next(x)
		require.Equal(t, next, s.Next(next.Add(-1)), "the same from wherever it is asked for")
		differs = differs || !other.Next(x).Equal(next)
		d := next.Sub(x).Minutes()
		sum, squares = sum+d, squares+d*d
		x = next
	}
	assert.True(t, differs)
	mean := sum / float64(n)
	assert.InDelta(t, 1, mean, 0.03)
	assert.InDelta(t, 1, math.Sqrt(squares/float64(n)-mean*mean), 0.05, "as wide as it is long")
}

func TestHoursOverMidnight(t *testing.T) {
	h, err := schedule.ParseHours("fri 22:00-06:00, sun 23:00-24:00")
	require.NoError(t, err)
	for text, open := range map[string]bool{"2026-11-27T21:59:00Z": false, "2026-11-27T22:00:00Z": true, "2026-11-28T05:59:59Z": true, "2026-11-28T06:00:00Z": false, "2026-11-28T22:30:00Z": false, "2026-11-29T23:59:00Z": true, "2026-11-30T00:00:00Z": false} {
		assert.Equal(t, open, h.Open(at(t, text)), text)
	}
	assert.True(t, schedule.Hours(nil).Open(time.Now()))
}

func TestWhatCannotBe(t *testing.T) {
	start := at(t, "2026-11-29T00:00:00Z")
	for _, c := range []struct {
		times schedule.Times
		every time.Duration
		says  string
	}{
		{schedule.Times{Cron: "61 * * * *"}, 0, "61"},
		{schedule.Times{Cron: "* * *"}, 0, "five fields"},
		{schedule.Times{Cron: "0 0 31 2 *"}, 0, "a day that does not exist"},
		{schedule.Times{Cron: "@every 5m"}, 0, "repeat"},
		{schedule.Times{Cron: "TZ=UTC 0 0 * * *"}, 0, "with zone"},
		{schedule.Times{Cron: "0 0 * * *"}, time.Hour, "leave one out"},
		{schedule.Times{Cron: "0 0 * * *", Zone: "Europe/Skerry"}, 0, `no time zone "Europe/Skerry"`},
		{schedule.Times{Cron: "0 0 * * *", Zone: "Local"}, 0, "another at each machine"},
		{schedule.Times{Zone: "UTC"}, time.Hour, "there are none"},
		{schedule.Times{Poisson: true}, 0, "with repeat"},
		{schedule.Times{Poisson: true, Cron: "0 0 * * *"}, 0, "about an interval"},
		{schedule.Times{Hours: "8-18"}, 0, "no time of day"},
		{schedule.Times{Hours: "gullday 08:00-18:00"}, 0, "no day of the week"},
		{schedule.Times{Hours: "08:00-08:00"}, 0, "no time at all"},
		{schedule.Times{Hours: "08:00"}, 0, "has no end"},
		{schedule.Times{Hours: "mon tue 08:00-09:00"}, 0, "no hours of days"},
		{schedule.Times{Hours: "24:00-25:00"}, 0, "no time of day"},
		{schedule.Times{StartAt: start, EndAt: start}, time.Hour, "before it starts"},
		{schedule.Times{Cron: "0 12 * * *", Hours: "00:00-06:00"}, 0, "at no time that is allowed"},
		{schedule.Times{Cron: "0 0 29 2 *", EndAt: at(t, "2027-12-01T00:00:00Z")}, 0, "before 2027-12-01"},
	} {
		_, err := c.times.With(c.every, 0, 0)
		assert.ErrorContains(t, err, c.says, "%+v", c.times)
	}
	over, err := schedule.Times{StartAt: start.AddDate(-2, 0, 0), EndAt: start.AddDate(-1, 0, 0)}.With(time.Hour, 0, 0)
	require.NoError(t, err, "what is over was right once")
	assert.True(t, over.Next(start).IsZero())
}

func FuzzTimes(f *testing.F) {
	for _, x := range [][3]string{{"*/5 9-17 * * MON-FRI", "Europe/Dublin", "mon-fri 08:00-18:00"}, {"@daily", "", ""}, {"0 0 29 2 *", "Pacific/Apia", "sat 22:00-06:00"}} {
		f.Add(x[0], x[1], x[2], int64(1774746000))
	}
	f.Fuzz(func(t *testing.T, cron, zone, hours string, unix int64) {
		s, err := schedule.Times{Cron: cron, Zone: zone, Hours: hours}.With(0, 0, 0)
		if err != nil || cron == "" {
			return
		}
		from := time.Unix(unix%(1<<32), 0)
		for range 3 {
			next := s.Next(from)
			if next.IsZero() {
				return
			}
			if !next.After(from) || !s.Open(next) {
				t.Fatalf("%q in %q at %q: %s behind %s", cron, zone, hours, next, from)
			}
			from = next
		}
	})
}
