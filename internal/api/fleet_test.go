package api_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"net/http"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/store"
)

// asAgent calls what agents call, with a key.
func (s *desk) asAgent(method, path, key string, in any, more ...string) *http.Response {
	s.t.Helper()
	var b bytes.Buffer
	if in != nil {
		packed := gzip.NewWriter(&b)
		require.NoError(s.t, json.NewEncoder(packed).Encode(in))
		require.NoError(s.t, packed.Close())
	}
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.web.URL+"/api/v1/agent"+path, &b)
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+key)
	r.Header.Set("Content-Encoding", "gzip")
	r.Header.Set(protocol.VersionHeader, strconv.Itoa(protocol.Version))
	for i := 0; i+1 < len(more); i += 2 {
		r.Header.Set(more[i], more[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = answer.Body.Close() })
	return answer
}

func TestAnAgentOverHTTP(t *testing.T) {
	s := serve(t)
	var invite apitype.Invite
	s.ask(http.MethodPost, "/agents/invites", `{"site": "Holm", "lasts": "2h"}`, http.StatusCreated, &invite)
	assert.Contains(t, invite.Command, "-invite "+invite.Code)
	assert.WithinDuration(t, time.Now().Add(2*time.Hour), invite.EndsAt, time.Minute)
	s.ask(http.MethodPost, "/agents/invites", `{"lasts": "gulls"}`, http.StatusUnprocessableEntity, nil)
	s.ask(http.MethodPost, "/agents/invites", `{"name": "<b>"}`, http.StatusUnprocessableEntity, nil)

	assert.Equal(t, http.StatusForbidden, s.asAgent(http.MethodPost, "/join", "", remote.JoinRequest{Code: "gull", Name: "pier"}).StatusCode)
	answer := s.asAgent(http.MethodPost, "/join", "", remote.JoinRequest{Code: invite.Code, Name: "pier", Version: "9"})
	require.Equal(t, http.StatusOK, answer.StatusCode)
	var me remote.JoinAnswer
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&me))
	assert.Equal(t, "Holm", me.Site)
	assert.Equal(t, http.StatusForbidden, s.asAgent(http.MethodPost, "/join", "", remote.JoinRequest{Code: invite.Code, Name: "pier2"}).StatusCode)

	for _, path := range []string{"/plan", "/commands"} {
		assert.Equal(t, http.StatusUnauthorized, s.asAgent(http.MethodGet, path, "another", nil).StatusCode)
	}
	fetched := s.asAgent(http.MethodGet, "/plan", me.Key, nil)
	require.Equal(t, http.StatusOK, fetched.StatusCode)
	tag := fetched.Header.Get("ETag")
	assert.NotEmpty(t, tag)
	assert.Equal(t, http.StatusNotModified, s.asAgent(http.MethodGet, "/plan", me.Key, nil, "If-None-Match", tag).StatusCode)
	s.ask(http.MethodPost, "/watches", `{"name": "pier", "from": ["pier"], "to": ["192.0.2.77"]}`, http.StatusCreated, nil)
	anew := s.asAgent(http.MethodGet, "/plan", me.Key, nil, "If-None-Match", tag)
	require.Equal(t, http.StatusOK, anew.StatusCode, "another plan has another tag")
	var p protocol.Plan
	require.NoError(t, json.NewDecoder(anew.Body).Decode(&p))
	require.Len(t, p.Tasks, 1)
	assert.Equal(t, "192.0.2.77", p.Tasks[0].Target)

	// One of the release before gets its tasks as it knows them, and people are told once.
	old := s.asAgent(http.MethodGet, "/plan", me.Key, nil, protocol.VersionHeader, "")
	require.Equal(t, http.StatusOK, old.StatusCode)
	assert.Equal(t, strconv.Itoa(protocol.Version), old.Header.Get(protocol.VersionHeader))
	var first struct {
		Tasks []struct{ Via struct{ Kind, Port int } } `json:"tasks"`
	}
	require.NoError(t, json.NewDecoder(old.Body).Decode(&first))
	assert.Len(t, first.Tasks, 1)
	notices := func(kind string) (n int) {
		for _, x := range get[[]apitype.Notice](s, "/notices") {
			if x.Kind == kind {
				n++
			}
		}
		return n
	}
	s.asAgent(http.MethodGet, "/plan", me.Key, nil, protocol.VersionHeader, "")
	assert.Equal(t, 1, notices("agent_older"))
	s.asAgent(http.MethodGet, "/plan", me.Key, nil, protocol.VersionHeader, "99")
	assert.Equal(t, 1, notices("agent_newer"))

	// What it uploads counts once, and only of its own paths.
	u := protocol.Upload{Agent: ident.New(), Readings: []protocol.Record{minute(p.Tasks[0].Path, time.Now().Truncate(time.Minute).Add(-time.Minute), 3)}}
	for range 2 {
		assert.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/uploads", me.Key, u).StatusCode)
	}
	list, err := s.c.Store.Readings(t.Context(), p.Tasks[0].Path, time.Now().Add(-time.Hour), time.Now(), 100, false)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	u.Readings[0].Path = s.path
	assert.Equal(t, http.StatusUnprocessableEntity, s.asAgent(http.MethodPost, "/uploads", me.Key, u).StatusCode)
	broken := s.asAgent(http.MethodPost, "/uploads", me.Key, u, "Content-Encoding", "")
	assert.Equal(t, http.StatusBadRequest, broken.StatusCode)

	assert.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/health", me.Key, protocol.Health{Version: "9", Responder: "192.0.2.7:7474", HeldBack: 2}).StatusCode)
	assert.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/replies", me.Key, []protocol.Reply{{Command: ident.New(), Last: true}}).StatusCode)
	agents := get[[]apitype.Agent](s, "/agents")
	require.Len(t, agents, 2)
	pier := agents[0]
	assert.Equal(t, "pier", pier.Name)
	assert.Equal(t, "remote", pier.Kind)
	assert.False(t, pier.Alive)
	assert.NotNil(t, pier.LostAt)
	assert.Equal(t, 2, pier.Health.HeldBack)
	s.ask(http.MethodDelete, "/agents/quay", "", http.StatusUnprocessableEntity, nil)
	s.ask(http.MethodDelete, "/agents/pier", "", http.StatusNoContent, nil)
	assert.Equal(t, http.StatusUnauthorized, s.asAgent(http.MethodGet, "/plan", me.Key, nil).StatusCode)
}

func TestTwoEndsOverHTTP(t *testing.T) {
	s := serve(t)
	require.NoError(t, s.c.AddAgent(t.Context(), store.Agent{Name: "holm", Site: "Holm", Kind: "simulated"}, func(ident.ID) (protocol.Worker, error) { return worker{s.c}, nil }))
	var x apitype.TwoEnded
	s.ask(http.MethodPost, "/two-ended", `{"kind": "stream", "from": "quay", "to": "holm", "for": "1s", "request": {"codec": "g711"}}`, http.StatusAccepted, &x)
	assert.Contains(t, []string{"running", "done"}, x.Outcome, "it may be over before its answer is written")
	require.Eventually(t, func() bool { x = get[apitype.TwoEnded](s, "/two-ended/"+x.ID); return x.Outcome != "running" }, time.Minute, 5*time.Millisecond)
	assert.Equal(t, "done", x.Outcome)
	require.NotNil(t, x.Stream)
	assert.Equal(t, "holm", x.Stream.Target)
	assert.Nil(t, x.Through)
	list := get[[]apitype.TwoEnded](s, "/two-ended?kind=stream&from=quay&to=holm")
	require.Len(t, list, 1)
	assert.Nil(t, list[0].Stream, "lists leave it out")
	assert.InDelta(t, 4.2, *list[0].MOS, 1e-9)
	assert.Empty(t, get[[]apitype.TwoEnded](s, "/two-ended?kind=throughput"))
	s.ask(http.MethodPost, "/two-ended", `{"kind": "stream", "from": "quay", "to": "192.0.2.7", "for": "1s", "request": {"reflector": true}}`, http.StatusAccepted, &x)
	assert.Equal(t, "192.0.2.7:862", x.To, "STAMP's own port, and no key")
	for _, bad := range []string{
		`{"kind": "stream", "from": "quay", "to": "quay"}`, `{"kind": "stream", "from": "gull", "to": "holm"}`, `{"kind": "stream", "from": "quay", "to": "holm", "for": "gulls"}`,
		`{"kind": "stream", "from": "quay", "to": "holm", "request": {"codec": "speex"}}`, `{"kind": "throughput", "from": "quay", "to": "holm", "request": {"protocol": "sctp"}}`,
		`{"kind": "throughput", "from": "quay", "to": "192.0.2.7", "request": {"reflector": true}}`, `{"kind": "stream", "from": "quay", "to": "192.0.2.7", "request": {"reflector": true, "codec": "g711"}}`,
		`{"kind": "stream", "from": "quay", "to": "192.0.2.7", "request": {"reflector": true, "interval": 1000}}`,
		`{"kind": "stream", "from": "quay", "to": "192.0.2.7", "request": {"reflector": true, "payload_bytes": 5}}`,
		`{"kind": "stream", "from": "quay", "to": "holm", "request": {"plain": true}}`, `{"kind": "stream", "from": "quay", "to": "holm", "request": {"family": 5}}`,
		`{"kind": "throughput", "from": "quay", "to": "holm", "request": {"warm_up": -1}}`, `{"kind": "throughput", "from": "quay", "to": "holm", "request": {"protocol": "udp", "bytes": 5}}`,
		`{"kind": "stream", "from": "quay", "to": "holm", "dscp": "gull"}`, `{"kind": "gulls", "from": "quay", "to": "holm"}`, `{"kind": "stream", "from": "quay", "to": "192.0.2.7:7474"}`,
	} {
		s.ask(http.MethodPost, "/two-ended", bad, http.StatusUnprocessableEntity, nil)
	}
	s.ask(http.MethodGet, "/two-ended/"+ident.New().String(), "", http.StatusNotFound, nil)
	s.ask(http.MethodDelete, "/two-ended/"+x.ID, "", http.StatusNotFound, nil)

	var w apitype.Watch
	s.ask(http.MethodPost, "/watches", `{"name": "calls", "kind": "stream", "from": ["quay"], "to": ["holm"], "every": "15m", "for": "10s", "codec": "g711", "buffer": "adaptive"}`, http.StatusCreated, &w)
	assert.JSONEq(t, `"adaptive"`, string(w.How["buffer"]))
	assert.Equal(t, "stream", w.Kind)
	assert.JSONEq(t, `"10s"`, string(w.How["for"]))
	assert.NotNil(t, w.NextDueAt)
	s.ask(http.MethodPost, "/watches", `{"name": "most", "kind": "throughput", "from": ["quay"], "to": ["holm"], "every": "6h", "for": "5s", "protocol": "udp", "rate_bps": 5e7, "search": true, "repeats": 3}`, http.StatusCreated, &w)
	assert.JSONEq(t, "true", string(w.How["search"]), "a search stays one, and is no load of 50 Mbit/s")
	assert.JSONEq(t, "3", string(w.How["repeats"]))
	for _, bad := range []string{
		`{"name": "a", "kind": "throughput", "from": ["quay"], "to": ["holm"]}`, `{"name": "b", "kind": "throughput", "from": ["quay"], "to": ["holm"], "every": "1m"}`,
		`{"name": "c", "kind": "stream", "from": ["quay"], "to": ["holm"], "every": "5m", "for": "4m"}`, `{"name": "d", "kind": "stream", "from": ["quay"], "to": ["holm"], "every": "15m", "codec": "speex"}`,
		`{"name": "e", "kind": "stream", "from": ["quay"], "to": ["holm"], "every": "15m", "codec": "g711", "buffer": "gull"}`,
		`{"name": "f", "kind": "throughput", "from": ["quay"], "to": ["holm"], "every": "5m", "for": "1m", "repeats": 3}`,
	} {
		s.ask(http.MethodPost, "/watches", bad, http.StatusUnprocessableEntity, nil)
	}
}
