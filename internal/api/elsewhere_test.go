package api_test

import (
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"

	"woodlark.example/internal/api"
	"woodlark.example/internal/oidc"
)

// provider runs a real provider of OpenID Connect on a loopback, where these people have accounts,
// and returns its address. What it would write to everybody's log is dropped.
func provider(t *testing.T, back func() string, users map[string]storage.User) string {
	t.Helper()
	var inner http.Handler
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { inner.ServeHTTP(w, r) }))
	t.Cleanup(web.Close)
	was := slog.Default()
	slog.SetDefault(slog.New(slog.DiscardHandler))
	t.Cleanup(func() { slog.SetDefault(was) })
	data, err := json.Marshal(users)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "users.json")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	accounts, err := storage.StoreFromFile(file)
	require.NoError(t, err)
	client := storage.WebClient("woodlark", "gull", back())
	inner = exampleop.SetupServer(web.URL, storage.NewStorageWithClients(accounts, map[string]*storage.Client{"woodlark": client}), nil, false)
	return web.URL
}

// deskWith is a desk whose service lets people sign in elsewhere.
func deskWith(t *testing.T, claim string, users map[string]storage.User) (*desk, string) {
	t.Helper()
	s := serve(t)
	var front http.Handler
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { front.ServeHTTP(w, r) }))
	t.Cleanup(web.Close)
	issuer := provider(t, func() string { return web.URL + "/sign-in/elsewhere/back" }, users)
	there, err := oidc.New(oidc.Options{Issuer: issuer, Client: "woodlark", Secret: "gull", Claim: claim, Title: "Northquay"})
	require.NoError(t, err)
	front = api.New(api.Options{Service: s.c, Token: token, Version: "test", Elsewhere: there})
	return s, web.URL
}

// person signs in at the provider by hand: a browser with cookies that follows each step.
type person struct {
	t *testing.T
	http.Client
	at string
}

func someone(t *testing.T, at string) *person {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &person{t, http.Client{Jar: jar}, at}
}

var loginID = regexp.MustCompile(`name="id" value="([^"]*)"`)

// signIn goes to the provider, says who it is, and comes back.
func (p *person) signIn(user, password string) (int, string) {
	p.t.Helper()
	answer, err := p.Get(p.at + "/sign-in/elsewhere?to=/degraded")
	require.NoError(p.t, err)
	page, err := io.ReadAll(answer.Body)
	require.NoError(p.t, err)
	_ = answer.Body.Close()
	found := loginID.FindStringSubmatch(string(page))
	require.NotNil(p.t, found, "%s %s", answer.Status, page)
	login := *answer.Request.URL
	login.Path, login.RawQuery = "/login/username", ""
	answer, err = p.PostForm(login.String(), url.Values{"id": {found[1]}, "username": {user}, "password": {password}})
	require.NoError(p.t, err)
	defer answer.Body.Close()
	page, err = io.ReadAll(answer.Body)
	require.NoError(p.t, err)
	return answer.StatusCode, string(page)
}

func (p *person) session() (int, map[string]any) {
	p.t.Helper()
	answer, err := p.Get(p.at + "/api/v1/session")
	require.NoError(p.t, err)
	defer answer.Body.Close()
	var who map[string]any
	_ = json.NewDecoder(answer.Body).Decode(&who)
	return answer.StatusCode, who
}

func users() map[string]storage.User {
	return map[string]storage.User{
		"s1": {ID: "s1", Username: "marit", Password: "p1", FirstName: "Marit", LastName: "Vold", Email: "Marit@northquay.example", EmailVerified: true},
		"s2": {ID: "s2", Username: "olav", Password: "p2", FirstName: "Olav", LastName: "Dahl", Email: "marit@northquay.example", EmailVerified: true},
		"s3": {ID: "s3", Username: "siri", Password: "p3", FirstName: "Siri", LastName: "Foss", Email: "siri@northquay.example", EmailVerified: false},
	}
}

func TestSigningInElsewhere(t *testing.T) {
	s, at := deskWith(t, "", users())
	s.ask(http.MethodPost, "/people", `{"name":"marit@northquay.example","role":"engineer"}`, http.StatusCreated, nil)
	s.ask(http.MethodPost, "/people", `{"name":"siri@northquay.example","role":"administrator"}`, http.StatusCreated, nil)
	s.ask(http.MethodPost, "/people", `{"name":"olav","role":"administrator"}`, http.StatusCreated, nil)
	answer, err := http.Get(at + "/api/v1/session/ways")
	require.NoError(t, err)
	said, _ := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	assert.JSONEq(t, `{"elsewhere":"Northquay"}`, string(said))

	marit := someone(t, at)
	status, page := marit.signIn("marit", "p1")
	require.Equal(t, 200, status, page)
	assert.Contains(t, page, `url=/degraded"`)
	status, who := marit.session()
	assert.Equal(t, 200, status)
	assert.Equal(t, "marit@northquay.example", who["name"])
	assert.Equal(t, "engineer", who["role"])

	// Another account of the provider with the same mail address is somebody else.
	olav := someone(t, at)
	status, page = olav.signIn("olav", "p2")
	assert.Equal(t, 403, status)
	assert.Contains(t, page, "somebody else to the sign-in elsewhere")
	status, _ = olav.session()
	assert.Equal(t, 401, status)

	// An address that the provider does not vouch for names nobody, nor does a user name here.
	siri := someone(t, at)
	status, page = siri.signIn("siri", "p3")
	assert.Equal(t, 403, status)
	assert.Contains(t, page, "no name of you that it vouches for")

	// A wrong password stays at the provider.
	status, page = someone(t, at).signIn("marit", "wrong")
	assert.Equal(t, 200, status)
	assert.Regexp(t, loginID, page)

	// Who may not come in any more does not, though the provider knows them.
	s.ask(http.MethodPatch, "/people/marit@northquay.example", `{"ended":true}`, http.StatusOK, nil)
	status, _ = marit.session()
	assert.Equal(t, 401, status)
	status, page = marit.signIn("marit", "p1")
	assert.Equal(t, 403, status)
	assert.Contains(t, page, "any more")
	assert.Contains(t, string(jsonBody(s, "/changes")), "known_elsewhere")
}

func jsonBody(s *desk, path string) []byte {
	_, text := s.call(http.MethodGet, "/api/v1"+path, "")
	return []byte(text)
}

func TestByUsernameWhereThatIsAsked(t *testing.T) {
	s, at := deskWith(t, oidc.ByUsername, users())
	s.ask(http.MethodPost, "/people", `{"name":"siri","role":"viewer"}`, http.StatusCreated, nil)
	siri := someone(t, at)
	status, page := siri.signIn("siri", "p3")
	require.Equal(t, 200, status, page)
	_, who := siri.session()
	assert.Equal(t, "siri", who["name"])
	status, page = someone(t, at).signIn("olav", "p2")
	assert.Equal(t, 403, status)
	assert.Contains(t, page, "Nobody let you in here as olav")
}

// TestWhatIsNoSignInElsewhere: made-up answers, those of another browser, ones that come again.
func TestWhatIsNoSignInElsewhere(t *testing.T) {
	s, at := deskWith(t, "", users())
	s.ask(http.MethodPost, "/people", `{"name":"marit@northquay.example","role":"engineer"}`, http.StatusCreated, nil)
	ask := func(p *person, query string) (int, string) {
		answer, err := p.Get(at + "/sign-in/elsewhere/back?" + query)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		assert.NotContains(t, answer.Header.Get("Content-Security-Policy"), "unsafe")
		return answer.StatusCode, string(text)
	}
	for _, query := range []string{"", "code=x", "code=x&state=", "code=x&state=y", "error=access_denied&state=x", "error=%3Cscript%3E"} {
		status, text := ask(someone(t, at), query)
		assert.Equal(t, 403, status, query)
		assert.NotContains(t, text, "<script>")
	}
	// The answer to one browser's sign-in, brought by another: it lets nobody in, nor the first again.
	p := someone(t, at)
	var back string
	p.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/sign-in/elsewhere/back" {
			back = r.URL.RawQuery
			return http.ErrUseLastResponse
		}
		return nil
	}
	p.signIn("marit", "p1")
	require.True(t, strings.Contains(back, "code="), back)
	other := someone(t, at)
	status, _ := ask(other, back)
	assert.Equal(t, 403, status)
	status, _ = other.session()
	assert.Equal(t, 401, status)
	status, text := ask(p, back)
	assert.Equal(t, 200, status, text)
	status, _ = ask(p, back)
	assert.Equal(t, 403, status, "a second time")
	for _, to := range []string{"//evil.example", "https://evil.example", `/\evil.example`, "/%0d%0aSet-Cookie:x"} {
		q := someone(t, at)
		answer, err := q.Get(at + "/sign-in/elsewhere?to=" + url.QueryEscape(to))
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, 200, answer.StatusCode, "it begins, and leads home")
	}
	// A service without one says so.
	answer, err := http.Get(s.web.URL + "/sign-in/elsewhere")
	require.NoError(t, err)
	_ = answer.Body.Close()
	assert.Equal(t, 404, answer.StatusCode)
}

func TestAProviderThatIsAway(t *testing.T) {
	s := serve(t)
	there, err := oidc.New(oidc.Options{Issuer: "http://127.0.0.1:1", Client: "woodlark"})
	require.NoError(t, err)
	web := httptest.NewServer(api.New(api.Options{Service: s.c, Token: token, Version: "test", Elsewhere: there}))
	defer web.Close()
	answer, err := http.Get(web.URL + "/sign-in/elsewhere")
	require.NoError(t, err)
	text, _ := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	assert.Equal(t, 502, answer.StatusCode)
	assert.Contains(t, string(text), "does not answer now")
	for _, bad := range []oidc.Options{{Issuer: "id.northquay.example", Client: "x"}, {Issuer: "http://id.northquay.example", Client: "x"}, {Issuer: "https://id.northquay.example"}, {Issuer: "https://id.northquay.example", Client: "x", Claim: "sub"}} {
		_, err := oidc.New(bad)
		assert.Error(t, err)
	}
}
