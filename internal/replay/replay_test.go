package replay_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/replay"
)

var monday = time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)

// readings of three paths, two of which get slow at a minute.
func readings(minutes, slow int) (lines, routes string) {
	var b strings.Builder
	r := rand.New(rand.NewPCG(1, 2))
	for m := range minutes {
		for i, to := range []string{"holm", "tern", "dock"} {
			d := 10 + 0.1*r.NormFloat64()
			if m >= slow && i < 2 {
				d += 12
			}
			fmt.Fprintf(&b, `{"from":"northquay","to":%q,"family":4,"via":"icmp","started_at":%q,"span_s":60,"sent":60,"answered":60,"lost":0,"rtt_median_ms":%.3f,"jitter_ms":0.2}`+"\n",
				to, monday.Add(time.Duration(m)*time.Minute).Format(time.RFC3339), d)
		}
	}
	at := monday.Add(time.Hour).Format(time.RFC3339)
	routes = fmt.Sprintf(`{"from":"northquay","to":"holm","family":4,"at":%q,"hops":["gw","isle",null,"holm"]}
{"from":"northquay","to":"tern","family":"4","at":%q,"hops":["gw","isle","tern"]}
{"from":"northquay","to":"dock","family":4,"at":%q,"hops":["gw","dock"]}
`, at, at, at)
	return b.String(), routes
}

func TestReplay(t *testing.T) {
	slow := 9*24*60 + 600
	lines, routes := readings(slow+200, slow)
	out, err := replay.Run(replay.Input{Readings: strings.NewReader(lines), Routes: strings.NewReader(routes)}, replay.Options{Zone: time.UTC})
	require.NoError(t, err)
	assert.Equal(t, 3*(slow+200), out.Readings)
	assert.Equal(t, 3, out.Paths)
	require.Len(t, out.Episodes, 2)
	e := out.Episodes[0]
	began := monday.Add(time.Duration(slow) * time.Minute)
	assert.Equal(t, "holm", e.To)
	assert.EqualValues(t, "rtt", e.Measure.String())
	assert.Equal(t, began, e.BeganAt)
	assert.LessOrEqual(t, e.ToldAt.Sub(began), 4*time.Minute)
	assert.Nil(t, e.EndedAt)
	assert.InDelta(t, 10, e.Normal, 0.2)
	assert.InDelta(t, 22, e.Worst, 0.3)
	assert.Equal(t, "RTT 22.0 ms instead of 10.0 since Wed 10:00, as another path does over the segment from gw to isle.", e.Sentence)
	require.Len(t, out.Incidents, 1)
	assert.Equal(t, [][2]string{{"gw", "isle"}}, out.Incidents[0].Segments)
	assert.Equal(t, []replay.Path{{From: "northquay", To: "holm", Family: "4", Via: "icmp"}, {From: "northquay", To: "tern", Family: "4", Via: "icmp"}}, out.Incidents[0].Paths)
	assert.InDelta(t, 12, out.Incidents[0].Excess, 0.5)
	// The keys that others read by.
	data, err := json.Marshal(out)
	require.NoError(t, err)
	var keys map[string][]map[string]any
	_ = json.Unmarshal(data, &keys)
	assert.EqualValues(t, 4, keys["episodes"][0]["family"], "as it came")
	for _, k := range []string{"from", "to", "family", "via", "kind", "measure", "began_at", "told_at", "ended_at", "over_told_at", "cause", "sentence", "normal", "worst", "findings"} {
		assert.Contains(t, keys["episodes"][0], k)
	}
}

func TestWhatIsNotJudgedIsCounted(t *testing.T) {
	line := func(at, rest string) string {
		return fmt.Sprintf(`{"from":"a","to":"b","started_at":%q,"span_s":60,"sent":20,"answered":20,"lost":0,"rtt_median_ms":10%s}`+"\n", at, rest)
	}
	out, err := replay.Run(replay.Input{Readings: strings.NewReader(line("2026-11-02T10:00:00Z", "") + line("2026-11-02T10:00:00Z", `,"notes":["on_demand"]`) + "\n" + line("2026-11-02T10:00:20Z", "") + line("2026-11-02T10:01:00Z", `,"colour":"blue"`) +
		`{"from":"a","to":"c","started_at":"2026-11-02T10:02:00Z","span_s":60,"rtt_median_ms":10,"loss_there_ratio":0.1}`)}, replay.Options{})
	require.NoError(t, err)
	assert.Equal(t, 3, out.Readings)
	assert.Equal(t, 2, out.Skipped, "one on demand, one beside another")
	assert.Equal(t, []string{"colour", "the loss of a direction without sent"}, out.Unknown)
	require.Len(t, out.Learning, 2)
	assert.Equal(t, "2026-11-03T10:00:00Z", out.Learning[0].Until.Format(time.RFC3339))
}

// TestBesideLoadRuns: readings of that time are judged by whether anything was answered, as in the service.
func TestBesideLoadRuns(t *testing.T) {
	run := func(answered int, rtt float64) *replay.Output {
		var text strings.Builder
		for m := range 40 {
			line := replay.Line{From: "a", To: "b", StartedAt: monday.Add(time.Duration(m) * time.Minute), SpanS: 60}
			sent, got, late := 20, 20, 10.0
			if m >= 20 && m < 30 {
				got, late, line.Notes = answered, rtt, []string{"load_overlap"}
			}
			lost := sent - got
			if line.Sent, line.Answered, line.Lost = &sent, &got, &lost; got > 0 {
				line.RTTMedianMs = &late
			}
			data, err := json.Marshal(line)
			require.NoError(t, err)
			text.Write(append(data, '\n'))
		}
		out, err := replay.Run(replay.Input{Readings: strings.NewReader(text.String())}, replay.Options{})
		require.NoError(t, err)
		return out
	}
	assert.Empty(t, run(8, 400).Episodes)
	lost := run(0, 0).Episodes
	require.Len(t, lost, 1)
	assert.Equal(t, guard.Lost, lost[0].Kind)
	assert.Equal(t, monday.Add(20*time.Minute), lost[0].BeganAt.UTC())
	assert.Equal(t, monday.Add(30*time.Minute), lost[0].EndedAt.UTC())
}

func TestBadInputNamesItsLine(t *testing.T) {
	good := `{"from":"a","to":"b","started_at":"2026-11-02T10:00:00Z","span_s":60,"sent":20,"answered":20,"lost":0,"rtt_median_ms":10}` + "\n"
	for text, want := range map[string]string{
		good + "{": "readings.ndjson, line 2",
		strings.Replace(good, `"to":"b",`, "", 1):                            "lacks from or to",
		strings.Replace(good, `"started_at":"2026-11-02T10:00:00Z",`, "", 1): "lacks started_at",
		strings.Replace(good, `"answered":20`, `"answered":21`, 1):           "more than sent",
		strings.Replace(good, `"span_s":60`, `"span_s":-1`, 1):               "span_s -1",
		good + strings.Replace(good, "T10:00", "T09:59", 1):                  "is before that of",
	} {
		_, err := replay.Run(replay.Input{Readings: strings.NewReader(text), ReadingsName: "readings.ndjson"}, replay.Options{})
		assert.ErrorContains(t, err, want)
		assert.ErrorIs(t, err, replay.ErrInput)
	}
	_, err := replay.Run(replay.Input{Readings: strings.NewReader(good), Routes: strings.NewReader(`{"from":"a"}`), RoutesName: "routes.ndjson"}, replay.Options{})
	assert.ErrorContains(t, err, "routes.ndjson, line 1: a route has")
}

func TestALineOfAReadingIsReadBack(t *testing.T) {
	v := func(x float64) *float64 { return &x }
	f := reading.Figures{StartedAt: monday, SpanS: 60, Sent: 20, Answered: 19, Lost: 1, RTTMedianMs: v(10), RTTP95Ms: v(12), JitterMs: v(0.3)}
	data, err := json.Marshal(replay.LineOf(guard.Key{From: "a", To: "b", Family: "6", Via: "tcp:443"}, f, []string{"load_overlap"}))
	require.NoError(t, err)
	var back replay.Line
	require.NoError(t, json.Unmarshal(data, &back))
	assert.EqualValues(t, "6", back.Family)
	assert.Equal(t, 12.0, *back.RTTP95Ms)
	assert.Nil(t, back.RTTMinMs, "what is not known is absent")
	assert.NotContains(t, string(data), "rtt_min_ms")
	assert.Equal(t, []string{"load_overlap"}, back.Notes)
}
