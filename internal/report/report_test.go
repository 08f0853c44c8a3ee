package report_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/report"
	"woodlark.example/internal/report/document"
)

func TestPingTextKeepsAbsentFiguresAbsent(t *testing.T) {
	probes := []reading.Probe{{Outcome: reading.Answered, RTT: 12 * time.Millisecond, Stamp: reading.StampKernel}, {Outcome: reading.Lost}}
	r := report.PingResult{Target: "terminal.holm.example", Address: "203.0.113.26", Via: "icmp", From: "quay", Figures: reading.Of(time.Now(), 0, 2, 0, probes).Figures(),
		Findings: []apitype.Finding{{Sentence: "Half is lost.", Advice: "Look."}}}
	var out strings.Builder
	require.NoError(t, document.Text(&out, document.NewInk(false), report.Ping([]report.PingResult{r})))
	for _, says := range []string{"terminal.holm.example (203.0.113.26)  from quay by icmp", "1 of 2 probes", "50.0 %  (between 9.5 % and 90.5 %", "jitter     –", "› Half is lost.", "    Look."} {
		assert.Contains(t, out.String(), says)
	}
	var rows strings.Builder
	require.NoError(t, document.CSV(&rows, report.Ping([]report.PingResult{r})))
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
	require.NoError(t, document.Text(&out, document.NewInk(false), report.Degraded(d, time.UTC)))
	for _, says := range []string{"◆ degraded  quay → a.example  IPv4  since Mon 23 Nov 06:00, for 3 h, its begin ± 4 min", "RTT 24.0 ms instead of 6.5 since Mon 06:00.", "RTT: 6.50 ms before (6.40 ms to 6.70 ms), 24.0 ms now (23.8 ms to 24.3 ms at 95 %), 26.0 ms at worst",
		"lost  Mon 23 Nov 06:00 to Mon 23 Nov 07:00, for 1 h", "80.0 ms at worst", "10.0 % at worst", "UTC", "2 paths got worse together.", "quay → e.example  IPv4  RTT 6.50 ms before, 24.0 ms now", "It may be the segment 203.0.113.33 to a hop that does not answer as well.",
		"woodlark baseline accept -from quay -to c.example -measure rtt", "Still being learnt.", "1 path as ever."} {
		assert.Contains(t, out.String(), says)
	}
	var rows strings.Builder
	require.NoError(t, document.CSV(&rows, report.Degraded(d, time.UTC)))
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
	records := report.ReadingRecords(apitype.Path{ID: "p", From: "quay", To: "holm", Family: 6, Via: "tcp:443"}, []apitype.Reading{r})
	rows := slices.Collect(records.Rows)
	require.Len(t, rows, 1)
	cells := rows[0]
	require.Len(t, cells, len(records.Columns))
	at := map[string]string{}
	for i, name := range records.Columns {
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

// TestBaselinesForMachines: raw figures by what they are of, nothing for eyes.
func TestBaselinesForMachines(t *testing.T) {
	b := apitype.Baseline{From: "quay", To: "holm", Family: 6, Via: "icmp", RTTMs: &apitype.Band{Low: 6.46, Median: 6.55, High: 6.78}, Readings: 900, TakenAt: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
		Measures: []apitype.BaselineMeasure{{Measure: "rtt", Unit: "ms", Week: []apitype.Band{{Low: 6.46, Median: 6.55, High: 6.78}}}}}
	var out strings.Builder
	require.NoError(t, document.CSV(&out, document.Document{Records: report.NormalRecords([]apitype.Baseline{b})}))
	assert.Equal(t, "agent,target,family,via,rtt_low_ms,rtt_median_ms,rtt_high_ms,jitter_low_ms,jitter_median_ms,jitter_high_ms,loss_ratio,reading_count,pinned,learning_until_at,taken_at\n"+
		"quay,holm,6,icmp,6.46,6.55,6.78,,,,,900,false,,2026-11-23T09:00:00Z\n", out.String())
	out.Reset()
	require.NoError(t, document.CSV(&out, report.Baseline(b, time.UTC)))
	assert.Equal(t, "agent,target,family,via,measure,unit,weekday,hour,low,median,high\nquay,holm,6,icmp,rtt,ms,Sunday,0,6.46,6.55,6.78\n", out.String())
	out.Reset()
	p := apitype.Path{From: "quay", To: "holm", Family: 6, Via: "icmp"}
	band := apitype.Band{Low: 1, Median: 2, High: 3}
	require.NoError(t, document.CSV(&out, report.Differences(p, []apitype.Difference{{Measure: "rtt", Unit: "ms", A: band, B: band, WorstA: band, WorstB: band, Weekday: "Monday", Hour: 3}})))
	assert.Contains(t, out.String(), "\nquay,holm,6,icmp,rtt,ms,2,2,Monday,3,2,2,false\n")
}
