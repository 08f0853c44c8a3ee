package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

func TestTracesOverHTTP(t *testing.T) {
	s := serve(t)
	var started []apitype.Trace
	s.ask(http.MethodPost, "/traces", `{"from": "quay", "to": ["192.0.2.9"], "probes": 2, "interval": "100ms"}`, http.StatusAccepted, &started)
	require.Len(t, started, 1)
	assert.Equal(t, "running", started[0].Outcome)
	assert.Equal(t, "quay", started[0].From)
	var one apitype.Trace
	require.Eventually(t, func() bool {
		s.ask(http.MethodGet, "/traces/"+started[0].ID, "", http.StatusOK, &one)
		return one.Outcome == "done"
	}, time.Minute, 20*time.Millisecond)
	require.NotNil(t, one.Report)
	assert.Len(t, one.Report.Hops, 2)
	assert.Equal(t, 2, one.Hops)
	assert.InDelta(t, 3.5, *one.RTTMs, 1e-9)

	// A day of traces: the route becomes another in its middle.
	agent, end := s.c.Fleet.Agents()[0].ID, time.Now().Truncate(time.Minute)
	var list []protocol.Trace
	for i := range 24 {
		hops := []string{"192.0.2.1", "192.0.2.9"}
		if i >= 12 {
			hops = []string{"192.0.2.1", "", "192.0.2.5", "192.0.2.9"}
		}
		list = append(list, traceBy(ident.New(), "192.0.2.9", "icmp", end.Add(time.Duration(i-24)*time.Hour+30*time.Minute), hops...))
	}
	require.NoError(t, s.c.Upload(t.Context(), protocol.Upload{Agent: agent, Traces: list}))
	var lanes apitype.Lanes
	s.ask(http.MethodGet, fmt.Sprintf("/paths/%s/lanes?from_at=%s", s.path, end.Add(-25*time.Hour).UTC().Format(time.RFC3339)), "", http.StatusOK, &lanes)
	assert.Equal(t, "icmp", lanes.Via)
	assert.GreaterOrEqual(t, len(lanes.Columns), 24)
	require.NotEmpty(t, lanes.Changes)
	assert.Equal(t, list[12].Started.Truncate(time.Minute).UTC(), lanes.Changes[0].At)
	assert.InDelta(t, 0, *lanes.Changes[0].StepMs, 1e-9)
	assert.Equal(t, "name of 192.0.2.5", lanes.Names["192.0.2.5"].Name)
	assert.Empty(t, lanes.Columns[20].Hops[1].Addresses)
	assert.InDelta(t, 3.5, *lanes.Columns[0].Hops[0].AddedMs, 1e-9)

	var routes []apitype.SeenRoute
	s.ask(http.MethodGet, fmt.Sprintf("/paths/%s/routes", s.path), "", http.StatusOK, &routes)
	require.Len(t, routes, 2)
	assert.Equal(t, 25, routes[0].Times+routes[1].Times)
	usual := 0
	for _, r := range routes {
		if r.Usual {
			usual++
			assert.Equal(t, []string{"192.0.2.1", "192.0.2.9"}, r.Hops)
		}
	}
	assert.Equal(t, 1, usual)

	s.ask(http.MethodGet, "/traces/"+list[20].ID.String()+"?compare="+list[2].ID.String(), "", http.StatusOK, &one)
	assert.True(t, one.Report.Compared.Changed)
	s.ask(http.MethodGet, "/traces/"+list[20].ID.String()+"?compare=last", "", http.StatusOK, &one)
	assert.False(t, one.Report.Compared.Changed)
	var newest []apitype.Trace
	s.ask(http.MethodGet, "/traces?to=192.0.2.9&from=quay&latest=true", "", http.StatusOK, &newest)
	require.Len(t, newest, 1, "one of each agent, family and kind")
	assert.NotNil(t, newest[0].Report)
	newest = nil
	s.ask(http.MethodGet, "/traces?limit=5", "", http.StatusOK, &newest)
	assert.Len(t, newest, 5)
	assert.Nil(t, newest[0].Report, "lists leave it out")

	var w apitype.Watch
	s.ask(http.MethodPost, "/watches", `{"kind": "trace", "name": "routes", "from": ["quay"], "to": ["192.0.2.9"], "every": "15m", "probes": 10}`, http.StatusCreated, &w)
	assert.Equal(t, "trace", w.Kind)
	assert.InDelta(t, 96*160, w.ProbesPerDay, 0.1, "96 times ten hops, each 6 and 10 times")
	s.ask(http.MethodGet, "/traces?watch=routes", "", http.StatusOK, &newest)
	assert.Empty(t, newest)
	for body, status := range map[string]int{
		`{"from": "quay", "to": ["192.0.2.0/24"]}`:                       http.StatusUnprocessableEntity,
		`{"from": "nobody", "to": ["192.0.2.9"]}`:                        http.StatusUnprocessableEntity,
		`{"from": "quay", "to": ["192.0.2.9"], "via": "stamp"}`:          http.StatusUnprocessableEntity,
		`{"from": "quay", "to": ["192.0.2.9"], "both_ways": true}`:       http.StatusUnprocessableEntity,
		`{"from": "quay", "to": ["192.0.2.9"], "interval": "sometimes"}`: http.StatusUnprocessableEntity,
	} {
		s.ask(http.MethodPost, "/traces", body, status, nil)
	}
	s.ask(http.MethodGet, "/traces/"+ident.New().String(), "", http.StatusNotFound, nil)
	s.ask(http.MethodGet, "/traces?from=nobody", "", http.StatusNotFound, nil)
	s.ask(http.MethodGet, "/traces/"+list[20].ID.String()+"?compare=never", "", http.StatusUnprocessableEntity, nil)
	s.ask(http.MethodGet, "/paths/"+ident.New().String()+"/lanes", "", http.StatusNotFound, nil)
}
