package api_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
)

// ask makes a call that must end with a status, and reads what it answers.
func (s *desk) ask(method, path, body string, status int, out any) {
	s.t.Helper()
	answer, text := s.call(method, "/api/v1"+path, body)
	require.Equal(s.t, status, answer.StatusCode, "%s %s %s: %s", method, path, body, text)
	if out != nil {
		require.NoError(s.t, json.Unmarshal([]byte(text), out))
	}
}

func TestSweepsOverHTTP(t *testing.T) {
	s := serve(t)
	var started apitype.Sweep
	s.ask(http.MethodPost, "/sweeps", `{"from": "quay", "to": ["192.0.2.0/30"], "exclude": ["192.0.2.3"]}`, http.StatusAccepted, &started)
	assert.Equal(t, uint64(3), started.Addresses)
	var one apitype.Sweep
	require.Eventually(t, func() bool {
		s.ask(http.MethodGet, "/sweeps/"+started.ID, "", http.StatusOK, &one)
		return one.Outcome == "done"
	}, time.Minute, 20*time.Millisecond)
	require.NotNil(t, one.Report)
	assert.Len(t, one.Report.Hosts, 3)
	var list []apitype.Sweep
	s.ask(http.MethodGet, "/sweeps", "", http.StatusOK, &list)
	require.Len(t, list, 1)
	assert.Equal(t, []string{"192.0.2.0/30"}, list[0].Prefixes)
	assert.Nil(t, list[0].Report)

	var w apitype.Watch
	s.ask(http.MethodPost, "/watches", `{"kind": "sweep", "name": "who is there", "from": ["quay"], "to": ["192.0.2.0/24"], "every": "1h"}`, http.StatusCreated, &w)
	assert.Equal(t, "sweep", w.Kind)
	assert.InDelta(t, 24*256, w.ProbesPerDay, 0.1, "256 addresses, 24 times a day")
	for body, status := range map[string]int{
		`{"from": "quay", "to": ["0.0.0.0/0"]}`:                 http.StatusUnprocessableEntity,
		`{"from": "nobody", "to": ["192.0.2.1"]}`:               http.StatusUnprocessableEntity,
		`{"from": "quay", "to": ["192.0.2.1"], "wait": "soon"}`: http.StatusUnprocessableEntity,
		`{"from": "quay", "to": ["9.9.9.9"]}`:                   http.StatusUnprocessableEntity,
	} {
		s.ask(http.MethodPost, "/sweeps", body, status, nil)
	}
	s.ask(http.MethodGet, "/sweeps/01a2085b-489d-70ed-98d4-63b395098001", "", http.StatusNotFound, nil)
	s.ask(http.MethodGet, "/sweeps?watch=none", "", http.StatusNotFound, nil)
}

func TestWalksOverHTTP(t *testing.T) {
	s := serve(t)
	var w apitype.Walk
	s.ask(http.MethodPost, "/walks", `{"from": "quay", "to": "terminal.holm.example", "port": 443}`, http.StatusOK, &w)
	assert.Equal(t, "terminal.holm.example", w.Target)
	for _, body := range []string{`{"from": "nobody", "to": "a.example"}`, `{"from": "quay", "to": "a b"}`, `{"from": "quay", "to": "a.example", "interval": "often"}`,
		`{"from": "quay", "to": "a.example", "address": "x"}`, `{"from": "quay", "to": "a.example", "probes": 1000000}`, `{"from": "quay", "to": "a.example", "port": 70000}`} {
		s.ask(http.MethodPost, "/walks", body, http.StatusUnprocessableEntity, nil)
	}
	var standing map[string]any
	s.ask(http.MethodGet, "/agents/quay/standing", "", http.StatusOK, &standing)
	assert.Equal(t, "quay", standing["host"])
	s.ask(http.MethodGet, "/agents/nobody/standing", "", http.StatusNotFound, nil)
}
