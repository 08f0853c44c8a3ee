package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/people"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

// parted is a service with two agents that have nothing in common: quay at Northquay with fibre, which
// measures to Holm, and gull at Gannet Bay with radio, which measures to Far Skerry.
type parted struct {
	*desk
	hidden    ident.ID          // the path of gull
	runs      map[string]string // of each agent
	forbidden []string          // words that nobody hears who is let in for Northquay or Holm
}

func serveParts(t *testing.T) *parted {
	s := &parted{desk: serveAt(t, func(target string) string {
		return map[string]string{"192.0.2.9": "Holm", "198.51.100.77": "Far Skerry"}[target]
	}), runs: map[string]string{}}
	ctx := t.Context()
	require.NoError(t, s.c.AddAgent(ctx, store.Agent{Name: "gull", Site: "Gannet Bay", Labels: "radio", Kind: "simulated"}, func(ident.ID) (protocol.Worker, error) { return worker{s.c}, nil }))
	w, err := s.c.Watches.Save(ctx, ident.ID{}, "skerries", watches.Spec{From: []string{"gull"}, To: []string{"198.51.100.77"}}, false)
	require.NoError(t, err)
	s.hidden = w.Paths[0]
	gull, err := s.c.Fleet.Named("gull")
	require.NoError(t, err)
	u := protocol.Upload{Agent: gull.ID}
	for ago := 120; ago > 0; ago-- {
		u.Readings = append(u.Readings, minute(s.hidden, time.Now().Truncate(time.Minute).Add(-time.Duration(ago)*time.Minute), 0))
	}
	require.NoError(t, s.c.Upload(ctx, u))
	for agent, to := range map[string]string{"quay": "192.0.2.9", "gull": "198.51.100.77"} {
		var list []apitype.Run
		s.ask(http.MethodPost, "/runs", fmt.Sprintf(`{"kind":"trace","from":%q,"to":[%q]}`, agent, to), http.StatusAccepted, &list)
		s.runs[agent] = list[0].ID
	}
	s.forbidden = []string{"gull", "198.51.100.77", "Gannet", "Skerry", "skerries", "radio", s.hidden.String(), gull.ID.String(), w.ID.String(), s.runs["gull"]}
	return s
}

// keyFor lets somebody in for a part, and makes a token of theirs.
func (s *parted) keyFor(name, role, scope string) string {
	s.ask(http.MethodPost, "/people", fmt.Sprintf(`{"name":%q,"role":%q,"scope":%s}`, name, role, scope), http.StatusCreated, nil)
	s.welcomed(s.welcomeLink(name), phrase, http.StatusNoContent)
	return s.tokenFor(name, role).Key
}

func (s *parted) by(key, method, path, body string) (int, string) {
	answer, text := s.call(method, "/api/v1"+path, body, "Authorization", "Bearer "+key)
	return answer.StatusCode, text
}

// TestWhoIsLetInForAPart hears of nothing else, by no call that reads; and by any of the ways in which
// a part is named.
func TestWhoIsLetInForAPart(t *testing.T) {
	s := serveParts(t)
	document, err := api.Document("test")
	require.NoError(t, err)
	var d struct {
		Paths map[string]map[string]struct {
			ID       string `json:"operationId"`
			ForParts bool   `json:"x-for-parts"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(document, &d))
	for scope, agents := range map[string][]string{
		`{"sites":["northquay"]}`:                        {"quay"},
		`{"labels":["Fibre"]}`:                           {"quay"},
		`{"sites":["Holm"]}`:                             nil, // the far end only
		`{"sites":["Holm"],"labels":["main","no such"]}`: {"quay"},
	} {
		name := fmt.Sprintf("p%d", len(s.c.People.All()))
		key := s.keyFor(name, "engineer", scope)
		heard := 0
		for place, ops := range d.Paths {
			op := ops["get"]
			if !op.ForParts || op.ID == "listen" {
				continue
			}
			for _, ids := range []struct {
				path, run, watch, agent string
				there                   bool
			}{{s.path.String(), s.runs["quay"], "holm", "quay", true}, {s.hidden.String(), s.runs["gull"], "skerries", "gull", false}} {
				at := strings.NewReplacer("/paths/{id}", "/paths/"+ids.path, "/runs/{id}", "/runs/"+ids.run, "/traces/{id}", "/traces/"+ids.run, "/sweeps/{id}", "/sweeps/"+ids.run, "/two-ended/{id}", "/two-ended/"+ids.run, "{objective}", "voice", "{watch}", ids.watch, "{name}", ids.agent).Replace(strings.TrimPrefix(place, "/api/v1"))
				require.NotContains(t, at, "{")
				query := ""
				if op.ID == "compare" {
					query = fmt.Sprintf("?a_path=%s&b_path=%s&a_from=%s&b_from=%[3]s", ids.path, ids.path, time.Now().Add(-time.Hour).UTC().Format(time.RFC3339))
				}
				status, text := s.by(key, http.MethodGet, at+query, "")
				assert.Less(t, status, 500, "%s: %s", at, text)
				for _, word := range s.forbidden {
					if !strings.Contains(at, word) && query == "" { // who asks for it by name hears that name again
						assert.NotContains(t, text, word, "%s of %s", op.ID, scope)
					}
				}
				if !ids.there && op.ID != "get-objective" && (at != strings.TrimPrefix(place, "/api/v1") || query != "") {
					assert.Equal(t, http.StatusNotFound, status, "%s: %s", at, text)
				}
				if ids.there && status < 300 {
					heard++
				}
			}
		}
		assert.Greater(t, heard, 20, "most calls say something of the part")
		_, text := s.by(key, http.MethodGet, "/paths?all=true", "")
		assert.Contains(t, text, s.path.String(), scope)
		assert.Contains(t, text, `"total":1`)
		var list []apitype.Agent
		_, text = s.by(key, http.MethodGet, "/agents", "")
		require.NoError(t, json.Unmarshal([]byte(text), &list))
		assert.Len(t, list, len(agents), scope)
		_, text = s.by(key, http.MethodGet, "/export/readings", "")
		assert.Contains(t, text, `"readings":120`, "those of its path, and all of them")
		for _, list := range []string{"/runs?watch=skerries", "/runs?from=gull", "/sweeps?watch=skerries", "/traces?from=gull", "/two-ended?from=gull"} {
			status, text := s.by(key, http.MethodGet, list, "")
			assert.Equal(t, http.StatusNotFound, status, "%s: %s", list, text)
			_, none := s.by(key, http.MethodGet, strings.NewReplacer("gull", "nobody", "skerries", "nobody").Replace(list), "")
			assert.Equal(t, none, strings.NewReplacer("gull", "nobody", "skerries", "nobody").Replace(text), list)
		}
		_, text = s.by(key, http.MethodGet, "/paths/sketches?ids="+s.path.String()+","+s.hidden.String(), "")
		assert.Contains(t, text, s.path.String(), scope)
		assert.NotContains(t, text, s.hidden.String(), scope)
		// The same words as of what there is not.
		_, none := s.by(key, http.MethodGet, "/paths/"+ident.ID{1}.String(), "")
		_, hides := s.by(key, http.MethodGet, "/paths/"+s.hidden.String(), "")
		assert.Equal(t, strings.ReplaceAll(none, ident.ID{1}.String(), "X"), strings.ReplaceAll(hides, s.hidden.String(), "X"))
		_, none = s.by(key, http.MethodGet, "/runs/"+ident.ID{1}.String(), "")
		_, hides = s.by(key, http.MethodGet, "/runs/"+s.runs["gull"], "")
		assert.Equal(t, strings.ReplaceAll(none, ident.ID{1}.String(), "X"), strings.ReplaceAll(hides, s.runs["gull"], "X"))
	}
	// Both scopes bind: that of the person and that of the token.
	s.keyFor("two", "viewer", `{"sites":["Northquay","Gannet Bay"]}`)
	var made apitype.Token
	s.ask(http.MethodPost, "/tokens", `{"person":"two","title":"t","scope":{"labels":["radio"]}}`, http.StatusCreated, &made)
	_, text := s.by(made.Key, http.MethodGet, "/paths", "")
	assert.Contains(t, text, s.hidden.String())
	assert.NotContains(t, text, s.path.String())
	status, text := s.by(made.Key, http.MethodPost, "/tokens", `{"title":"more"}`)
	assert.Equal(t, http.StatusForbidden, status, text)
	answer, text := s.call(http.MethodGet, "/metrics", "", "Authorization", "Bearer "+made.Key)
	assert.Equal(t, http.StatusForbidden, answer.StatusCode, text)
}

// TestWhoIsLetInForAPartMeasures from what is in it, and from nothing else: by no word that means
// more, now or later.
func TestWhoIsLetInForAPartMeasures(t *testing.T) {
	s := serveParts(t)
	key := s.keyFor("north", "engineer", `{"sites":["Northquay"],"labels":["fibre"]}`)
	for body, want := range map[string]int{
		`{"name":"a","from":["quay"],"to":["198.51.100.9"]}`:                      http.StatusCreated,
		`{"name":"b","from":["site:Northquay","label:fibre"],"to":["192.0.2.8"]}`: http.StatusCreated,
		`{"name":"c","from":["gull"],"to":["192.0.2.8"]}`:                         http.StatusForbidden,
		`{"name":"c","from":["quay","gull"],"to":["192.0.2.8"]}`:                  http.StatusForbidden,
		`{"name":"c","from":["site:Gannet Bay"],"to":["192.0.2.8"]}`:              http.StatusForbidden,
		`{"name":"c","from":["label:main"],"to":["192.0.2.8"]}`:                   http.StatusForbidden, // who else has it some day
		`{"name":"c","from":["quay"],"to":["gull"],"and_back":true}`:              http.StatusForbidden,
		`{"name":"c","from":["nobody"],"to":["192.0.2.8"]}`:                       http.StatusForbidden,
		`{"name":"skerries","from":["quay"],"to":["192.0.2.8"]}`:                  http.StatusConflict,
	} {
		status, text := s.by(key, http.MethodPost, "/watches", body)
		assert.Equal(t, want, status, "%s: %s", body, text)
		if name := `"name":"skerries"`; want != http.StatusCreated || strings.Contains(body, name) {
			status, text = s.by(key, http.MethodPost, "/watches/apply", `{"watches":[`+body+`]}`)
			assert.Equal(t, want, status, "%s: %s", body, text)
		}
	}
	for _, call := range [][2]string{{http.MethodPut, `{"name":"skerries","from":["quay"],"to":["192.0.2.8"]}`}, {http.MethodPatch, `{"paused":true}`}, {http.MethodDelete, ""}} {
		status, text := s.by(key, call[0], "/watches/skerries", call[1])
		assert.Equal(t, http.StatusNotFound, status, "%s: %s", call[0], text)
	}
	status, text := s.by(key, http.MethodPut, "/watches/a", `{"name":"a","from":["gull"],"to":["192.0.2.8"]}`)
	assert.Equal(t, http.StatusForbidden, status, text)
	assert.Contains(t, text, "no agent gull in what north is let in for: the site Northquay and the label fibre")
	w, err := s.c.Watches.Find("skerries")
	require.NoError(t, err)
	assert.False(t, w.Paused)

	status, text = s.by(key, http.MethodPost, "/runs", `{"from":"quay","to":["198.51.100.77"]}`)
	assert.Equal(t, http.StatusAccepted, status, text)
	status, text = s.by(key, http.MethodPost, "/runs", `{"from":"gull","to":["192.0.2.9"]}`)
	assert.Equal(t, http.StatusForbidden, status, text)
	status, _ = s.by(key, http.MethodDelete, "/runs/"+s.runs["gull"], "")
	assert.Equal(t, http.StatusNotFound, status)
	// By the far end alone a run is seen, and not ended.
	far := s.keyFor("far", "engineer", `{"sites":["Holm"]}`)
	var list []apitype.Run
	s.ask(http.MethodPost, "/runs", `{"kind":"ping","from":"quay","to":["192.0.2.9"]}`, http.StatusAccepted, &list)
	status, text = s.by(far, http.MethodGet, "/runs/"+list[0].ID, "")
	assert.Equal(t, http.StatusOK, status, text)
	status, text = s.by(far, http.MethodDelete, "/runs/"+list[0].ID, "")
	assert.Equal(t, http.StatusForbidden, status, text)
}

// TestScopesThatCannotBe are refused by name; one that cannot be read shows nothing; and who is let in
// for something else from now on is let go.
func TestScopesThatCannotBe(t *testing.T) {
	s := serveParts(t)
	for scope, says := range map[string]string{`{"sites":[""]}`: "no site", `{"labels":["a,b"]}`: "no label", `{"towns":["Holm"]}`: "unexpected", `{"sites":["a\nb"]}`: "no site"} {
		status, text := s.by(token, http.MethodPost, "/people", fmt.Sprintf(`{"name":"x","role":"viewer","scope":%s}`, scope))
		assert.Equal(t, http.StatusUnprocessableEntity, status, scope)
		assert.Contains(t, text, says, scope)
	}
	status, text := s.by(token, http.MethodPost, "/people", `{"name":"x","role":"administrator","scope":{"sites":["Holm"]}}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, text, "an administrator is one of everything")
	key := s.keyFor("north", "viewer", `{"sites":["Northquay"]}`)
	status, text = s.by(token, http.MethodPatch, "/people/north", `{"role":"administrator"}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status, text)
	var p apitype.Person
	s.ask(http.MethodPatch, "/people/north", `{"scope":{}}`, http.StatusOK, &p)
	assert.Nil(t, p.Scope)
	_, text = s.by(key, http.MethodGet, "/paths", "")
	assert.Contains(t, text, s.hidden.String(), "let in for everything from now on")
	s.ask(http.MethodPatch, "/people/north", `{"scope":{"labels":["radio"]}}`, http.StatusOK, &p)
	assert.Equal(t, &apitype.Scope{Labels: []string{"radio"}}, p.Scope)
	var me apitype.Me
	_, text = s.by(key, http.MethodGet, "/session", "")
	require.NoError(t, json.Unmarshal([]byte(text), &me))
	assert.Equal(t, "the label radio", me.Scope)
	assert.Contains(t, me.May, "list-paths")
	assert.NotContains(t, me.May, "add-watch", "a viewer")
	assert.NotContains(t, me.May, "list-rules", "about everything")

	rows, err := s.c.Store.People(t.Context())
	require.NoError(t, err)
	for _, r := range rows {
		r.Scope = `{"provinces":["North"]}` // as a later release may have it
		require.NoError(t, s.c.Store.SavePerson(t.Context(), r))
	}
	require.NoError(t, s.c.People.Load(t.Context()))
	_, text = s.by(key, http.MethodGet, "/paths?all=true", "")
	assert.Contains(t, text, `"total":0`)

	// A stream that is open hears of the part, and ends when that becomes another.
	scope, err := people.ReadScope([]string{"Northquay"}, nil)
	require.NoError(t, err)
	_, err = s.c.People.Alter(t.Context(), rows[0].ID, people.Change{Scope: &scope})
	require.NoError(t, err)
	heard := s.listenBy(key)
	gull, err := s.c.Fleet.Named("gull")
	require.NoError(t, err)
	quay, err := s.c.Fleet.Named("quay")
	require.NoError(t, err)
	require.NoError(t, s.c.Upload(t.Context(), protocol.Upload{Agent: gull.ID, Readings: []protocol.Record{minute(s.hidden, time.Now().Truncate(time.Minute), 0)}}))
	require.NoError(t, s.c.Upload(t.Context(), protocol.Upload{Agent: quay.ID, Readings: []protocol.Record{minute(s.path, time.Now().Truncate(time.Minute), 0)}}))
	var all strings.Builder
	for line := range heard {
		all.WriteString(line)
		if strings.Contains(line, s.path.String()) {
			_, err = s.c.People.Alter(t.Context(), rows[0].ID, people.Change{Scope: &people.Scope{}})
			require.NoError(t, err)
		}
	}
	assert.Contains(t, all.String(), s.path.String())
	for _, word := range s.forbidden {
		assert.NotContains(t, all.String(), word)
	}
}

// listenBy are the lines of an event stream, until it ends.
func (s *parted) listenBy(key string) <-chan string {
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodGet, s.web.URL+"/api/v1/events", nil)
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+key)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	require.Equal(s.t, http.StatusOK, answer.StatusCode)
	lines := make(chan string)
	go func() { // ends with the stream
		defer close(lines)
		defer answer.Body.Close()
		for in := bufio.NewScanner(answer.Body); in.Scan(); {
			lines <- in.Text()
		}
	}()
	return lines
}
