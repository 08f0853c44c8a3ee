package api_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/signed"
)

// joins has an agent join that signs, and returns how it does.
func (s *desk) joins(name string, public ed25519.PublicKey) remote.JoinAnswer {
	s.t.Helper()
	var invite apitype.Invite
	s.ask(http.MethodPost, "/agents/invites", `{}`, http.StatusCreated, &invite)
	me, err := remote.Join(s.t.Context(), s.web.URL, invite.Code, remote.JoinRequest{Name: name, PublicKey: public}, nil, "")
	require.NoError(s.t, err)
	return me
}

// TestASignedCallIsTakenOnce: what somebody on the way keeps of an agent's calls is good for nothing
// else: not again, not for another call, not with another body, not as somebody else.
func TestASignedCallIsTakenOnce(t *testing.T) {
	s := serve(t)
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	me := s.joins("pier", public)
	assert.Empty(t, me.Key, "there is nothing that could be shown")
	other := s.joins("mole", ed25519.NewKeyFromSeed(bytes.Repeat([]byte{1}, 32)).Public().(ed25519.PublicKey))
	s.ask(http.MethodPost, "/watches", `{"name": "pier", "from": ["pier"], "to": ["192.0.2.77"]}`, http.StatusCreated, nil)

	packed := func(what any) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		require.NoError(t, json.NewEncoder(w).Encode(what))
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	build := func(method, path string, body []byte, as signed.As) *http.Request {
		r, err := http.NewRequestWithContext(t.Context(), method, s.web.URL+"/api/v1/agent"+path, bytes.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Encoding", "gzip")
		require.NoError(t, signed.Sign(r, body, as))
		return r
	}
	send := func(r *http.Request, body []byte) (int, string) {
		r = r.Clone(t.Context())
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(text)
	}
	as := signed.As{ID: me.ID.String(), Key: private, At: time.Now()}
	health := packed(protocol.Health{Version: "9", HeldBack: 2})
	r := build(http.MethodPost, "/health", health, as)
	status, text := send(r, packed(protocol.Health{Version: "9", HeldBack: 3}))
	assert.Equal(t, http.StatusForbidden, status, "another body: %s", text)
	// That one was spent by it, as whoever changed it had it in hand.
	r = build(http.MethodPost, "/health", health, as)
	status, text = send(r, health)
	require.Equal(t, http.StatusNoContent, status, text)
	status, text = send(r, health)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, text, "came before")
	for _, a := range get[[]apitype.Agent](s, "/agents") {
		if a.Name == "pier" {
			assert.Equal(t, 2, a.Health.HeldBack)
		}
	}
	for name, c := range map[string]struct {
		r      *http.Request
		status int
	}{
		"of an hour before": {build(http.MethodPost, "/health", health, signed.As{ID: me.ID.String(), Key: private, At: time.Now().Add(-time.Hour)}), 403},
		"as another":        {build(http.MethodPost, "/health", health, signed.As{ID: other.ID.String(), Key: private, At: time.Now()}), 403},
		"as nobody":         {build(http.MethodPost, "/health", health, signed.As{ID: ident.New().String(), Key: private, At: time.Now()}), 401},
		"as no identifier":  {build(http.MethodPost, "/health", health, signed.As{ID: "pier", Key: private, At: time.Now()}), 401},
		"by another key":    {build(http.MethodPost, "/health", health, signed.As{ID: me.ID.String(), Key: ed25519.NewKeyFromSeed(make([]byte, 32)), At: time.Now()}), 403},
	} {
		status, text := send(c.r, health)
		assert.Equal(t, c.status, status, "%s: %s", name, text)
	}
	moved := build(http.MethodPost, "/health", health, as)
	moved.URL.Path = "/api/v1/agent/replies"
	status, _ = send(moved, health)
	assert.Equal(t, http.StatusForbidden, status, "another call")
	// A signature lets nobody in where people come in, nor the agent's name as a key.
	console := build(http.MethodGet, "/plan", nil, as)
	console.URL.Path = "/api/v1/paths"
	status, _ = send(console, nil)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Equal(t, http.StatusUnauthorized, s.asAgent(http.MethodGet, "/plan", me.ID.String(), nil).StatusCode)

	s.ask(http.MethodDelete, "/agents/pier", "", http.StatusNoContent, nil)
	status, _ = send(build(http.MethodGet, "/plan", nil, as), nil)
	assert.Equal(t, http.StatusUnauthorized, status)
}

// TestAnAgentWhoseClockIsOff signs by the service's clock all the same, as each answer tells it.
func TestAnAgentWhoseClockIsOff(t *testing.T) {
	s := serve(t)
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	me := s.joins("pier", public)
	// Between them stands what makes the service's clock look three hours behind: its answers are
	// dated so, and what is signed by that clock is signed anew by the true one.
	const off = 3 * time.Hour
	to, err := url.Parse(s.web.URL)
	require.NoError(t, err)
	calls := 0
	way := httputil.NewSingleHostReverseProxy(to)
	way.ModifyResponse = func(r *http.Response) error {
		calls++
		r.Header.Set("Date", time.Now().Add(-off).UTC().Format(http.TimeFormat))
		return nil
	}
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := signed.Read(r)
		assert.NoError(t, err)
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		assert.NoError(t, signed.Sign(r, body, signed.As{ID: c.ID, Key: private, At: c.At.Add(off)}))
		way.ServeHTTP(w, r)
	}))
	defer front.Close()
	link := &remote.Link{Base: front.URL, ID: me.ID, Signs: private}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.NoError(t, link.Upload(ctx, protocol.Upload{Agent: me.ID}))
	assert.Equal(t, 2, calls, "the first was of another time, the second by the date in its answer")
	require.NoError(t, link.Upload(ctx, protocol.Upload{Agent: me.ID}))
	assert.Equal(t, 3, calls)
}

// TestAnAgentSignsFromNowOn: one of the release before shows a key until it is updated; from then on
// that is good no more.
func TestAnAgentSignsFromNowOn(t *testing.T) {
	s := serve(t)
	me := s.joins("pier", nil)
	require.NotEmpty(t, me.Key)
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	before := &remote.Link{Base: s.web.URL, ID: me.ID, Key: me.Key}
	assert.ErrorIs(t, before.SignFromNow(t.Context(), []byte("short")), protocol.ErrRefused)
	require.NoError(t, before.SignFromNow(t.Context(), public))
	assert.ErrorIs(t, before.SignFromNow(t.Context(), public), remote.ErrLockedOut)
	assert.Equal(t, http.StatusUnauthorized, s.asAgent(http.MethodGet, "/plan", me.Key, nil).StatusCode)
	now := &remote.Link{Base: s.web.URL, ID: me.ID, Signs: private}
	require.NoError(t, now.Upload(t.Context(), protocol.Upload{Agent: me.ID}))
}
