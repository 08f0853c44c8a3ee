package service_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/service/selection"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store/storetest"
)

// TestWhatAReportSays of two hours and a half in which one path loses all for ten minutes, one
// nothing, and one was not measured: figures by hand.
func TestWhatAReportSays(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1", "192.0.2.2", "192.0.2.3"}, Tags: []string{"islands"}})
	end := time.Now().Truncate(time.Minute)
	up := func(from, to, lost int, paths ...ident.ID) {
		u := protocol.Upload{Agent: quay(c)}
		for ago := from; ago > to; ago-- {
			for _, id := range paths {
				u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost))
			}
		}
		require.NoError(t, c.Upload(t.Context(), u))
	}
	up(150, 40, 0, w.Paths[:2]...)
	for _, id := range w.Paths[:2] {
		_, err := c.Paths.TakeBaseline(t.Context(), id, 2*time.Hour, true)
		require.NoError(t, err)
	}
	up(40, 30, 60, w.Paths[0])
	up(30, 0, 0, w.Paths[0])
	up(40, 0, 0, w.Paths[1])

	spec := reports.Spec{From: end.Add(-150 * time.Minute), To: end, Objective: "voice"}
	r, err := c.Reports.Make(t.Context(), spec)
	require.NoError(t, err)
	assert.Equal(t, 3, r.Watched)
	assert.Equal(t, 1, r.Healthy)
	assert.Contains(t, r.Summary, "1 of 3 paths got worse than normal, 1 of them without any answer for a while. 1 of 2 met the objective voice. 1 path could not be judged.")
	require.Len(t, r.Degraded, 1)
	d := r.Degraded[0]
	assert.Equal(t, "192.0.2.1", d.To)
	require.Len(t, d.Episodes, 1)
	assert.Equal(t, "lost", d.Episodes[0].Kind)
	assert.Equal(t, end.Add(-40*time.Minute).UTC(), d.Episodes[0].BeganAt)
	assert.InDelta(t, 600, d.CostS, 1)
	require.Len(t, r.Paths, 3)
	first := r.Paths[0]
	assert.Equal(t, "192.0.2.1", first.To)
	assert.InDelta(t, 150*60, first.MeasuredS, 1e-9)
	assert.InDelta(t, 140.0/150, *first.Availability, 1e-9)
	assert.InDelta(t, 10.0/150, *first.Loss, 1e-9)
	assert.InDelta(t, 10, *first.MeanMs, 0.1)
	assert.InDelta(t, 140.0/150, *first.Within, 1e-9)
	assert.False(t, *first.Met)
	assert.Equal(t, []string{"loss_ratio"}, first.Missed)
	assert.InDelta(t, 1, *r.Paths[1].Availability, 1e-9)
	assert.Nil(t, r.Paths[2].Availability, "unknown is absent")
	assert.Equal(t, "192.0.2.3", r.NotJudged[0].To)

	half, err := c.Reports.Make(t.Context(), reports.Spec{From: end.Add(-35 * time.Minute), To: end})
	require.NoError(t, err)
	assert.InDelta(t, 300, half.Degraded[0].CostS, 1, "only what lies within counts")
	assert.InDelta(t, 30.0/35, *half.Paths[0].Availability, 1e-9)

	none, err := c.Reports.Make(t.Context(), reports.Spec{From: spec.From, To: end, Selection: selection.Selection{Tags: []string{"ISLANDS"}, Targets: []string{"192.0.2.2"}}})
	require.NoError(t, err)
	assert.Empty(t, none.Degraded)
	assert.Equal(t, 1, none.Watched)
	assert.Equal(t, "targets 192.0.2.2; tags ISLANDS", none.Of)
	nobody, err := c.Reports.Make(t.Context(), reports.Spec{From: spec.From, To: end, Selection: selection.Selection{Sites: []string{"Atlantis"}}})
	require.NoError(t, err)
	assert.Equal(t, "No watched path is among those that were chosen.", nobody.Summary)

	checkPrinted(t, r)
	for says, bad := range map[string]reports.Spec{
		"is not before": {From: end, To: end}, "of up to 93 days": {From: end.Add(-100 * 24 * time.Hour), To: end}, "still to come": {From: end.Add(2 * time.Hour), To: end.Add(3 * time.Hour)}, "no objective": {From: spec.From, To: end, Objective: "gull"},
		"the title has": {From: spec.From, To: end, Title: strings.Repeat("x", 300)}, "sites are more": {From: spec.From, To: end, Selection: selection.Selection{Sites: make([]string, 201)}},
	} {
		_, err := c.Reports.Make(t.Context(), bad)
		if says == "still to come" { // it ends now, and begins later
			says = "is not before"
		}
		assert.ErrorIs(t, err, kind.ErrInvalid, says)
		assert.ErrorContains(t, err, says)
	}
}

// checkPrinted prints a report in all formats, and reads it back.
func checkPrinted(t *testing.T, r *reports.Period) {
	t.Helper()
	files := map[string]string{}
	for format := range reports.Formats() {
		var b bytes.Buffer
		require.NoError(t, r.Print(&b, format, time.UTC), format)
		files[format] = b.String()
		if format == "html" || format == "text" {
			for _, says := range []string{r.Title, r.Summary, "192.0.2.1", "93.333 %", r.NotJudged[0].Says, "Not judged"} {
				assert.Contains(t, b.String(), strings.ReplaceAll(says, "'", "&#39;"), "%s in %s", says, format)
			}
		}
	}
	var again reports.Period
	require.NoError(t, json.Unmarshal([]byte(files["json"]), &again))
	assert.Equal(t, *r, again, "all of it is carried through")
	assert.True(t, strings.HasPrefix(files["pdf"], "%PDF-"))
	rows, err := csv.NewReader(strings.NewReader(files["csv"])).ReadAll()
	require.NoError(t, err)
	sections := map[string]int{}
	for _, row := range rows[1:] {
		sections[row[0]]++
	}
	assert.Equal(t, map[string]int{"worse": max(1, len(r.Degraded[0].Episodes[0].Excesses)), "availability": 3, "not_judged": 1}, sections, fmt.Sprint(rows))
	assert.ErrorContains(t, r.Print(&bytes.Buffer{}, "docx", time.UTC), "not as \"docx\"")
}
