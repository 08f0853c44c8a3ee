package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/service/boards"
)

// TestBoardsOverHTTP: whatever they are called; what cannot be is told with its reason.
func TestBoardsOverHTTP(t *testing.T) {
	s := serve(t)
	for _, name := range []string{"Bridge", "port / starboard", "100 % of it?", "Brücke #2", `"quoted"`} {
		body, err := json.Marshal(apitype.BoardSpec{Name: name, Parts: []boards.Part{{Kind: boards.States}, {Kind: boards.Matrix, Measure: "loss"}}})
		require.NoError(t, err)
		var b, again apitype.Board
		s.ask(http.MethodPost, "/boards", string(body), http.StatusCreated, &b)
		place := "/boards/" + url.PathEscape(name)
		s.ask(http.MethodGet, place, "", http.StatusOK, &again)
		assert.Equal(t, b, again, name)
		var shown boards.Shown
		s.ask(http.MethodGet, place+"/shown", "", http.StatusOK, &shown)
		assert.Equal(t, boards.StatesShown{Steady: 1}, *shown.Parts[0].States)
		require.Len(t, shown.Parts[1].Matrix.Cells, 1)
		assert.InDelta(t, 0, *shown.Parts[1].Matrix.Cells[0].Value, 0)
		assert.Equal(t, s.path.String(), shown.Parts[1].Matrix.Cells[0].Path)
		for format, kind := range boards.Formats() {
			answer, text := s.call(http.MethodGet, "/api/v1"+place+"/file?format="+format, "")
			assert.Equal(t, http.StatusOK, answer.StatusCode, "%s %s", name, format)
			assert.Equal(t, kind, answer.Header.Get("Content-Type"))
			assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "sandbox")
			assert.NotEmpty(t, text)
		}
		assert.Contains(t, s.refused(http.MethodPut, place, `{"name": "x", "parts": [], "revision": 7}`, http.StatusConflict), "changed meanwhile")
		s.ask(http.MethodDelete, place, "", http.StatusNoContent, nil)
		s.refused(http.MethodGet, place, "", http.StatusNotFound)
	}
	for body, says := range map[string]string{
		`{"name": "x", "parts": [{"kind": "gauge", "width": 1, "height": 1}]}`:                "expected value to be one of",
		`{"name": "x", "parts": [{"kind": "map", "width": 13, "height": 1}]}`:                 "expected number <= 12",
		`{"name": "x", "parts": [{"kind": "map", "width": 4, "height": 1, "colour": "red"}]}`: "unexpected property",
		`{"name": "x", "parts": [{"kind": "plot", "width": 4, "height": 1}]}`:                 "from and to are missing",
		`{"name": "", "parts": []}`:      "needs a name",
		`{"name": "Sites", "parts": []}`: "is taken",
	} {
		answer, text := s.call(http.MethodPost, "/api/v1/boards", body)
		assert.GreaterOrEqual(t, answer.StatusCode, 400, body)
		assert.Less(t, answer.StatusCode, 500, body)
		assert.Contains(t, text, says, body)
	}
	answer, _ := s.call(http.MethodPost, "/api/v1/boards", fmt.Sprintf(`{"name": "x", "parts": [{"kind": "text", "width": 4, "height": 1, "text": %q}]}`, strings.Repeat("x", 2<<20)))
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
	var shown boards.Shown
	s.ask(http.MethodPost, "/boards/shown", `{"parts": [{"kind": "states", "width": 0, "height": 0, "labels": ["none"]}]}`, http.StatusOK, &shown)
	assert.Equal(t, "No watched path is of this choice.", shown.Parts[0].Says)
	var list []apitype.Board
	s.ask(http.MethodGet, "/boards", "", http.StatusOK, &list)
	assert.Len(t, list, 2, "nothing that was refused is there")
}

// TestPlacesOverHTTP: sites and owners, one by one and by file.
func TestPlacesOverHTTP(t *testing.T) {
	s := serve(t)
	var list []apitype.Site
	s.ask(http.MethodPut, "/sites", `{"sites": [{"name": "Gannet / Bay", "lat_deg": 58.96, "lon_deg": -3.3, "targets": ["203.0.113.8/29"]}, {"name": "Holm"}]}`, http.StatusOK, &list)
	answer, text := s.call(http.MethodGet, "/api/v1/sites/export", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Equal(t, "name,latitude,longitude,targets,note\r\nGannet / Bay,58.96,-3.3,203.0.113.8/29,\r\nHolm,,,,\r\n", text)
	file, err := json.Marshal(apitype.PlacesFile{CSV: text})
	require.NoError(t, err)
	s.ask(http.MethodDelete, "/sites/"+url.PathEscape("Gannet / Bay"), "", http.StatusNoContent, nil)
	var again []apitype.Site
	s.ask(http.MethodPost, "/sites/import", string(file), http.StatusOK, &again)
	assert.Equal(t, list, again)
	for body, says := range map[string]string{
		`{"sites": [{"name": "A", "lat_deg": 60}]}`:               "lat_deg and lon_deg belong together",
		`{"sites": [{"name": "A", "lat_deg": 91, "lon_deg": 0}]}`: "expected number <= 90",
		`{"sites": []}`: "expected array length >= 1",
		`{"sites": [{"name": "A", "targets": ["203.0.113.8/29"]}]}`: "is at site",
	} {
		assert.Contains(t, s.refused(http.MethodPut, "/sites", body, http.StatusUnprocessableEntity), says, body)
	}
	assert.Contains(t, s.refused(http.MethodPost, "/sites/import", `{"csv": "name,lat,lon\nA,60,\nB,x,1\n"}`, http.StatusUnprocessableEntity), "line 3")

	var owners []apitype.Owner
	s.ask(http.MethodPut, "/owners", `{"owners": [{"prefix": "2001:db8::/32", "owner": "Kelpnet", "kind": "far end"}]}`, http.StatusOK, &owners)
	answer, text = s.call(http.MethodGet, "/api/v1/owners/export", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	file, err = json.Marshal(apitype.PlacesFile{CSV: text})
	require.NoError(t, err)
	s.ask(http.MethodPost, "/owners/import", string(file), http.StatusOK, &owners)
	require.Len(t, owners, 1)
	assert.Contains(t, s.refused(http.MethodPut, "/owners", `{"owners": [{"prefix": "2001:db8::1/32", "owner": "K", "kind": "ours"}]}`, http.StatusUnprocessableEntity), "2001:db8::/32 is meant")
	assert.Contains(t, s.refused(http.MethodPost, "/owners/import", `{"csv": "203.0.113.0/24,K\n"}`, http.StatusUnprocessableEntity), "line 1: 2 fields instead of three")
	assert.Contains(t, s.refused(http.MethodDelete, "/owners?prefix=gull", "", http.StatusUnprocessableEntity), "is no prefix")
	s.ask(http.MethodDelete, "/owners?prefix="+url.QueryEscape("2001:db8::/32"), "", http.StatusNoContent, nil)
	s.refused(http.MethodDelete, "/owners?prefix="+url.QueryEscape("2001:db8::/32"), "", http.StatusNotFound)
}
