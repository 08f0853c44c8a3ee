package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTimesAsPeopleWriteThem(t *testing.T) {
	zone := time.FixedZone("", 2*3600)
	now := time.Date(2026, 11, 4, 9, 30, 0, 0, zone) // a Wednesday
	for text, want := range map[string]string{
		"2026-11-02T14:20:00Z": "2026-11-02T16:20", "2026-11-02 14:20": "2026-11-02T14:20", "2026-11-02": "2026-11-02T00:00", "09:00": "2026-11-04T09:00",
		"10:00": "2026-11-03T10:00", "yesterday 14:20": "2026-11-03T14:20", "yesterday": "2026-11-03T00:00", "today 06:00": "2026-11-04T06:00", "Fri 14:20": "2026-10-30T14:20",
		"wed 08:00": "2026-11-04T08:00", "Wednesday 10:00": "2026-10-28T10:00", " monday ": "2026-11-02T00:00",
	} {
		got, err := parseWhen(text, now, zone)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.In(zone).Format("2006-01-02T15:04"), text)
	}
	for _, text := range []string{"", "soon", "25:00", "fr", "Fri 9", "2026-13-01"} {
		_, err := parseWhen(text, now, zone)
		assert.ErrorContains(t, err, "is not a time", text)
	}
}
