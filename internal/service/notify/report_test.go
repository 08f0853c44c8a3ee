package notify_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/channel"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/service/notify"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/store"
)

// TestWhenReportsAreDue by the wall's clock, over the days on which it is changed.
func TestWhenReportsAreDue(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	const form = "Mon 2006-01-02 15:04 -0700"
	for _, x := range []struct{ every, at, now, due, from, to string }{
		{"daily", "", "2026-11-04 07:00", "Wed 2026-11-04 07:00 +0000", "Tue 2026-11-03 00:00 +0000", "Wed 2026-11-04 00:00 +0000"},
		{"daily", "", "2026-11-04 06:59", "Tue 2026-11-03 07:00 +0000", "Mon 2026-11-02 00:00 +0000", "Tue 2026-11-03 00:00 +0000"},
		{"daily", "00:30", "2026-03-30 12:00", "Mon 2026-03-30 00:30 +0100", "Sun 2026-03-29 00:00 +0000", "Mon 2026-03-30 00:00 +0100"},
		{"weekly", "08:15", "2026-11-04 12:00", "Mon 2026-11-02 08:15 +0000", "Mon 2026-10-26 00:00 +0000", "Mon 2026-11-02 00:00 +0000"},
		{"weekly", "08:15", "2026-11-02 08:14", "Mon 2026-10-26 08:15 +0000", "Mon 2026-10-19 00:00 +0100", "Mon 2026-10-26 00:00 +0000"},
		{"weekly", "", "2026-11-01 23:00", "Mon 2026-10-26 07:00 +0000", "Mon 2026-10-19 00:00 +0100", "Mon 2026-10-26 00:00 +0000"},
		{"monthly", "", "2026-03-01 06:00", "Sun 2026-02-01 07:00 +0000", "Thu 2026-01-01 00:00 +0000", "Sun 2026-02-01 00:00 +0000"},
		{"monthly", "", "2026-01-31 12:00", "Thu 2026-01-01 07:00 +0000", "Mon 2025-12-01 00:00 +0000", "Thu 2026-01-01 00:00 +0000"},
	} {
		now, err := time.ParseInLocation("2006-01-02 15:04", x.now, zone)
		require.NoError(t, err)
		due, from, to := notify.ReportOrder{Every: x.every, At: x.at}.Due(now, zone)
		assert.Equal(t, []string{x.due, x.from, x.to}, []string{due.Format(form), from.Format(form), to.Format(form)}, "%s at %s", x.every, x.now)
	}
}

// kept keeps what is handed over.
type kept struct {
	mu  sync.Mutex
	got []channel.Message
}

func (k *kept) Deliver(_ context.Context, m channel.Message) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.got = append(k.got, m)
	return nil
}

func (k *kept) of(what string) (list []channel.Message) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, m := range k.got {
		if m.What == what {
			list = append(list, m)
		}
	}
	return list
}

var taken = &kept{}

type keptSettings struct{}

func (keptSettings) Check() error { return nil }

func init() {
	channel.Register(&channel.Type{Name: "kept", Pictures: true, Files: true, New: func() channel.Settings { return &keptSettings{} }, Open: func(channel.Settings) (channel.Channel, error) { return taken, nil }})
}

func (k *kept) Close() error { return nil }

// TestAReportComesByRule once, with its files; and what happens comes with its picture.
func TestAReportComesByRule(t *testing.T) {
	o := newOffice(t, 1)
	taken.got = nil
	_, err := o.Notify.SaveChannel(t.Context(), "shelf", "kept", nil)
	require.NoError(t, err)
	r, err := o.Notify.SaveRule(t.Context(), notify.Rule{Name: "each day", Channel: "shelf", Zone: "Europe/Dublin", Selection: selection.Selection{Tags: []string{"islands"}}, Report: &notify.ReportOrder{Every: "daily", Objective: "voice", Formats: []string{"pdf", "csv"}}})
	require.NoError(t, err)
	now := time.Now()
	require.NoError(t, o.Notify.OrderReports(t.Context(), now))
	list, err := o.Store.Messages(t.Context(), store.MessageFilter{Rule: r.ID})
	require.NoError(t, err)
	assert.Empty(t, list, "what was due before the rule was there is not made up for")
	for range 3 {
		require.NoError(t, o.Notify.OrderReports(t.Context(), now.Add(25*time.Hour)))
	}
	again, err := o.Store.Messages(t.Context(), store.MessageFilter{Rule: r.ID})
	require.NoError(t, err)
	require.Len(t, again, 1)
	assert.Contains(t, again[0].Title, "Report each day: ")
	again[0].DueAt = now.UTC()
	// What it is of lies ahead of the test's clock, so that there is nothing yet to be told.
	require.NoError(t, o.Store.SaveMessages(t.Context(), again[0]))
	_, err = o.Notify.SaveRule(t.Context(), notify.Rule{Name: "faults", Channel: "shelf"})
	require.NoError(t, err)
	o.lose(o.paths...)
	stop := run(o.Notify)
	require.Eventually(t, func() bool {
		left, err := o.Store.Messages(t.Context(), store.MessageFilter{State: store.Waiting})
		return err == nil && len(left) == 0 && len(taken.of("opened")) == 1
	}, soon, 10*time.Millisecond)
	stop()
	opened := taken.of("opened")[0]
	img, err := png.Decode(bytes.NewReader(opened.Picture))
	require.NoError(t, err)
	assert.Equal(t, 1440, img.Bounds().Dx())
	assert.Empty(t, opened.Files)
	if sent := taken.of("report"); assert.Len(t, sent, 1) {
		require.Len(t, sent[0].Files, 2)
		assert.Equal(t, "application/pdf", sent[0].Files[0].Type)
		assert.True(t, bytes.HasPrefix(sent[0].Files[0].Data, []byte("%PDF-")))
		assert.Contains(t, string(sent[0].Files[1].Data), "availability,quay,192.0.2.1")
		var p reports.Period
		require.NoError(t, json.Unmarshal(sent[0].Body, &p))
		assert.Equal(t, "voice", p.Objective)
		assert.Equal(t, "tags islands", p.Of)
		assert.Equal(t, p.Summary, sent[0].Text)
	}
}

func TestReportsThatCannotBe(t *testing.T) {
	o := newOffice(t, 1)
	for says, r := range map[string]notify.Rule{
		"daily, weekly or monthly": {Report: &notify.ReportOrder{Every: "hourly"}}, "no time of the day": {Report: &notify.ReportOrder{Every: "daily", At: "25:00"}}, "not as \"docx\"": {Report: &notify.ReportOrder{Every: "daily", Formats: []string{"docx"}}},
		"only the channel": {Report: &notify.ReportOrder{Every: "daily"}, IncidentsOnly: true}, "quiet or only": {Holidays: "never"},
	} {
		r.Name, r.Channel = "a", "desk"
		_, err := o.Notify.SaveRule(t.Context(), r)
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
}

// TestDaysOff: at home and in the rule's zone.
func TestDaysOff(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	x := notify.New(notify.Options{Zone: zone, Holidays: []time.Time{time.Date(2026, 12, 25, 0, 0, 0, 0, zone)}})
	for _, c := range []struct {
		holidays, zone, at string
		quiet              bool
	}{
		{"", "", "2026-12-25T12:00:00Z", false}, {"quiet", "", "2026-12-25T12:00:00Z", true}, {"quiet", "", "2026-12-24T12:00:00Z", false}, {"only", "", "2026-12-25T12:00:00Z", false},
		{"only", "", "2026-12-24T12:00:00Z", true}, {"quiet", "Pacific/Auckland", "2026-12-24T12:00:00Z", true}, {"quiet", "Pacific/Auckland", "2026-12-25T12:00:00Z", false},
	} {
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		assert.Equal(t, c.quiet, x.Quiet(notify.Rule{Holidays: c.holidays, Zone: c.zone}, at), fmt.Sprint(c))
	}
}

// TestWebhooksOnlyToPublicAddresses: when the settings say so, those too that were there before.
func TestWebhooksOnlyToPublicAddresses(t *testing.T) {
	o := newOffice(t, 1)
	require.NoError(t, o.Notify.Test(t.Context(), "desk"))
	o.Notify.PublicOnly = true
	_, err := o.Notify.SaveChannel(t.Context(), "new", "webhook", json.RawMessage(`{"url": "http://192.168.1.1/"}`))
	assert.ErrorIs(t, err, kind.ErrInvalid)
	assert.ErrorContains(t, err, "not public")
	o.Notify.Close()
	assert.ErrorContains(t, o.Notify.Test(t.Context(), "desk"), "not public")
	assert.Len(t, o.d.whats(), 1)
}
