package service_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/guard"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/maintenance"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// TestWhatIsOfMaintenanceIsNotJudged: the same outage on two paths; work was done on one.
func TestWhatIsOfMaintenanceIsNotJudged(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	end := time.Now().Truncate(time.Minute)
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2"}, Tags: []string{"mast"}})
	_, err := c.Maintenance.Save(t.Context(), maintenance.Window{Name: "mast", Target: "192.0.2.1", Tag: "mast", From: end.Add(-2 * time.Hour), Until: end.Add(time.Hour)})
	require.NoError(t, err)
	u := protocol.Upload{Agent: quay(c)}
	for ago := 300; ago > 0; ago-- {
		lost := 0
		if ago <= 60 {
			lost = 60
		}
		for _, id := range w.Paths {
			u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost))
		}
	}
	require.NoError(t, c.Upload(t.Context(), u))
	for _, id := range w.Paths {
		v, err := c.View(id)
		require.NoError(t, err)
		if v.Target == "192.0.2.1" {
			assert.Empty(t, v.Open, "work is done on it")
			assert.Len(t, c.MaintenanceOf(id, end.Add(-time.Hour), end), 1)
			continue
		}
		require.Len(t, v.Open, 1)
		assert.Equal(t, guard.Lost, v.Open[0].Kind)
		assert.Empty(t, c.MaintenanceOf(id, end.Add(-time.Hour), end))
	}
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	require.Len(t, again.Maintenance.All(), 1, "it is kept")
	require.NoError(t, c.Maintenance.Remove(t.Context(), "mast"))
	assert.Empty(t, c.MaintenanceOf(w.Paths[0], end.Add(-time.Hour), end))
	assert.ErrorIs(t, c.Maintenance.Remove(t.Context(), "mast"), store.ErrNotFound)
}

const works = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Skerry Line//Works//EN\r\nBEGIN:VEVENT\r\nUID:a\r\nSUMMARY:Mast\r\nDTSTART:%s\r\nDURATION:PT2H\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

// TestCalendarsOfMaintenance: fetched each hour; while one cannot be had the last counts.
func TestCalendarsOfMaintenance(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	now := time.Now().Truncate(time.Hour)
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}})
	var begins atomic.Pointer[time.Time]
	first := now.Add(3 * time.Hour)
	begins.Store(&first)
	web := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, _ *http.Request) {
		at := begins.Load()
		if at == nil {
			http.Error(out, "closed", http.StatusServiceUnavailable)
			return
		}
		_, _ = out.Write([]byte(strings.Replace(works, "%s", at.UTC().Format("20060102T150405Z"), 1)))
	}))
	defer web.Close()
	m, err := c.Maintenance.Save(t.Context(), maintenance.Window{Name: "works", Site: "Holm", Address: web.URL})
	require.NoError(t, err)
	next, ok := c.Maintenance.Next(m, now)
	require.True(t, ok)
	assert.Equal(t, schedule.Span{Name: "Mast", From: first.UTC(), Until: first.Add(2 * time.Hour).UTC()}, next)
	holm := func() int { return len(c.MaintenanceOf(w.Paths[0], now, now.Add(7*24*time.Hour))) }
	p := c.Paths.ByID(w.Paths[0])
	assert.Equal(t, p.Site == "Holm", holm() == 1)

	second := now.Add(48 * time.Hour)
	begins.Store(&second)
	require.NoError(t, c.Maintenance.Tick(t.Context(), now.Add(2*time.Hour)))
	next, _ = c.Maintenance.Next(c.Maintenance.All()[0], now)
	assert.Equal(t, second.UTC(), next.From, "it was fetched anew")
	begins.Store(nil)
	for i := range 3 {
		require.NoError(t, c.Maintenance.Tick(t.Context(), now.Add(time.Duration(4+2*i)*time.Hour)))
	}
	next, _ = c.Maintenance.Next(c.Maintenance.All()[0], now)
	assert.Equal(t, second.UTC(), next.From, "the last one counts")
	list, err := c.Store.Notices(t.Context(), now.Add(-time.Hour))
	require.NoError(t, err)
	told := 0
	for _, n := range list {
		if n.Kind == "calendar_lost" {
			told++
		}
	}
	assert.Equal(t, 1, told, "once")
}

func TestMaintenanceThatCannotBe(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	now := time.Now()
	for says, w := range map[string]maintenance.Window{
		"needs a name":       {From: now, Until: now.Add(time.Hour)},
		"say when":           {Name: "a"},
		"before it begins":   {Name: "a", From: now, Until: now.Add(-time.Hour)},
		"a begin and an end": {Name: "a", From: now},
		"exclude each other": {Name: "a", From: now, Until: now.Add(time.Hour), Calendar: "x"},
		"lasts up to":        {Name: "a", Times: schedule.Times{Cron: "0 1 * * *"}},
		"61":                 {Name: "a", Times: schedule.Times{Cron: "61 1 * * *"}, Lasts: time.Hour},
		"no calendar":        {Name: "a", Calendar: "gull"},
		"no time zone":       {Name: "a", Times: schedule.Times{Cron: "0 1 * * *", Zone: "Skerry/North"}, Lasts: time.Hour},
		`no agent "gull"`:    {Name: "a", Agent: "gull", From: now, Until: now.Add(time.Hour)},
		"no address":         {Name: "a", Address: "ftp://127.0.0.1/works.ics"},
		"fetch the calendar": {Name: "a", Address: "http://127.0.0.1:1/works.ics"},
		"the most that is":   {Name: "a", Calendar: strings.Repeat("X", 10<<20)},
	} {
		_, err := c.Maintenance.Save(t.Context(), w)
		if assert.ErrorIs(t, err, kind.ErrInvalid, says) {
			assert.ErrorContains(t, err, says)
		}
	}
	assert.Empty(t, c.Maintenance.All(), "nothing is half applied")
}
