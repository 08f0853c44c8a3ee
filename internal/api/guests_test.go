package api_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/watches"
)

// asGuest makes a call as somebody outside would, and returns what came.
func (s *desk) asGuest(c *http.Client, method, path, body string, header ...string) (*http.Response, string) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.web.URL+path, strings.NewReader(body))
	require.NoError(s.t, err)
	if body != "" {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	answer, err := c.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	return answer, string(text)
}

func (s *desk) guestLink(spec string) apitype.GuestLink {
	s.t.Helper()
	var l apitype.GuestLink
	s.ask(http.MethodPost, "/guest-links", spec, http.StatusCreated, &l)
	return l
}

// pathTo is a watched path to a target.
func (s *desk) pathTo(target string) string {
	s.t.Helper()
	w, err := s.c.Watches.Save(s.t.Context(), ident.ID{}, "to "+target, watches.Spec{From: []string{"quay"}, To: []string{target}}, false)
	require.NoError(s.t, err)
	return w.Paths[0].String()
}

// refused is what a call that is refused with a status says.
func (s *desk) refused(method, path, body string, status int) string {
	s.t.Helper()
	answer, text := s.call(method, "/api/v1"+path, body)
	assert.Equal(s.t, status, answer.StatusCode, "%s: %s", body, text)
	return text
}

func until(d time.Duration) string { return time.Now().Add(d).UTC().Format(time.RFC3339) }

// TestAGuestSeesOneThing and nothing else, and changes nothing: other paths, other methods, the
// calls of the service, its events, its metrics, and what a link's secret or cookie is good for.
func TestAGuestSeesOneThing(t *testing.T) {
	s := serve(t)
	mine, other := s.pathTo("192.0.2.10"), s.pathTo("192.0.2.11")
	s.ask(http.MethodPost, "/annotations", fmt.Sprintf(`{"path_id": %q, "at": %q, "text": "secret of the other"}`, other, until(-time.Minute)), http.StatusCreated, nil)
	s.ask(http.MethodPost, "/annotations", fmt.Sprintf(`{"at": %q, "text": "secret of all"}`, until(-time.Minute)), http.StatusCreated, nil)
	l := s.guestLink(fmt.Sprintf(`{"what": "path", "subject_id": %q, "title": "For <Kelpnet>", "notes": "look\nhere", "ends_at": %q}`, mine, until(time.Hour)))
	guest := &http.Client{}
	answer, text := s.asGuest(guest, http.MethodGet, l.Path, "")
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	for _, says := range []string{"For &lt;Kelpnet&gt;", "look", "here", "192.0.2.10"} {
		assert.Contains(t, text, says)
	}
	for _, never := range []string{"192.0.2.11", "secret of", "<script", "192.0.2.12"} {
		assert.NotContains(t, text, never)
	}
	assert.Equal(t, "no-referrer", answer.Header.Get("Referrer-Policy"))
	assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'none'")
	answer, text = s.asGuest(guest, http.MethodHead, l.Path, "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Empty(t, text)

	secret := strings.TrimPrefix(l.Path, "/guest/")
	for _, method := range []string{http.MethodPut, http.MethodDelete, http.MethodPatch, "BREW"} {
		answer, _ := s.asGuest(guest, method, l.Path, "")
		assert.Equal(t, http.StatusMethodNotAllowed, answer.StatusCode, method)
	}
	for _, path := range []string{"/api/v1/paths", "/api/v1/paths/" + mine, "/api/v1/paths/" + other, "/api/v1/events", "/api/v1/guest-links", "/metrics", "/api/v1/reports/period", "/api/v1/dossiers/file?path_ids=" + mine} {
		for _, with := range [][]string{nil, {"Authorization", "Bearer " + secret}, {"Cookie", "woodlark_session=" + secret}, {"Cookie", "woodlark_guest=" + secret}} {
			answer, _ := s.asGuest(guest, http.MethodGet, path, "", with...)
			assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "%s with %v", path, with)
		}
	}
	answer, text = s.asGuest(guest, http.MethodGet, l.Path+"?subject_id="+other+"&path="+other, "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.NotContains(t, text, "192.0.2.11")
	var links []apitype.GuestLink
	s.ask(http.MethodGet, "/guest-links", "", http.StatusOK, &links)
	require.Len(t, links, 1)
	assert.Empty(t, links[0].Path, "the secret is told once")

	s.ask(http.MethodDelete, "/guest-links/"+l.LinkID, "", http.StatusNoContent, nil)
	answer, text = s.asGuest(guest, http.MethodGet, l.Path, "")
	assert.Equal(t, http.StatusGone, answer.StatusCode)
	assert.NotContains(t, text, "192.0.2.10")
	var openings []apitype.GuestOpening
	s.ask(http.MethodGet, "/guest-links/"+l.LinkID+"/openings", "", http.StatusOK, &openings)
	require.Len(t, openings, 4)
	assert.Equal(t, "over", openings[0].Outcome)
	assert.Equal(t, "opened", openings[3].Outcome)
	assert.Equal(t, "127.0.0.1", openings[3].Address)
}

// TestLinksAreNotGuessed: who tries is turned away, and who has the link is not, from elsewhere.
func TestLinksAreNotGuessed(t *testing.T) {
	s := serve(t)
	l := s.guestLink(fmt.Sprintf(`{"what": "report", "title": "all", "ends_at": %q}`, until(time.Hour)))
	guest := &http.Client{}
	turned := 0
	for i := range 40 {
		wrong := "/guest/" + strings.Repeat(fmt.Sprint(i%10), 43)
		answer, _ := s.asGuest(guest, http.MethodGet, wrong, "")
		switch answer.StatusCode {
		case http.StatusTooManyRequests:
			turned++
			assert.Equal(t, "60", answer.Header.Get("Retry-After"))
		default:
			assert.Equal(t, http.StatusNotFound, answer.StatusCode)
		}
	}
	assert.Equal(t, 20, turned)
	answer, _ := s.asGuest(guest, http.MethodGet, l.Path, "")
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode, "from there nothing is shown now")
}

// TestAPassphrase is asked for, bounded, and remembered for one link only.
func TestAPassphrase(t *testing.T) {
	s := serve(t)
	mine, other := s.pathTo("192.0.2.10"), s.pathTo("192.0.2.11")
	spec := `{"what": "path", "subject_id": %q, "title": "x", "ends_at": %q, "passphrase": "gannet and tern", "frozen": %v}`
	l, second := s.guestLink(fmt.Sprintf(spec, mine, until(time.Hour), true)), s.guestLink(fmt.Sprintf(spec, other, until(time.Hour), false))
	assert.Empty(t, l.Passphrase, "it is not given back")
	assert.True(t, l.Asks)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	guest := &http.Client{Jar: jar}
	answer, text := s.asGuest(guest, http.MethodGet, l.Path, "")
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	assert.NotContains(t, text, "192.0.2.10")
	assert.Contains(t, text, "<form method=\"post\">")
	answer, text = s.asGuest(guest, http.MethodPost, l.Path, "passphrase=gannet")
	assert.Equal(t, http.StatusForbidden, answer.StatusCode)
	assert.NotContains(t, text, "192.0.2.10")
	answer, text = s.asGuest(guest, http.MethodPost, l.Path, url.Values{"passphrase": {"gannet and tern"}}.Encode())
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Contains(t, text, "192.0.2.10")
	cookies := answer.Cookies()
	require.Len(t, cookies, 1)
	assert.True(t, cookies[0].HttpOnly)
	assert.Equal(t, l.Path, cookies[0].Path)
	answer, again := s.asGuest(guest, http.MethodGet, l.Path, "")
	assert.Equal(t, http.StatusOK, answer.StatusCode, "it is remembered")
	assert.Equal(t, text, again, "it is frozen")
	fresh := &http.Client{}
	for _, value := range []string{cookies[0].Value, cookies[0].Value + "x", "", "AAAA"} {
		answer, _ = s.asGuest(fresh, http.MethodGet, second.Path, "", "Cookie", "woodlark_guest="+value)
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "the cookie of one link opens no other")
	}
	answer, _ = s.asGuest(fresh, http.MethodGet, "/api/v1/paths", "", "Cookie", "woodlark_guest="+cookies[0].Value)
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	last := 0
	for range 12 {
		answer, _ = s.asGuest(fresh, http.MethodPost, second.Path, "passphrase=wrong-"+fmt.Sprint(last))
		last = answer.StatusCode
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
	answer, _ = s.asGuest(fresh, http.MethodPost, second.Path, "passphrase="+strings.Repeat("x", 10<<20))
	assert.GreaterOrEqual(t, answer.StatusCode, 400)
}

func TestGuestLinksThatCannotBe(t *testing.T) {
	s := serve(t)
	mine := s.pathTo("192.0.2.10")
	for says, spec := range map[string]string{
		"is over":                     `{"what": "report", "title": "x", "ends_at": "2020-01-01T00:00:00Z"}`,
		"a year is":                   fmt.Sprintf(`{"what": "report", "title": "x", "ends_at": %q}`, until(400*24*time.Hour)),
		"needs a title":               fmt.Sprintf(`{"what": "report", "title": " ", "ends_at": %q}`, until(time.Hour)),
		"say which path":              fmt.Sprintf(`{"what": "path", "title": "x", "ends_at": %q}`, until(time.Hour)),
		"no identifier":               fmt.Sprintf(`{"what": "path", "subject_id": "gull", "title": "x", "ends_at": %q}`, until(time.Hour)),
		"8 to 200 bytes":              fmt.Sprintf(`{"what": "path", "subject_id": %q, "title": "x", "ends_at": %q, "passphrase": "short"}`, mine, until(time.Hour)),
		"4000 at most":                fmt.Sprintf(`{"what": "path", "subject_id": %q, "title": "x", "ends_at": %q, "notes": %q}`, mine, until(time.Hour), strings.Repeat("n", 5000)),
		"expected value to be one of": fmt.Sprintf(`{"what": "world", "title": "x", "ends_at": %q}`, until(time.Hour)),
		"no objective":                fmt.Sprintf(`{"what": "path", "subject_id": %q, "title": "x", "ends_at": %q, "objective": "gull"}`, mine, until(time.Hour)),
		"not both":                    fmt.Sprintf(`{"what": "path", "subject_id": %q, "title": "x", "ends_at": %q, "last": "1h", "from_at": "2026-01-01T00:00:00Z", "to_at": "2026-01-02T00:00:00Z"}`, mine, until(time.Hour)),
	} {
		assert.Contains(t, s.refused(http.MethodPost, "/guest-links", spec, http.StatusUnprocessableEntity), says)
	}
	s.refused(http.MethodPost, "/guest-links", fmt.Sprintf(`{"what": "path", "subject_id": "01a228a2-fbf7-75e1-ae3f-34ee4a4d69c2", "title": "x", "ends_at": %q}`, until(time.Hour)), http.StatusNotFound)
	s.refused(http.MethodDelete, "/guest-links/01a228a2-fbf7-75e1-ae3f-34ee4a4d69c2", "", http.StatusNotFound)
}
