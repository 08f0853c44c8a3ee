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
	d := apitype.Degraded{FromAt: at.Add(-24 * time.Hour), ToAt: at, Summary: "1 of 3 paths degraded.",
		Now: []apitype.Path{{From: "quay", To: "a.example", Family: 4, State: "degraded", SinceAt: &since, Findings: []apitype.Finding{{Code: "delay_step", Sentence: "RTT 24.0 ms, normally 6.5 ms."}}}},
		Ended: []apitype.PathEpisodes{{Path: apitype.Path{From: "quay", To: "b.example", Family: 6, Findings: []apitype.Finding{{Code: "steady"}}},
			Episodes: []apitype.Episode{{Kind: "lost", FromAt: since, ToAt: &until}, {Kind: "degraded", FromAt: since, ToAt: &until, Excesses: []apitype.Excess{{Measure: "rtt", Unit: "ms", Worst: 80}, {Measure: "loss", Unit: "ratio", Worst: 0.1}}}}}}}
	var out strings.Builder
	require.NoError(t, report.Degraded(&out, report.NewInk(false), d, time.UTC))
	for _, says := range []string{"◆ degraded  quay → a.example  IPv4  since Mon 23 Nov 06:00, for 3 h", "RTT 24.0 ms, normally 6.5 ms.", "lost for 1 h, Mon 23 Nov 06:00 to 07:00", "RTT up to 80.0 ms, loss up to 10.0 %", "UTC"} {
		assert.Contains(t, out.String(), says)
	}
	var rows strings.Builder
	require.NoError(t, report.DegradedCSV(&rows, d))
	assert.Equal(t, 4, strings.Count(rows.String(), "\n"))
}

func TestReadingRowsFitTheirColumns(t *testing.T) {
	probes := []reading.Probe{{Outcome: reading.Answered, RTT: 12 * time.Millisecond, Stamp: reading.StampWorld}, {Outcome: reading.Lost}}
	r := apitype.Reading{Figures: reading.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), time.Minute, 60, time.Second, probes).Figures(), Notes: []string{"short", "cut"}}
	cells := report.ReadingCells(r)
	require.Len(t, cells, len(report.ReadingColumns))
	at := map[string]string{}
	for i, name := range report.ReadingColumns {
		at[name] = cells[i]
	}
	for name, want := range map[string]string{"started_at": "2026-11-23T09:00:00Z", "sent": "2", "lost": "1", "loss_ratio": "0.5", "rtt_median_ms": "12", "rtt_sd_ms": "", "timestamps": "world", "notes": "short cut"} {
		assert.Equal(t, want, at[name], name)
	}
}

func TestTimesForReaders(t *testing.T) {
	now := time.Now()
	assert.Equal(t, now.UTC().Format("Mon 2 Jan 15:04"), report.When(now, time.UTC))
	assert.Equal(t, "1 Mar 2024 08:30", report.When(time.Date(2024, 3, 1, 8, 30, 0, 0, time.UTC), time.UTC), "long ago needs its year")
}
