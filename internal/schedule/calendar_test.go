package schedule_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/schedule"
)

func calendar(events ...string) string {
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Skerry Line//Works//EN\r\n")
	for i, e := range events {
		b.WriteString("BEGIN:VEVENT\r\nUID:" + string(rune('a'+i)) + "\r\n" + strings.ReplaceAll(e, "\n", "\r\n") + "\r\nEND:VEVENT\r\n")
	}
	b.WriteString("END:VCALENDAR\r\n")
	return b.String()
}

func TestCalendars(t *testing.T) {
	dublin, err := schedule.Zone("Europe/Dublin")
	require.NoError(t, err)
	for _, c := range []struct {
		name, event string
		want        []string // begin and length, of 2026-10-20 to 2026-11-03
	}{
		{"once", "SUMMARY:Mast\nDTSTART:20261021T020000Z\nDTEND:20261021T040000Z", []string{"21 Oct 02:00 2h0m0s"}},
		{"each Sunday at a time of day, over the change of clocks", "DTSTART;TZID=Europe/Dublin:20261011T020000\nDURATION:PT2H\nRRULE:FREQ=WEEKLY;BYDAY=SU", []string{"25 Oct 02:00 2h0m0s", "01 Nov 02:00 2h0m0s"}},
		{"daily, some times, but not once", "DTSTART;TZID=Europe/Dublin:20261019T230000\nDURATION:PT90M\nRRULE:FREQ=DAILY;COUNT=4\nEXDATE;TZID=Europe/Dublin:20261021T230000", []string{"20 Oct 22:00 1h30m0s", "22 Oct 22:00 1h30m0s"}},
		{"a whole day, in the zone of the reader", "DTSTART;VALUE=DATE:20261026", []string{"26 Oct 00:00 24h0m0s"}},
		{"one that began before", "DTSTART:20261019T220000Z\nDTEND:20261020T010000Z", []string{"19 Oct 22:00 3h0m0s"}},
		{"the second Tuesday of each month", "DTSTART:20260113T030000Z\nDURATION:PT1H\nRRULE:FREQ=MONTHLY;BYDAY=2TU;UNTIL=20261231T000000Z", nil},
		{"on named days too", "DTSTART:20261001T030000Z\nDURATION:PT1H\nRDATE:20261022T040000Z,20261029T040000Z", []string{"22 Oct 04:00 1h0m0s", "29 Oct 04:00 1h0m0s"}},
		{"called off", "STATUS:CANCELLED\nDTSTART:20261021T020000Z\nDTEND:20261021T040000Z", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			x, err := schedule.ReadCalendar(calendar(c.event), dublin)
			require.NoError(t, err)
			var got []string
			for _, s := range x.Between(at(t, "2026-10-20T00:00:00Z"), at(t, "2026-11-03T00:00:00Z")) {
				got = append(got, s.From.Format("02 Jan 15:04 ")+s.Until.Sub(s.From).String())
			}
			if c.name == "each Sunday at a time of day, over the change of clocks" {
				assert.Equal(t, []string{"25 Oct 02:00 2h0m0s", "01 Nov 02:00 2h0m0s"}, got, "winter time begins at 02:00 of that day, which comes once then")
				return
			}
			if c.name == "a whole day, in the zone of the reader" {
				assert.Equal(t, []string{"26 Oct 00:00 24h0m0s"}, got)
				return
			}
			assert.Equal(t, c.want, got)
		})
	}
	moved := calendar("DTSTART:20261020T030000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=3", "X-A:1")
	moved = strings.Replace(moved, "UID:b\r\nX-A:1", "UID:a\r\nRECURRENCE-ID:20261021T030000Z\r\nDTSTART:20261021T130000Z\r\nDURATION:PT3H", 1)
	x, err := schedule.ReadCalendar(moved, time.UTC)
	require.NoError(t, err)
	list := x.Between(at(t, "2026-10-01T00:00:00Z"), at(t, "2026-11-03T00:00:00Z"))
	require.Len(t, list, 3)
	assert.Equal(t, "2026-10-21T13:00:00Z", list[1].From.Format(time.RFC3339), "one of them was moved")
}

func TestCalendarsThatCannotBe(t *testing.T) {
	for text, says := range map[string]string{
		"gull":                                  "no calendar",
		calendar():                              "no events",
		calendar("SUMMARY:Mast"):                `event "Mast": it has no start`,
		calendar("DTSTART:20261021T020000Z"):    "ends where it starts",
		calendar("DTSTART:soon\nDURATION:PT1H"): `"soon" is no time`,
		calendar("DTSTART:20261021T020000Z\nDURATION:PT"):                                                           "ends where it starts",
		calendar("DTSTART:20261021T020000Z\nDURATION:2H"):                                                           "no duration",
		calendar("DTSTART;TZID=Skerry/North:20261021T020000\nDURATION:PT1H"):                                        "no time zone",
		calendar("DTSTART:20261021T020000Z\nDTEND:20270121T020000Z"):                                                "longer than",
		calendar("DTSTART:20261021T020000Z\nDURATION:PT1M\nRRULE:FREQ=SECONDLY"):                                    "more than daily",
		calendar("DTSTART:20261021T020000Z\nDURATION:PT1M\nRRULE:FREQ=GULLS"):                                       "its rule",
		strings.Repeat("X", 10<<20):                                                                                 "the most that is read",
		calendar(strings.Split(strings.TrimSuffix(strings.Repeat("DTSTART:20261021T020000Z|", 2001), "|"), "|")...): "2001 events",
	} {
		_, err := schedule.ReadCalendar(text, time.UTC)
		assert.ErrorContains(t, err, says)
	}
}

func FuzzCalendar(f *testing.F) {
	f.Add(calendar("DTSTART:20261020T030000Z\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=3"))
	f.Add(calendar("DTSTART;TZID=Europe/Dublin:20261011T020000\nDURATION:P1DT2H\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10"))
	f.Fuzz(func(t *testing.T, text string) {
		c, err := schedule.ReadCalendar(text, time.UTC)
		if err != nil {
			return
		}
		c.Between(time.Unix(1774746000, 0), time.Unix(1777746000, 0))
	})
}
