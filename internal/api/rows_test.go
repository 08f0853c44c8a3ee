package api_test

import (
	"fmt"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
)

func TestPathsAreFilteredAndPaged(t *testing.T) {
	s := serve(t)
	for query, want := range map[string]int{"": 1, "?state=steady": 1, "?state=lost": 0, "?site=Holm": 1, "?site=Northquay": 1, "?site=Oxwater": 0, "?agent=quay": 1,
		"?tag=islands": 1, "?tag=ships": 0, "?search=HOLM": 1, "?search=192.0.2": 1, "?search=zed": 0, "?offset=1": 0, "?offset=99": 0} {
		list := get[api.PathList](s, "/paths"+query)
		assert.Len(t, list.Paths, want, query)
	}
	p := get[api.PathList](s, "/paths?trace=true").Paths[0]
	assert.Equal(t, []string{"holm"}, p.Watches)
	assert.Empty(t, p.Trace.RTTMedianMs, "nothing is known of its day yet")
	_, err := s.c.Paths.TakeBaseline(t.Context(), s.path, 2*time.Hour, false)
	require.NoError(t, err)
	known := get[api.PathList](s, "/paths?trace=true").Paths[0]
	assert.Len(t, known.Trace.RTTMedianMs, 144)
	assert.Len(t, known.Trace.LossRatio, 144)
	assert.Len(t, known.Trace.LowMs, 24)
	assert.Len(t, known.Trace.HighMs, 24)
	assert.Nil(t, p.SinceAt, "steady since when is not known")
	assert.Equal(t, finding.Code("no_baseline"), p.Findings[0].Code)
	status := get[apitype.Status](s, "/status")
	assert.Equal(t, map[string]int{"steady": 1, "degraded": 0, "lost": 0, "unmeasured": 0}, status.Paths)
	assert.Equal(t, "0 of 1 path degraded.", status.Summary)
}

// TestRowsSayWhatPathsSay: the same paths in the same order, and of each the same figures.
func TestRowsSayWhatPathsSay(t *testing.T) {
	s := serve(t)
	spec := watches.Spec{From: []string{"quay"}, Tags: []string{"many"}}
	for i := range 120 {
		spec.To = append(spec.To, fmt.Sprintf("198.51.100.%d", i+1))
	}
	w, err := s.c.Watches.Save(t.Context(), ident.ID{}, "many", spec, false)
	require.NoError(t, err)
	u := protocol.Upload{Agent: s.c.Fleet.Agents()[0].ID}
	end := time.Now().Truncate(time.Minute)
	for i, id := range w.Paths {
		for ago := 5; ago > 0 && i%3 > 0; ago-- { // every third was never measured
			u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 60*(i%3-1)))
		}
	}
	require.NoError(t, s.c.Upload(t.Context(), u))
	_, err = s.c.Paths.TakeBaseline(t.Context(), s.path, 2*time.Hour, false)
	require.NoError(t, err)
	normal := 0
	for _, query := range []string{"", "&state=lost,steady", "&tag=many", "&search=holm", "&site=Northquay&agent=quay"} {
		whole := get[api.PathList](s, "/paths?limit=2000"+query)
		require.NotEmpty(t, whole.Paths, query)
		var rows []apitype.PathRow
		for len(rows) < whole.Total {
			part := get[api.RowList](s, fmt.Sprintf("/paths/rows?limit=50&offset=%d%s", len(rows), query))
			require.NotEmpty(t, part.Rows)
			assert.Equal(t, whole.Total, part.Total)
			rows = append(rows, part.Rows...)
		}
		require.Len(t, rows, len(whole.Paths))
		for i, p := range whole.Paths {
			r := rows[i]
			assert.Equal(t, []any{p.ID, p.From, p.To, p.Family, p.Via, p.State, p.SinceAt, p.Findings[0].Sentence}, []any{r.ID, r.From, r.To, r.Family, r.Via, r.State, r.SinceAt, r.Sentence})
			if p.Last == nil {
				assert.Nil(t, r.RTTMs)
				assert.Nil(t, r.LossRatio, "unknown is not zero")
				continue
			}
			assert.Equal(t, p.Last.RTTMedianMs, r.RTTMs)
			assert.Equal(t, p.Last.LossRatio, r.LossRatio)
			if p.Normal != nil {
				normal++
				assert.Equal(t, []any{&p.Normal.RTTMs.Low, &p.Normal.RTTMs.High, &p.Normal.LossRatio.Median}, []any{r.NormalLowMs, r.NormalHighMs, r.NormalLoss})
			}
		}
	}
	assert.Positive(t, normal)
	choices := get[apitype.PathChoices](s, "/paths/choices")
	assert.Equal(t, apitype.PathChoices{Sites: []string{"Holm", "Northquay"}, Agents: []string{"quay"}, Tags: []string{"islands", "many"}}, choices)
	assert.Equal(t, []string{"islands"}, get[apitype.PathChoices](s, "/paths/choices?tag=islands").Tags)
	sketches := get[map[string]apitype.Sketch](s, "/paths/sketches?ids="+s.path.String()+","+ident.ID{9}.String())
	require.Len(t, sketches, 1, "those that there are none of are left out")
	assert.Equal(t, *get[api.PathList](s, "/paths?trace=true&tag=islands").Paths[0].Trace, sketches[s.path.String()])
	for _, bad := range []string{"/paths/sketches", "/paths/sketches?ids=gull", "/paths/rows?limit=0", "/paths/rows?state=ill", "/paths/rows?trace=true"} {
		answer, text := s.call(http.MethodGet, "/api/v1"+bad, "")
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, "%s: %s", bad, text)
	}
}

// TestRowsOfWhatIsWorse are held against what was normal before, and say first what matters most.
func TestRowsOfWhatIsWorse(t *testing.T) {
	open := func(list ...guard.Excess) paths.OpenEpisode {
		return paths.OpenEpisode{Episode: paths.Episode{Episode: guard.Episode{Excesses: list}}}
	}
	v := service.View{View: paths.View{Verdict: guard.Verdict{State: guard.StateDegraded},
		Findings:   []finding.Finding{{Sentence: "worse"}, {Sentence: "comes back daily"}},
		Properties: []guard.Property{{Kind: guard.Daily}},
		Open:       []paths.OpenEpisode{open(guard.Excess{Measure: baseline.RTT, Low: 10, High: 12}, guard.Excess{Measure: baseline.RTT, Low: 1, High: 2}), open(guard.Excess{Measure: baseline.Loss, Normal: 0.01})}}}
	r := api.RowOf(v)
	low, high, loss := 10.0, 12.0, 0.01
	assert.Equal(t, []any{"worse", &low, &high, &loss}, []any{r.Sentence, r.NormalLowMs, r.NormalHighMs, r.NormalLoss})
	v.Verdict.State, v.Open = guard.StateSteady, nil
	r = api.RowOf(v)
	assert.Equal(t, "comes back daily", r.Sentence, "of what is steady, what it keeps to")
	assert.Nil(t, r.NormalLowMs)
	v.Properties = nil
	assert.Equal(t, "worse", api.RowOf(v).Sentence)
}

// TestEventsInBrief name the path only, to who asked for that; to others all is said.
func TestEventsInBrief(t *testing.T) {
	s := serve(t)
	for path, until := range map[string]string{"/events?brief=true": "path", "/events": "reading"} {
		heard := make(chan string, 1)
		go func() {
			_, kinds, text := s.streamOf(path, "", until)
			assert.Equal(t, until == "reading", slices.Contains(kinds, "reading"))
			heard <- text
		}()
		at, text := time.Now().Add(-time.Hour), ""
		require.Eventually(t, func() bool { // until the stream stands
			at = at.Add(time.Minute)
			require.NoError(t, s.c.Upload(t.Context(), protocol.Upload{Agent: s.c.Fleet.Agents()[0].ID, Readings: []protocol.Record{minute(s.path, at, 0)}}))
			select {
			case text = <-heard:
				return true
			default:
				return false
			}
		}, time.Minute, 50*time.Millisecond)
		if until == "path" {
			assert.Contains(t, text, `data: {"path_id":"`+s.path.String()+`"}`)
			assert.NotContains(t, text, "rtt")
		}
	}
}
