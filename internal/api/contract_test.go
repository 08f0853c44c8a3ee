package api_test

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/protocol"
)

type schema struct {
	Ref        string            `json:"$ref"`
	Type       any               `json:"type"`
	Properties map[string]schema `json:"properties"`
	Required   []string          `json:"required"`
	Items      *schema           `json:"items"`
	Enum       []any             `json:"enum"`
	More       any               `json:"additionalProperties"`
}

type openAPI struct {
	Servers []struct{ URL string }
	Tags    []struct{ Name, Description string }
	Paths   map[string]map[string]struct {
		OperationID string
		Summary     string
		Tags        []string
		Responses   map[string]struct {
			Description string
			Content     map[string]struct{ Schema schema }
		}
	}
	Components struct{ Schemas map[string]schema }
}

func document(t *testing.T) (d openAPI) {
	t.Helper()
	text, err := api.Document("test")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &d))
	return d
}

// fits says what of a value is otherwise than its schema.
func (d openAPI) fits(s schema, v any, at string) (wrong []string) {
	if s.Ref != "" {
		s = d.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
	}
	types := []string{}
	switch x := s.Type.(type) {
	case string:
		types = append(types, x)
	case []any:
		for _, y := range x {
			types = append(types, y.(string))
		}
	case nil:
		return nil // anything
	}
	is := map[bool]string{true: "x"}[v == nil]
	switch v.(type) {
	case nil:
		is = "null"
	case bool:
		is = "boolean"
	case float64:
		is = "number"
	case string:
		is = "string"
	case []any:
		is = "array"
	case map[string]any:
		is = "object"
	}
	if !slices.Contains(types, is) && !(is == "number" && slices.Contains(types, "integer")) {
		return []string{fmt.Sprintf("%s is %s, not %v", at, is, types)}
	}
	if len(s.Enum) > 0 && v != nil && !slices.Contains(s.Enum, v) {
		wrong = append(wrong, fmt.Sprintf("%s is %v, none of %v", at, v, s.Enum))
	}
	switch x := v.(type) {
	case []any:
		for i, item := range x {
			wrong = append(wrong, d.fits(*s.Items, item, at+"["+strconv.Itoa(i)+"]")...)
		}
	case map[string]any:
		for _, name := range s.Required {
			if _, has := x[name]; !has {
				wrong = append(wrong, at+" has no "+name)
			}
		}
		for name, item := range x {
			p, known := s.Properties[name]
			if !known {
				if more, is := s.More.(map[string]any); is {
					data, _ := json.Marshal(more)
					_ = json.Unmarshal(data, &p)
					known = true
				} else if s.More == true {
					continue
				}
			}
			if !known {
				if name != "$schema" {
					wrong = append(wrong, at+" has "+name+", which the document does not know")
				}
				continue
			}
			wrong = append(wrong, d.fits(p, item, at+"."+name)...)
		}
	}
	return wrong
}

// TestAnswersAreAsTheDocumentSays, those with something in them and those without.
func TestAnswersAreAsTheDocumentSays(t *testing.T) {
	d := document(t)
	s := serve(t)
	pier := s.joined("tern") // behind quay, as whom the test measures
	s.ask(http.MethodPost, "/watches", `{"name": "new", "from": ["quay"], "to": ["192.0.2.55"]}`, http.StatusCreated, nil)
	s.ask(http.MethodPost, "/watches", `{"name": "prefix", "kind": "sweep", "from": ["quay"], "to": ["192.0.2.0/30"], "every": "1h"}`, http.StatusCreated, nil)
	s.ask(http.MethodPost, "/watches", `{"name": "routes", "kind": "trace", "from": ["quay"], "to": ["192.0.2.9"], "every": "1h"}`, http.StatusCreated, nil)
	require.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/health", pier.Key, protocol.Health{Version: "1", May: []string{}, Addresses: []string{}}).StatusCode)
	id := s.path.String()
	gets := []string{"/status", "/agents", "/paths", "/paths?trace=true&all=true", "/paths/rows", "/paths/choices", "/paths/sketches?ids=" + id, "/paths/" + id, "/paths/" + id + "/series", "/paths/" + id + "/readings", "/paths/" + id + "/episodes", "/paths/" + id + "/routes", "/paths/" + id + "/lanes",
		"/watches", "/watches/new", "/watches/holm", "/runs", "/sweeps", "/traces", "/two-ended", "/degraded", "/reports/degraded", "/incidents", "/notices", "/changes", "/baselines"}
	check := func() {
		for _, path := range gets {
			answer, body := s.call(http.MethodGet, "/api/v1"+path, "")
			require.Equal(t, 200, answer.StatusCode, "%s: %s", path, body)
			bare, _, _ := strings.Cut(path, "?")
			bare = strings.Replace(bare, id, "{id}", 1)
			if rest, ok := strings.CutPrefix(bare, "/watches/"); ok && rest != "" {
				bare = "/watches/{watch}"
			}
			for _, x := range []string{"runs", "sweeps", "traces", "two-ended"} {
				if strings.HasPrefix(bare, "/"+x+"/") {
					bare = "/" + x + "/{id}"
				}
			}
			var v any
			require.NoError(t, json.Unmarshal([]byte(body), &v))
			assert.Empty(t, d.fits(d.Paths["/api/v1"+bare]["get"].Responses["200"].Content["application/json"].Schema, v, path))
		}
	}
	check()
	var run []struct{ ID string }
	s.ask(http.MethodPost, "/runs", `{"from":"quay","to":["192.0.2.9"],"probes":60}`, http.StatusAccepted, &run)
	var sweep, trace struct{ ID string }
	s.ask(http.MethodPost, "/sweeps", `{"from": "quay", "to": ["192.0.2.0/30"]}`, http.StatusAccepted, &sweep)
	var traces []struct{ ID string }
	s.ask(http.MethodPost, "/traces", `{"from": "quay", "to": ["192.0.2.9"]}`, http.StatusAccepted, &traces)
	trace = traces[0]
	gets = append(gets, "/runs/"+run[0].ID, "/sweeps/"+sweep.ID, "/traces/"+trace.ID)
	check()
	_, err := s.c.Paths.TakeBaseline(t.Context(), s.path, 3*time.Hour, true)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		var x struct{ Outcome string }
		s.ask(http.MethodGet, "/sweeps/"+sweep.ID, "", http.StatusOK, &x)
		return x.Outcome == "done"
	}, time.Minute, 10*time.Millisecond)
	gets = append(gets, "/paths/"+id+"/baseline", "/paths/"+id+"/baselines", "/paths/"+id+"/baseline/file")
	check()
}

// TestTheDocumentIsWhole: every call has what a reader needs, and every status that comes
// stands in it.
func TestTheDocumentIsWhole(t *testing.T) {
	d := document(t)
	require.NotEmpty(t, d.Servers)
	tags := map[string]bool{}
	for _, x := range d.Tags {
		assert.NotEmpty(t, x.Description, x.Name)
		tags[x.Name] = true
	}
	for path, item := range d.Paths {
		for method, op := range item {
			name := method + " " + path
			assert.NotEmpty(t, op.Summary, name)
			assert.NotEmpty(t, op.OperationID, name)
			require.Len(t, op.Tags, 1, name)
			assert.True(t, tags[op.Tags[0]], "%s: no tag %q", name, op.Tags[0])
		}
	}
	for _, path := range []string{"/join", "/plan", "/commands", "/uploads", "/replies", "/health"} {
		assert.Contains(t, d.Paths, "/api/v1/agent"+path)
	}
	s := serve(t)
	for _, c := range []struct {
		method, path, of, body string
		headers                []string
		status                 int
	}{
		{"GET", "/paths?gulls=1", "/paths", "", nil, 422},
		{"GET", "/paths?state=gulls", "/paths", "", nil, 422},
		{"GET", "/paths", "/paths", "", []string{"Authorization", ""}, 401},
		{"POST", "/watches", "/watches", "{", nil, 400},
		{"POST", "/watches", "/watches", `{"name":"holm","from":["quay"],"to":["192.0.2.9"]}`, nil, 409},
		{"POST", "/watches", "/watches", `{"name":"x","from":["nobody"],"to":["192.0.2.9"]}`, nil, 422},
		{"DELETE", "/agents/nobody", "/agents/{name}", "", nil, 404},
		{"GET", "/agents/nobody/standing", "/agents/{name}/standing", "", nil, 404},
		{"GET", "/two-ended?from=nobody", "/two-ended", "", nil, 404},
		{"GET", "/traces?from=nobody", "/traces", "", nil, 404},
		{"GET", "/runs?watch=nobody", "/runs", "", nil, 404},
		{"DELETE", "/watches/nobody", "/watches/{watch}", "", nil, 404},
	} {
		answer, body := s.call(c.method, "/api/v1"+c.path, c.body, c.headers...)
		assert.Equal(t, c.status, answer.StatusCode, "%s %s: %s", c.method, c.path, body)
		assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"), c.path)
		assert.Contains(t, d.Paths["/api/v1"+c.of][strings.ToLower(c.method)].Responses, strconv.Itoa(c.status), "%s %s", c.method, c.of)
	}
	_, body := s.call(http.MethodGet, "/api/v1/paths?gulls=1", "")
	assert.Contains(t, body, "gulls")
	assert.Contains(t, body, "state")
}

func TestSeveralStatesAndTables(t *testing.T) {
	s := serve(t)
	s.ask(http.MethodPost, "/watches", `{"name": "new", "from": ["quay"], "to": ["192.0.2.55"]}`, http.StatusCreated, nil)
	assert.Len(t, get[struct{ Paths []any }](s, "/paths?state=steady,unmeasured").Paths, 2)
	assert.Len(t, get[struct{ Paths []any }](s, "/paths?state=degraded,lost").Paths, 0)
	assert.Len(t, get[struct{ Paths []any }](s, "/paths?state=unmeasured").Paths, 1)
	for path, want := range map[string]struct {
		column string
		rows   int
	}{
		"/paths":   {"last.rtt_median_ms", 2},
		"/watches": {"name", 2},
		"/agents":  {"name", 1},
		"/paths/" + s.path.String() + "/readings": {"rtt_median_ms", 120},
		"/paths/" + s.path.String() + "/series":   {"rtt_median_ms", 120},
		"/runs":                                   {"", 0},
	} {
		answer, body := s.call(http.MethodGet, "/api/v1"+path, "", "Accept", "text/csv")
		require.Equal(t, 200, answer.StatusCode, body)
		assert.Equal(t, "text/csv", answer.Header.Get("Content-Type"), path)
		rows, err := csv.NewReader(strings.NewReader(body)).ReadAll()
		require.NoError(t, err, path)
		if want.column == "" {
			assert.Empty(t, rows)
			continue
		}
		require.NotEmpty(t, rows, path)
		assert.Contains(t, rows[0], want.column, path)
		assert.Len(t, rows[1:], want.rows, path)
	}
}

func TestWhatIsPolledHasATag(t *testing.T) {
	s := serve(t)
	for _, path := range []string{"/watches", "/agents", "/paths/" + s.path.String() + "/baseline", "/openapi.json", "/runs"} {
		answer, _ := s.call(http.MethodGet, "/api/v1"+path, "")
		if answer.StatusCode == http.StatusNotFound {
			continue // no baseline yet
		}
		tag := answer.Header.Get("ETag")
		require.NotEmpty(t, tag, path)
		again, body := s.call(http.MethodGet, "/api/v1"+path, "", "If-None-Match", tag)
		assert.Equal(t, http.StatusNotModified, again.StatusCode, path)
		assert.Empty(t, body)
	}
	answer, _ := s.call(http.MethodGet, "/api/v1/watches", "")
	s.ask(http.MethodPost, "/watches", `{"name": "new", "from": ["quay"], "to": ["192.0.2.55"]}`, http.StatusCreated, nil)
	again, _ := s.call(http.MethodGet, "/api/v1/watches", "", "If-None-Match", answer.Header.Get("ETag"))
	assert.Equal(t, http.StatusOK, again.StatusCode, "what changed is sent")
}

// stream reads events of a stream until one of a kind comes.
func (s *desk) stream(last string, until string) (ids, kinds []string, text string) {
	s.t.Helper()
	return s.streamOf("/events", last, until)
}

func (s *desk) streamOf(path, last, until string) (ids, kinds []string, text string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodGet, s.web.URL+"/api/v1"+path, nil)
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	if last != "" {
		r.Header.Set("Last-Event-ID", last)
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() {
		text += lines.Text() + "\n"
		if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
			ids = append(ids, id)
		}
		if kind, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			kinds = append(kinds, kind)
		}
		if lines.Text() == "" && slices.Contains(kinds, until) {
			return ids, kinds, text
		}
	}
	return ids, kinds, text
}

func TestAnEventStreamIsResumed(t *testing.T) {
	s := serve(t)
	said := make(chan []string)
	go func() {
		ids, _, text := s.stream("", "watch")
		assert.Contains(t, text, "retry: ")
		said <- ids
	}()
	require.Eventually(t, func() bool { // until the stream stands
		s.ask(http.MethodPost, "/watches", fmt.Sprintf(`{"name": "w%d", "from": ["quay"], "to": ["192.0.2.55"]}`, time.Now().UnixNano()), http.StatusCreated, nil)
		select {
		case ids := <-said:
			require.NotEmpty(t, ids)
			last := ids[len(ids)-1]
			s.ask(http.MethodPost, "/watches", `{"name": "while nobody listens", "from": ["quay"], "to": ["192.0.2.56"]}`, http.StatusCreated, nil)
			again, kinds, _ := s.stream(last, "watch")
			assert.NotContains(t, kinds, "missed")
			assert.Greater(t, again[len(again)-1], last, "what happened meanwhile comes first")
			_, kinds, _ = s.stream("12345", "missed")
			assert.Contains(t, kinds, "missed", "what is not kept any more is said to be missed")
			return true
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, time.Minute, 10*time.Millisecond)
}

// TestRunsAreFollowedByEvents: each brings what came behind the one before, and the last that
// the run is over.
func TestRunsAreFollowedByEvents(t *testing.T) {
	s := serve(t)
	var runs []apitype.Run
	s.ask(http.MethodPost, "/runs", `{"from": "quay", "to": ["`+endless+`"], "probes": 1000, "interval": "20ms"}`, http.StatusAccepted, &runs)
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.web.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	var heard []api.RunEvent
	id, of := "", ""
	for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
		if event, is := strings.CutPrefix(lines.Text(), "event: "); is {
			of = event
		}
		if text, is := strings.CutPrefix(lines.Text(), "id: "); is {
			id = text
		}
		data, is := strings.CutPrefix(lines.Text(), "data: ")
		if lines.Text() == "" {
			id, of = "", ""
		}
		if !is || of != "run" {
			continue
		}
		var e api.RunEvent
		require.NoError(t, json.Unmarshal([]byte(data), &e))
		heard = append(heard, e)
		if len(heard) == 3 {
			s.ask(http.MethodDelete, "/runs/"+runs[0].ID, "", http.StatusNoContent, nil)
		}
		if e.Outcome != "running" {
			assert.NotEmpty(t, id, "the end is told to who comes back, too")
			break
		}
		assert.Empty(t, id, "what goes on is told to who listens now")
	}
	require.GreaterOrEqual(t, len(heard), 4)
	next := 0
	for _, e := range heard[:3] {
		assert.Equal(t, runs[0].ID, e.RunID)
		assert.Equal(t, 1000, e.Of)
		assert.Equal(t, next, e.RTTsFrom, "behind those before")
		require.NotEmpty(t, e.RTTsMs)
		next = e.RTTsFrom + len(e.RTTsMs)
		assert.Equal(t, next, e.Reading.Sent)
		assert.InDelta(t, float64(next), *e.RTTsMs[len(e.RTTsMs)-1], 1e-9)
	}
	assert.Equal(t, "done", heard[len(heard)-1].Outcome)
}
