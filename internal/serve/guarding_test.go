package serve

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/settings"
)

func TestHowTheSettingsJudge(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	j, err := judgingOf(settings.Settings{Zone: oslo, Holidays: "2026-12-25, 2026-12-26", Tolerance: "rtt=2ms,10%; loss=0.5%", Maintenance: "2026-12-01T02:00/2026-12-01T04:00,2026-12-02T02:00:00Z/2026-12-02T03:00:00Z"})
	require.NoError(t, err)
	require.Len(t, j.holidays, 2)
	assert.Equal(t, "2026-12-24T23:00:00Z", j.holidays[0].UTC().Format(time.RFC3339))
	assert.Equal(t, 2.0, j.tolerances[baseline.RTT].Least)
	assert.Equal(t, 0.005, j.tolerances[baseline.Loss].Least)
	require.Len(t, j.maintenance, 2)
	assert.Equal(t, "2026-12-01T01:00:00Z", j.maintenance[0].From.UTC().Format(time.RFC3339))
	assert.Equal(t, time.Hour, j.maintenance[1].To.Sub(j.maintenance[1].From))
	for says, set := range map[string]settings.Settings{
		`"25.12." is not a day`:           {Holidays: "25.12."},
		"tolerance:":                      {Tolerance: "warmth=3"},
		`"tonight" is not a stretch`:      {Maintenance: "tonight"},
		"ends before it begins":           {Maintenance: "2026-12-01T04:00/2026-12-01T02:00"},
		`"2026-12-01T04:00" is not a str`: {Maintenance: "2026-12-01T04:00"},
	} {
		set.Zone = oslo
		_, err := judgingOf(set)
		assert.ErrorContains(t, err, says)
	}
	t.Setenv("TZ", "Europe/Oslo")
	assert.Equal(t, "Europe/Oslo", named(time.Local).String())
	t.Setenv("TZ", "")
	assert.Equal(t, "UTC", named(time.Local).String())
	assert.Equal(t, oslo, named(oslo))
}
