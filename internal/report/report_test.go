package report_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
)

func TestTableAlignsWhatIsColoured(t *testing.T) {
	var out strings.Builder
	ink := report.NewInk(true)
	require.NoError(t, report.Table(&out, ink, []report.Column{{Name: "path"}, {Name: "RTT", Right: true}}, [][]string{{ink.Strong("a → b"), "9.5 ms"}, {"long one", "10.2 ms"}}))
	plain := strings.NewReplacer("\x1b[1m", "", "\x1b[2m", "", "\x1b[0m", "", "\x1b[22m", "", "\x1b[0;22m", "").Replace(out.String())
	lines := strings.Split(strings.TrimSpace(plain), "\n")
	require.Len(t, lines, 3)
	assert.Equal(t, "a → b      9.5 ms", lines[1])
	assert.Equal(t, "long one  10.2 ms", lines[2])
}

func TestPingTextKeepsAbsentFiguresAbsent(t *testing.T) {
	probes := []reading.Probe{{Outcome: reading.Answered, RTT: 12 * time.Millisecond, Stamp: reading.StampKernel}, {Outcome: reading.Lost}}
	r := report.PingResult{Target: "terminal.holm.example", Address: "203.0.113.26", Via: "icmp", From: "quay", Figures: reading.Of(time.Now(), 0, 2, 0, probes).Figures(),
		Findings: []apitype.Finding{{Sentence: "Half is lost.", Advice: "Look."}}}
	var out strings.Builder
	require.NoError(t, report.Ping(&out, report.NewInk(false), []report.PingResult{r}))
	for _, says := range []string{"terminal.holm.example (203.0.113.26)  from quay by icmp", "1 of 2 probes", "50.0 %  (between 9.5 % and 90.5 %", "jitter     –", "› Half is lost.", "    Look."} {
		assert.Contains(t, out.String(), says)
	}
	var rows strings.Builder
	require.NoError(t, report.PingCSV(&rows, []report.PingResult{r}))
	lines := strings.Split(strings.TrimSpace(rows.String()), "\n")
	assert.Equal(t, strings.Count(lines[0], ","), strings.Count(lines[1], ","))
	assert.Contains(t, lines[1], ",,", "an absent figure is empty")
}

func TestDegradedReport(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	since, until := at.Add(-3*time.Hour), at.Add(-2*time.Hour)
	incident := "0197"
	slow := apitype.Episode{Kind: "degraded", FromAt: since, EarliestAt: since.Add(-4 * time.Minute), LatestAt: since.Add(4 * time.Minute),
		Findings: []apitype.Finding{{Code: "delay_step", Sentence: "RTT 24.0 ms instead of 6.5 since Mon 06:00.", Advice: "Trace the route."}},
		Excesses: []apitype.Excess{{Measure: "rtt", Unit: "ms", Normal: 6.5, Low: 6.4, High: 6.7, Now: 24, NowLow: 23.8, NowHigh: 24.3, Worst: 26}}}
	shared := slow
	shared.IncidentID = &incident
	here := apitype.Segment{From: "192.0.2.1", FromName: "gw.quay", To: "203.0.113.33", ToName: "gw.isle (transit, Isles Fibre)"}
	d := apitype.Degraded{FromAt: at.Add(-24 * time.Hour), ToAt: at, Summary: "1 of 3 paths degraded.", Says: "1 path as ever.",
		Incidents: []apitype.Incident{{ID: incident, BeganAt: since, ToldAt: since, Segments: []apitype.Segment{here}, Others: []apitype.Segment{{From: "203.0.113.33"}}, Sentence: "2 paths got worse together.", Advice: "Call.", Members: []apitype.IncidentFor{{PathID: "7", From: "quay", To: "e.example", Family: "4"}}}},
		Now:       []apitype.Path{{From: "quay", To: "a.example", Family: 4, State: "degraded", SinceAt: &since, Findings: slow.Findings, Episodes: []apitype.Episode{slow}}, {ID: "7", From: "quay", To: "e.example", Family: 4, State: "degraded", Episodes: []apitype.Episode{shared}}},
		NewLevels: []apitype.PathProperties{{Path: apitype.PathName{From: "quay", To: "c.example", Family: 4}, Properties: []apitype.Property{{Kind: "new_level", Measure: "rtt", Unit: "ms", Waits: true, Sentence: "A new level."}}}},
		NotJudged: []apitype.NotJudged{{Path: apitype.PathName{From: "quay", To: "d.example", Family: 4}, Why: "learning", Says: "Still being learnt."}},
		Ended: []apitype.PathEpisodes{{Path: apitype.Path{From: "quay", To: "b.example", Family: 6, Findings: []apitype.Finding{{Code: "steady"}}},
			Episodes: []apitype.Episode{{Kind: "lost", FromAt: since, ToAt: &until, Sentence: "No answer from Mon 06:00 to Mon 07:00."},
				{Kind: "degraded", FromAt: since, ToAt: &until, Excesses: []apitype.Excess{{Measure: "rtt", Unit: "ms", Worst: 80}, {Measure: "loss", Unit: "ratio", Worst: 0.1, Sent: 900, Lost: 90}}}}}}}
	var out strings.Builder
	require.NoError(t, report.Degraded(&out, report.NewInk(false), d, time.UTC))
	for _, says := range []string{"◆ degraded  quay → a.example  IPv4  since Mon 23 Nov 06:00, for 3 h, its begin ± 4 min", "RTT 24.0 ms instead of 6.5 since Mon 06:00.", "RTT: 6.50 ms before (6.40 ms to 6.70 ms), 24.0 ms now (23.8 ms to 24.3 ms at 95 %), 26.0 ms at worst",
		"lost  Mon 23 Nov 06:00 to Mon 23 Nov 07:00, for 1 h", "80.0 ms at worst", "10.0 % at worst", "UTC", "2 paths got worse together.", "quay → e.example  IPv4  RTT 6.50 ms before, 24.0 ms now", "It may be the segment 203.0.113.33 to a hop that does not answer as well.",
		"woodlark baseline accept -from quay -to c.example -measure rtt", "Still being learnt.", "1 path as ever."} {
		assert.Contains(t, out.String(), says)
	}
	var rows strings.Builder
	require.NoError(t, report.DegradedCSV(&rows, d))
	lines := strings.Split(strings.TrimSpace(rows.String()), "\n")
	assert.Len(t, lines, 9, "the columns, an incident's path, two excesses, a level, one lost, two measures, one not judged")
	assert.True(t, strings.HasPrefix(lines[1], "incident,quay,e.example,4,"))
	assert.Contains(t, rows.String(), ",6.5,6.4,6.7,24,23.8,24.3,26,")
	assert.Contains(t, rows.String(), ",900,90,")
	assert.Contains(t, lines[3], incident, "an episode names its incident")
}

func TestReadingRowsFitTheirColumns(t *testing.T) {
	probes := []reading.Probe{{Outcome: reading.Answered, RTT: 12 * time.Millisecond, Stamp: reading.StampWorld}, {Outcome: reading.Lost}}
	r := apitype.Reading{Figures: reading.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), time.Minute, 60, time.Second, probes).Figures(), Notes: []string{"short", "cut"}}
	cells := report.ReadingCells(apitype.Path{ID: "p", From: "quay", To: "holm", Family: 6, Via: "tcp:443"}, r)
	require.Len(t, cells, len(report.ReadingColumns))
	at := map[string]string{}
	for i, name := range report.ReadingColumns {
		at[name] = cells[i]
	}
	for name, want := range map[string]string{"agent": "quay", "target": "holm", "family": "6", "via": "tcp:443", "path_id": "p", "started_at": "2026-11-23T09:00:00Z", "sent": "2", "lost": "1", "loss_ratio": "0.5", "rtt_median_ms": "12", "rtt_sd_ms": "", "timestamps": "world", "notes": "short cut"} {
		assert.Equal(t, want, at[name], name)
	}
}

func TestTimesForReaders(t *testing.T) {
	now := time.Now()
	assert.Equal(t, now.UTC().Format("Mon 2 Jan 15:04"), report.When(now, time.UTC))
	assert.Equal(t, "1 Mar 2024 08:30", report.When(time.Date(2024, 3, 1, 8, 30, 0, 0, time.UTC), time.UTC), "long ago needs its year")
}
