package reports

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func at(hours float64) time.Time {
	return time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC).Add(time.Duration(hours * float64(time.Hour)))
}

func p[T any](v T) *T { return &v }

// whole is a report with something in each of its sections.
func whole() *Period {
	holm := Ends{Path: "p1", From: "northquay", To: "terminal.holm.example", Family: 4, Via: "icmp"}
	oxwater := Ends{Path: "p2", From: "northquay", To: "kiosk.oxwater.example", Family: 6, Via: "tcp:443"}
	return &Period{
		Title: "A day", FromAt: at(0), ToAt: at(24), MadeAt: at(25), Zone: "Europe/Dublin", Of: "tags islands", Summary: "2 of 3 paths got worse than normal; 1 incident.", Objective: "voice", ObjectiveSource: "ITU-T Y.1541 class 0", Limits: map[string]float64{"loss_ratio": 0.001}, Watched: 3, Healthy: 1,
		Incidents: []IncidentTold{{ID: "i1", BeganAt: at(10), EndedAt: p(at(12)), Sentence: "2 paths got worse together.", Advice: "Call whose segment it is.", Confidence: 0.99, Segments: []SegmentTold{{"203.0.113.1", "203.0.113.2", "gw", "relay"}}, Paths: []Ends{holm}, Others: 1}},
		Degraded: []DegradedTold{
			{Ends: holm, CostS: 7200, StepS: 3600, Flags: []RouteFlag{{at(10), "The route changed: by relay, not gw."}}, Picture: []PictureStep{{At: at(9), MedianMs: p(6.5), LowMs: p(6.0), HighMs: p(7.0), Lost: p(0.0)}, {At: at(10), MedianMs: p(24.1), LowMs: p(6.0), HighMs: p(7.0), Lost: p(0.25)}},
				Episodes: []EpisodeTold{{ID: "e1", Kind: "degraded", BeganAt: at(10), EarliestAt: at(9.9), LatestAt: at(10.1), ToldAt: at(10.1), EndedAt: p(at(12)), Incident: "i1", Cause: "route_changed", Sentence: "RTT 24.1 ms instead of 6.55.", Advice: "Ask whose hop that is.", Also: []string{"It begins at hop 2."}, TimesCount: 3,
					Excesses: []ExcessTold{{Measure: "rtt", Unit: "ms", Normal: 6.55, Low: 6, High: 7, Now: 24.1, NowLow: 24, NowHigh: 24.2, Worst: 30}, {Measure: "loss", Unit: "ratio", Normal: 0, Low: 0, High: 0.002, Now: 0.02, NowLow: 0.01, NowHigh: 0.03, Worst: 0.1, Sent: 600, Lost: 12}}}}},
			{Ends: oxwater, CostS: 3600, Picture: []PictureStep{}, Flags: []RouteFlag{}, Episodes: []EpisodeTold{{ID: "e2", Kind: "lost", BeganAt: at(23), EarliestAt: at(23), LatestAt: at(23), ToldAt: at(23), Cause: "lost", Sentence: "No answer since Mon 23:00.", TimesCount: 1, Excesses: []ExcessTold{}}}},
		},
		Standing: []Standing{{holm, "daily", at(-100), "Gets worse every day about 16:00.", "Find what is sent.", false}},
		Paths: []PathTold{
			{Ends: holm, State: "steady", MeasuredS: 86400, Availability: p(1.0), Sent: 86400, Lost: 100, Loss: p(100.0 / 86400), MeanMs: p(9.5), Episodes: 1, WorseS: 7200, Within: p(0.9999999), Met: p(false), Missed: []string{"loss_ratio", "rtt_ms"}},
			{Ends: oxwater, State: "lost", MeasuredS: 0}},
		Sweeps:       []Swept{{ID: "s1", At: at(3), Agent: "northquay", Prefixes: []string{"192.0.2.0/24"}, Answered: 12, New: []string{"192.0.2.7"}, Gone: []string{"192.0.2.8", "192.0.2.9"}, Slower: []string{"192.0.2.10 (9.00 ms, was 1.00 ms)"}}},
		SweepsLooked: 4, SweepsLeft: 2,
		Throughput: []Carried{{holm, at(4), "there", 20e6, p(50e6), p(45e6), p(55e6), "less than usual"}, {Ends: holm, At: at(4), Way: "back", Bps: 1e6, Says: "what is usual is not known yet"}},
		NotJudged:  []NotJudgedTold{{oxwater, "learning", "What is normal is still being learnt."}},
		Notes:      []NoteTold{{ID: "n1", Ends: holm, At: at(9), Until: p(at(11)), Author: "Mara", Text: "mast being painted"}, {ID: "n2", At: at(5), Author: "Ewan", Text: "power test"}},
	}
}

// TestEachSectionIsRead in the hours of the reader's zone.
func TestEachSectionIsRead(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Oslo") // an hour ahead
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, whole().Print(&b, "text", zone))
	text := b.String()
	for _, says := range []string{
		"A day", "Mon 2 Nov 2026 01:00 to Tue 3 Nov 2026 01:00 CET; tags islands", "2 of 3 paths got worse", "Held against the objective voice (ITU-T Y.1541 class 0).",
		"2 paths got worse together.", "Mon 2 Nov 2026 11:00 to Mon 2 Nov 2026 13:00, for 2 h", "northquay → terminal.holm.example, 1 other path", "Call whose segment it is.",
		"2 h of that time", "◆ degraded  Mon 2 Nov 2026 11:00 to Mon 2 Nov 2026 13:00, for 2 h, its begin ± 6 min, 3 times", "It begins at hop 2.", "24.0 ms to 24.2 ms", "1.0 % to 3.0 %", "Ask whose hop that is.",
		"⊖ lost  since Tue 3 Nov 2026 00:00, for 1 h", "Gets worse every day about 16:00.", "100.000 %", "99.999 %", "loss, RTT", "20.0 Mbit/s", "45.0 Mbit/s to 55.0 Mbit/s", "less than usual", "not known yet",
		"192.0.2.0/24", "new: 192.0.2.7", "gone: 192.0.2.8, 192.0.2.9", "slower: 192.0.2.10 (9.00 ms, was 1.00 ms)", "2 more sweeps of that time were not looked at.", "What is normal is still being learnt.", "Mon 2 Nov 2026 10:00 to Mon 2 Nov 2026 12:00, Mara", "mast being painted", "Mon 2 Nov 2026 06:00, Ewan", "power test",
	} {
		assert.Contains(t, text, says)
	}
	assert.NotContains(t, text, "No answer since Mon 23:00.\n    measure", "what is lost has no figures")
	b.Reset()
	require.NoError(t, whole().Print(&b, "html", zone))
	for _, says := range []string{"<svg", "class=\"flag\"", "Mara: mast being painted", "class=\"loss\"", "IPv6 tcp:443", "<th scope=\"col\" class=\"right\">within voice</th>"} {
		assert.Contains(t, b.String(), says)
	}
	b.Reset()
	require.NoError(t, whole().Print(&b, "json", zone))
	var again Period
	require.NoError(t, json.Unmarshal(b.Bytes(), &again))
	assert.Equal(t, whole(), &again)
}

// TestRawFigures: one row a measure, in UTC, unknown empty, never rounded.
func TestRawFigures(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, whole().Print(&b, "csv", time.UTC))
	rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
	require.NoError(t, err)
	column := map[string]int{}
	for i, name := range rows[0] {
		column[name] = i
	}
	sections := map[string][][]string{}
	for _, r := range rows[1:] {
		sections[r[0]] = append(sections[r[0]], r)
	}
	counts := map[string]int{}
	for name, list := range sections {
		counts[name] = len(list)
	}
	assert.Equal(t, map[string]int{"incident": 1, "worse": 3, "daily": 1, "availability": 2, "carried": 2, "addresses": 4, "not_judged": 1, "note": 2}, counts)
	cell := func(section string, row int, name string) string { return sections[section][row][column[name]] }
	assert.Equal(t, "2026-11-02T10:00:00Z", cell("worse", 0, "since_at"))
	assert.Equal(t, "6.55", cell("worse", 0, "normal"))
	assert.Equal(t, "24.2", cell("worse", 0, "now_high"))
	assert.Equal(t, "600", cell("worse", 1, "sent"))
	assert.Equal(t, "", cell("worse", 0, "sent"), "of loss only")
	assert.Equal(t, "", cell("worse", 2, "until_at"), "it goes on")
	assert.Equal(t, "tcp:443", cell("worse", 2, "via"))
	assert.Equal(t, "0.9999999", cell("availability", 0, "within_ratio"))
	assert.Equal(t, "false", cell("availability", 0, "objective_met"))
	assert.Equal(t, "loss_ratio rtt_ms", cell("availability", 0, "objective_missed"))
	assert.Equal(t, "", cell("availability", 1, "availability_ratio"), "unknown is absent, not zero")
	assert.Equal(t, "20000000", cell("carried", 0, "now"))
	assert.Equal(t, "", cell("carried", 1, "normal"))
	assert.Equal(t, "192.0.2.10", cell("addresses", 3, "to"))
}

func TestShares(t *testing.T) {
	for v, says := range map[float64]string{1: "100.000 %", 0: "0.000 %", 0.999999999: "99.999 %", 0.99999: "99.999 %", 0.5: "50.000 %", 0.9994: "99.940 %"} {
		assert.Equal(t, says, share(&v))
	}
	assert.Equal(t, "–", share(nil))
	many := make([]string, 45)
	for i := range many {
		many[i] = "a"
	}
	assert.True(t, strings.HasSuffix(addresses(many), "a and 5 more"))
}
