package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/dossier"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/reports"
	"woodlark.example/internal/store"
)

// TestReportsOverHTTP: the model as JSON, and files that a browser shows by themselves: they
// fetch nothing and run nothing.
func TestReportsOverHTTP(t *testing.T) {
	s := serve(t)
	var r reports.Period
	s.ask(http.MethodGet, "/reports/period?objective=voice", "", http.StatusOK, &r)
	assert.Equal(t, 1, r.Watched)
	require.Len(t, r.Paths, 1)
	assert.Equal(t, s.path.String(), r.Paths[0].Path)
	assert.InDelta(t, 1, *r.Paths[0].Availability, 1e-9)
	for format, kind := range reports.Formats() {
		answer, text := s.call(http.MethodGet, "/api/v1/reports/period/file?format="+format+"&title=A+week", "")
		assert.Equal(t, http.StatusOK, answer.StatusCode, format)
		assert.Equal(t, kind, answer.Header.Get("Content-Type"))
		assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "sandbox")
		assert.Contains(t, answer.Header.Get("Content-Disposition"), "inline; filename=\"degraded-paths-")
		assert.NotEmpty(t, text)
		if format != "csv" && format != "pdf" {
			assert.Contains(t, text, "A week")
		}
	}
	for query, says := range map[string]string{
		"format=docx": "expected value to be one of", "objective=gull": "there is no objective", "from_at=2026-01-02T00:00:00Z&to_at=2026-01-01T00:00:00Z": "is not before", "from_at=2020-01-01T00:00:00Z": "of up to 93 days", "title=" + strings.Repeat("x", 300): "length", "colour=red": "no query key colour",
	} {
		answer, text := s.call(http.MethodGet, "/api/v1/reports/period/file?"+query, "")
		assert.GreaterOrEqual(t, answer.StatusCode, 400, query)
		assert.Less(t, answer.StatusCode, 500, query)
		assert.Contains(t, text, says, query)
	}
}

// TestDossiersOverHTTP: what comes is whole, and what cannot be is told instead of half a file.
func TestDossiersOverHTTP(t *testing.T) {
	s := serve(t)
	answer, text := s.call(http.MethodGet, "/api/v1/dossiers/file?path_ids="+s.path.String(), "")
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	assert.Equal(t, "application/zip", answer.Header.Get("Content-Type"))
	v, err := dossier.Check(strings.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	assert.Empty(t, v.Wrong)
	var key apitype.DossierKey
	s.ask(http.MethodGet, "/dossiers/key", "", http.StatusOK, &key)
	assert.Equal(t, key.Fingerprint, v.Fingerprint)
	for query, status := range map[string]int{"": 422, "tags=gulls": 422, "path_ids=gull": 422, "path_ids=" + ident.New().String(): 404, "path_ids=" + s.path.String() + "&objective=gull": 422, "tags=islands&mask=maybe": 422} {
		answer, text := s.call(http.MethodGet, "/api/v1/dossiers/file?"+query, "")
		assert.Equal(t, status, answer.StatusCode, "%s: %s", query, text)
		assert.Contains(t, answer.Header.Get("Content-Type"), "application/problem+json")
	}
}

// TestAnnotationsOverHTTP stand in the series of their path, and are found by time.
func TestAnnotationsOverHTTP(t *testing.T) {
	s := serve(t)
	at := time.Now().Add(-30 * time.Minute).UTC().Truncate(time.Second)
	var kept, ofAll apitype.Annotation
	s.ask(http.MethodPost, "/annotations", fmt.Sprintf(`{"path_id": %q, "at": %q, "until_at": %q, "text": "mast being painted", "author": "Mara"}`, s.path, at.Format(time.RFC3339), at.Add(10*time.Minute).Format(time.RFC3339)), http.StatusCreated, &kept)
	s.ask(http.MethodPost, "/annotations", fmt.Sprintf(`{"at": %q, "text": "power test"}`, at.Format(time.RFC3339)), http.StatusCreated, &ofAll)
	assert.Equal(t, "quay", kept.From)
	assert.Equal(t, "192.0.2.9", kept.To)
	assert.Equal(t, "administrator from 127.0.0.1", ofAll.Author)
	var series apitype.Series
	s.ask(http.MethodGet, "/paths/"+s.path.String()+"/series", "", http.StatusOK, &series)
	require.Len(t, series.Annotations, 2)
	assert.Equal(t, at.Add(10*time.Minute), *kept.Until)
	var list []apitype.Annotation
	s.ask(http.MethodGet, "/annotations?to_at="+at.Add(-time.Hour).Format(time.RFC3339)+"&from_at="+at.Add(-2*time.Hour).Format(time.RFC3339), "", http.StatusOK, &list)
	assert.Empty(t, list)
	s.ask(http.MethodGet, "/annotations?path_id="+s.path.String(), "", http.StatusOK, &list)
	assert.Len(t, list, 2)
	for body, says := range map[string]string{
		`{"at": "2026-01-01T00:00:00Z"}`: "text", `{"text": "x"}`: "at", `{"text": "x", "at": "yesterday"}`: "at", `{"text": "x", "at": "2026-01-01T00:00:00Z", "until_at": "2025-01-01T00:00:00Z"}`: "not within a year", `{"text": "x", "at": "2026-01-01T00:00:00Z", "path_id": "gull"}`: "gull", `{"text": "x", "at": "2026-01-01T00:00:00Z", "colour": "red"}`: "colour",
	} {
		assert.Contains(t, s.refused(http.MethodPost, "/annotations", body, http.StatusUnprocessableEntity), says, body)
	}
	answer, _ := s.call(http.MethodPost, "/api/v1/annotations", `{"at": "2026-01-01T00:00:00Z", "text": "`+strings.Repeat("x", 10<<20)+`"}`)
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
	s.ask(http.MethodDelete, "/annotations/"+kept.ID, "", http.StatusNoContent, nil)
	s.refused(http.MethodDelete, "/annotations/"+kept.ID, "", http.StatusNotFound)
}

// TestChannelsKeepTheirSecrets: they are taken and never given back, neither in lists nor in the
// record of changes; and what is not said again on saving is not kept.
func TestChannelsKeepTheirSecrets(t *testing.T) {
	s := serve(t)
	var c apitype.Channel
	s.ask(http.MethodPost, "/channels", `{"name": "letters", "type": "mail", "settings": {"server": "127.0.0.1:2525", "from": "a@northquay.example", "to": ["b@northquay.example"], "user": "u", "password": "s3cret-of-the-desk"}}`, http.StatusCreated, &c)
	assert.Equal(t, []string{"password"}, c.Hidden)
	for _, path := range []string{"/channels", "/changes", "/channels"} {
		_, text := s.call(http.MethodGet, "/api/v1"+path, "")
		assert.NotContains(t, text, "s3cret", path)
	}
	var types []apitype.ChannelType
	s.ask(http.MethodGet, "/channel-types", "", http.StatusOK, &types)
	require.Len(t, types, 3)
	var rule apitype.Rule
	s.ask(http.MethodPost, "/rules", `{"name": "all", "channel": "letters", "report": {"every": "monthly", "formats": ["html"]}, "zone": "Europe/Dublin"}`, http.StatusCreated, &rule)
	assert.Equal(t, "monthly", rule.Report.Every)
	for body, says := range map[string]string{
		`{"name": "x", "channel": "gull"}`: "not found", `{"name": "", "channel": "letters"}`: "name", `{"name": "x", "channel": "letters", "report": {"every": "hourly"}}`: "expected value to be one of", `{"name": "x", "channel": "letters", "remind": "1s"}`: "sooner than", `{"name": "x", "channel": "letters", "states": ["sad"]}`: "states", `{"name": "x", "channel": "letters", "report": {"every": "daily"}, "incidents_only": true}`: "only the channel",
	} {
		assert.Contains(t, s.refused(http.MethodPost, "/rules", body, http.StatusUnprocessableEntity), says, body)
	}
	assert.Contains(t, s.refused(http.MethodPost, "/channels", `{"name": "x", "type": "mail", "settings": {"colour": "red"}}`, http.StatusUnprocessableEntity), "colour")
	assert.Contains(t, s.refused(http.MethodDelete, "/channels/letters", "", http.StatusUnprocessableEntity), "leads to")
	s.refused(http.MethodPost, "/channels/gull/test", "", http.StatusNotFound)
	s.ask(http.MethodDelete, "/rules/all", "", http.StatusNoContent, nil)
	s.ask(http.MethodDelete, "/channels/letters", "", http.StatusNoContent, nil)
}

// TestMessagesOverHTTP page, newest first, by rule and state.
func TestMessagesOverHTTP(t *testing.T) {
	s := serve(t)
	s.ask(http.MethodPost, "/channels", `{"name": "desk", "type": "webhook", "settings": {"url": "http://127.0.0.1:9/"}}`, http.StatusCreated, nil)
	s.ask(http.MethodPost, "/rules", `{"name": "all", "channel": "desk"}`, http.StatusCreated, nil)
	r, err := s.c.Notify.Rule("all")
	require.NoError(t, err)
	c, err := s.c.Notify.Channel("desk")
	require.NoError(t, err)
	begin := time.Now().Add(-time.Hour).UTC().Truncate(time.Millisecond)
	var list []store.Message
	for i := range 25 {
		m := store.Message{ID: ident.New(), RuleID: r.ID, ChannelID: c.ID, Subject: ident.New(), What: "opened", At: begin.Add(time.Duration(i) * time.Second), DueAt: begin.Add(24 * time.Hour), State: store.Delivered, Title: fmt.Sprintf("message %d", i), Body: `{"text": "as told", "data": {"n": 1}}`}
		if i%5 == 0 {
			m.State, m.Tries, m.Error = store.Waiting, 2, "it said 500"
		}
		list = append(list, m)
	}
	require.NoError(t, s.c.Store.Route(t.Context(), list, nil))
	var titles []string
	path := "/api/v1/messages?limit=10"
	for range 4 {
		answer, text := s.call(http.MethodGet, path, "")
		require.Equal(t, http.StatusOK, answer.StatusCode, text)
		var page []apitype.Message
		require.NoError(t, json.NewDecoder(bytes.NewReader([]byte(text))).Decode(&page))
		for _, m := range page {
			titles = append(titles, m.Title)
			assert.Equal(t, "as told", m.Text)
			assert.JSONEq(t, `{"n": 1}`, string(m.Data))
			assert.Equal(t, m.State == store.Waiting, m.NextAt != nil)
		}
		next := answer.Header.Get("Link")
		if next == "" {
			break
		}
		path = "/api/v1/messages" + next[strings.Index(next, "<")+1:strings.Index(next, ">")]
	}
	require.Len(t, titles, 25, "each once")
	assert.Equal(t, "message 24", titles[0])
	assert.Equal(t, "message 0", titles[24])
	var waiting []apitype.Message
	s.ask(http.MethodGet, "/messages?state=waiting&rule=all", "", http.StatusOK, &waiting)
	assert.Len(t, waiting, 5)
	assert.Equal(t, "it said 500", waiting[0].Error)
	s.refused(http.MethodGet, "/messages?rule=gull", "", http.StatusNotFound)
	s.refused(http.MethodGet, "/messages?state=sad", "", http.StatusUnprocessableEntity)
}
