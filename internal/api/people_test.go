package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
)

const phrase = "a gull over grey water"

// letIn lets somebody in, and has them set a passphrase by their one-time link.
func (s *desk) letIn(name, role string) apitype.Person {
	s.t.Helper()
	var p apitype.Person
	s.ask(http.MethodPost, "/people", fmt.Sprintf(`{"name":%q,"role":%q}`, name, role), http.StatusCreated, &p)
	require.Equal(s.t, "asked", p.State)
	s.welcomed(s.welcomeLink(name), phrase, http.StatusNoContent)
	return p
}

// welcomeLink is the secret of a new one-time link of somebody.
func (s *desk) welcomeLink(name string) string {
	s.t.Helper()
	var l apitype.WelcomeLink
	s.ask(http.MethodPost, "/people/"+name+"/welcome", "", http.StatusCreated, &l)
	_, key, is := strings.Cut(l.Path, "#")
	require.True(s.t, is, l.Path)
	key, err := url.PathUnescape(key)
	require.NoError(s.t, err)
	return key
}

// asNobody makes a call without a token.
func (s *desk) asNobody(method, path, body string, headers ...string) (*http.Response, string) {
	s.t.Helper()
	return s.call(method, "/api/v1"+path, body, append([]string{"Authorization", ""}, headers...)...)
}

// welcomed uses a one-time link, and returns the cookie that came of it.
func (s *desk) welcomed(key, phrase string, status int) string {
	s.t.Helper()
	answer, text := s.asNobody(http.MethodPost, "/welcome", fmt.Sprintf(`{"secret":%q,"passphrase":%q}`, key, phrase))
	require.Equal(s.t, status, answer.StatusCode, text)
	return cookieIn(answer)
}

func cookieIn(answer *http.Response) string {
	for _, c := range answer.Cookies() {
		return c.Name + "=" + c.Value
	}
	return ""
}

// signedIn is the cookie of who signs in by name; empty when they do not come in.
func (s *desk) signedIn(name, phrase string) (string, int, string) {
	s.t.Helper()
	answer, text := s.asNobody(http.MethodPost, "/session", fmt.Sprintf(`{"name":%q,"passphrase":%q}`, name, phrase))
	return cookieIn(answer), answer.StatusCode, text
}

// tokenFor makes a token of a person.
func (s *desk) tokenFor(name, role string) apitype.Token {
	s.t.Helper()
	var made apitype.Token
	s.ask(http.MethodPost, "/tokens", fmt.Sprintf(`{"person":%q,"title":"for a test","role":%q}`, name, role), http.StatusCreated, &made)
	return made
}

// TestEveryCallByEveryRole: each call of the document is refused to whom its least role leaves out,
// and to nobody else; and to who shows nothing, something ended, over or made up. Each is made with
// an empty body, so that none that is let through changes anything.
func TestEveryCallByEveryRole(t *testing.T) {
	s := serve(t)
	document, err := api.Document("test")
	require.NoError(t, err)
	var d struct {
		Paths map[string]map[string]struct {
			OperationID string                `json:"operationId"`
			Least       string                `json:"x-least-role"`
			ForParts    bool                  `json:"x-for-parts"`
			Security    []map[string][]string `json:"security"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(document, &d))
	ranks := []string{"viewer", "engineer", "administrator"}
	keys := map[string]string{}
	for _, role := range ranks {
		s.letIn("a-"+role, role)
		keys[role] = s.tokenFor("a-"+role, role).Key
	}
	// A token may do no more than its person, whatever it was made for.
	s.letIn("was-more", "administrator")
	keys["engineer, of an administrator that was"] = s.tokenFor("was-more", "administrator").Key
	s.ask(http.MethodPatch, "/people/was-more", `{"role":"engineer"}`, http.StatusOK, nil)
	// Who is let in for a part makes those calls only that can be narrowed.
	s.ask(http.MethodPost, "/people", `{"name":"apart","role":"engineer","scope":{"sites":["Northquay"]}}`, http.StatusCreated, nil)
	s.welcomed(s.welcomeLink("apart"), phrase, http.StatusNoContent)
	apart := s.tokenFor("apart", "engineer").Key
	// Whom nothing is open to.
	ended := s.tokenFor("a-viewer", "viewer")
	s.ask(http.MethodDelete, "/tokens/"+ended.ID, "", http.StatusNoContent, nil)
	s.letIn("gone", "administrator")
	gone := s.tokenFor("gone", "administrator")
	s.ask(http.MethodPatch, "/people/gone", `{"ended":true}`, http.StatusOK, nil)
	strangers := map[string]string{"nobody": "", "a token that was ended": "Bearer " + ended.Key, "a token of who may not come in": "Bearer " + gone.Key,
		"a made-up token": "Bearer wlk-" + strings.Repeat("0", 64), "another scheme": "Basic " + keys["administrator"]}
	seen := map[string]bool{}
	tried := 0
	for path, ops := range d.Paths {
		if strings.HasPrefix(path, "/api/v1/agent/") {
			continue // with keys of their own
		}
		for method, op := range ops {
			open := op.Security != nil && len(op.Security) == 0
			method = strings.ToUpper(method)
			place := path
			for _, name := range []string{"id", "person", "name", "watch", "rule", "channel", "objective", "maintenance"} {
				place = strings.ReplaceAll(place, "{"+name+"}", "none")
			}
			require.NotContains(t, place, "{", "a key of a place that this test does not know")
			if op.OperationID == "listen" {
				place += "?nothing=1" // or it would go on
			}
			what := op.OperationID
			if open {
				assert.Empty(t, op.Least, what)
				assert.True(t, slices.Contains([]string{"sign-in", "accept-welcome", "look-at-welcome", "list-ways-in", "begin-passkey-sign-in", "sign-in-by-passkey"}, what), "%s is open to all", what)
				continue
			}
			require.Contains(t, ranks, op.Least, what)
			seen[op.Least] = true
			least := slices.Index(ranks, op.Least)
			body := ""
			if method != http.MethodGet && method != http.MethodDelete {
				body = "!" // no JSON: nothing is done
			}
			if what != "sign-out" && what != "get-session" {
				answer, text := s.call(method, place, body, "Authorization", "Bearer "+apart)
				refused := answer.StatusCode == http.StatusForbidden && strings.Contains(text, "apart is let in for the site Northquay only")
				assert.Equal(t, op.ForParts, !refused, "%s by who is let in for a part: %d %s", what, answer.StatusCode, text)
				assert.Less(t, answer.StatusCode, 500, what)
			}
			for who, key := range keys {
				role, _, _ := strings.Cut(who, ",")
				if what == "sign-out" || what == "get-session" || what == "make-dossier" {
					continue // they do no harm, and the last takes its time
				}
				answer, text := s.call(method, place, body, "Authorization", "Bearer "+key)
				refused := answer.StatusCode == http.StatusForbidden && strings.Contains(text, "This call is for")
				assert.Equal(t, slices.Index(ranks, role) < least, refused, "%s by %s: %d %s", what, who, answer.StatusCode, text)
				assert.NotEqual(t, http.StatusUnauthorized, answer.StatusCode, "%s by %s", what, who)
				assert.Less(t, answer.StatusCode, 500, "%s by %s: %s", what, who, text)
				tried++
			}
		}
	}
	assert.Greater(t, tried, 300)
	assert.Len(t, seen, 3)
	// Who is let in nowhere is so by one place for all calls: a few of them tell.
	n := 0
	for _, c := range []string{"GET /paths", "GET /people", "POST /runs", "DELETE /watches/none", "GET /changes", "GET /session"} {
		method, place, _ := strings.Cut(c, " ")
		for who, header := range strangers {
			if n++; n%15 == 0 { // or too many wrong ones would come from here
				s.ask(http.MethodGet, "/status", "", http.StatusOK, nil)
			}
			answer, text := s.call(method, "/api/v1"+place, "", "Authorization", header)
			assert.Contains(t, []int{http.StatusUnauthorized, http.StatusTooManyRequests}, answer.StatusCode, "%s by %s: %s", c, who, text)
		}
	}
}

// TestComingIn: by a one-time link, once; by name and passphrase; out by signing out, by another's
// word, by a new passphrase, and by the person's end.
func TestComingIn(t *testing.T) {
	s := serve(t)
	var p apitype.Person
	s.ask(http.MethodPost, "/people", `{"name":"Marit","full_name":"Marit Vold","role":"engineer"}`, http.StatusCreated, &p)
	assert.Equal(t, "marit", p.Name)
	assert.Contains(t, s.refused(http.MethodPost, "/people", `{"name":"MARIT","role":"viewer"}`, http.StatusConflict), "marit")
	for _, name := range []string{"", "a b", "-a", "administrator", "über", strings.Repeat("a", 65)} {
		s.refused(http.MethodPost, "/people", fmt.Sprintf(`{"name":%q,"role":"viewer"}`, name), http.StatusUnprocessableEntity)
	}
	_, status, says := s.signedIn("marit", "")
	assert.Equal(t, http.StatusUnauthorized, status, "who has set no passphrase does not come in by none")
	old := s.welcomeLink("marit")
	key := s.welcomeLink("marit")
	s.welcomed(old, phrase, http.StatusGone)
	s.welcomed(key, "short", http.StatusUnprocessableEntity)
	answer, text := s.asNobody(http.MethodPost, "/welcome/look", fmt.Sprintf(`{"secret":%q}`, key))
	require.Equal(t, 200, answer.StatusCode)
	assert.JSONEq(t, `{"name":"marit","first":false}`, text)
	first := s.welcomed(key, phrase, http.StatusNoContent)
	require.NotEmpty(t, first)
	s.welcomed(key, phrase, http.StatusGone)

	cookie, status, _ := s.signedIn(" MARIT ", phrase)
	require.Equal(t, http.StatusNoContent, status)
	_, _, wrong := s.signedIn("marit", phrase+"!")
	_, _, nobody := s.signedIn("nobody", phrase)
	assert.Equal(t, wrong, nobody, "it says the same whether the name is there")
	assert.Equal(t, says, nobody)
	me := func(cookie string) (m apitype.Me, status int) {
		answer, text := s.asNobody(http.MethodGet, "/session", "", "Cookie", cookie)
		_ = json.Unmarshal([]byte(text), &m)
		return m, answer.StatusCode
	}
	m, status := me(cookie)
	require.Equal(t, 200, status)
	assert.Equal(t, []string{"marit", "engineer", "passphrase"}, []string{m.Name, m.Role, m.Way})
	require.NotNil(t, m.EndsAt)
	assert.WithinDuration(t, time.Now().Add(12*time.Hour), *m.EndsAt, time.Minute)

	// Another passphrase ends the other sessions, and is asked for from then on.
	const other = "a seal on the far skerry"
	answer, text = s.asNobody(http.MethodPut, "/passphrase", fmt.Sprintf(`{"before":"wrong wrong","passphrase":%q}`, other), "Cookie", cookie)
	assert.Equal(t, 422, answer.StatusCode, text)
	answer, text = s.asNobody(http.MethodPut, "/passphrase", fmt.Sprintf(`{"before":%q,"passphrase":%q}`, phrase, other), "Cookie", cookie)
	require.Equal(t, 204, answer.StatusCode, text)
	_, status = me(first)
	assert.Equal(t, 401, status)
	_, status = me(cookie)
	assert.Equal(t, 200, status)
	_, status, _ = s.signedIn("marit", phrase)
	assert.Equal(t, 401, status)

	// Sessions are listed, and ended by the one whose they are, or by an administrator.
	second, _, _ := s.signedIn("marit", other)
	var list []apitype.SignedIn
	_, text = s.asNobody(http.MethodGet, "/sessions", "", "Cookie", cookie)
	require.NoError(t, json.Unmarshal([]byte(text), &list))
	require.Len(t, list, 2)
	assert.Equal(t, []bool{false, true}, []bool{list[0].Own, list[1].Own}, "the newest first")
	answer, _ = s.asNobody(http.MethodDelete, "/sessions/"+list[0].ID, "", "Cookie", cookie)
	assert.Equal(t, 204, answer.StatusCode)
	_, status = me(second)
	assert.Equal(t, 401, status)
	s.letIn("olav", "viewer")
	olav, _, _ := s.signedIn("olav", phrase)
	answer, _ = s.asNobody(http.MethodDelete, "/sessions/"+list[1].ID, "", "Cookie", olav)
	assert.Equal(t, 404, answer.StatusCode, "another's is not his to see")
	answer, _ = s.asNobody(http.MethodDelete, "/session", "", "Cookie", olav)
	assert.Equal(t, 204, answer.StatusCode)
	_, status = me(olav)
	assert.Equal(t, 401, status)

	// Who ends comes in by no way, and comes back with nothing but the passphrase.
	token := s.tokenFor("marit", "engineer")
	s.ask(http.MethodPatch, "/people/marit", `{"ended":true}`, http.StatusOK, nil)
	_, status = me(cookie)
	assert.Equal(t, 401, status)
	answer, _ = s.call(http.MethodGet, "/api/v1/session", "", "Authorization", "Bearer "+token.Key)
	assert.Equal(t, 401, answer.StatusCode)
	_, status, text = s.signedIn("marit", other)
	assert.Equal(t, 401, status)
	assert.Equal(t, wrong, text)
	s.ask(http.MethodPatch, "/people/marit", `{"ended":false}`, http.StatusOK, nil)
	_, status = me(cookie)
	assert.Equal(t, 401, status)
	answer, _ = s.call(http.MethodGet, "/api/v1/session", "", "Authorization", "Bearer "+token.Key)
	assert.Equal(t, 401, answer.StatusCode)

	// All of it stands in the record, with who and from where, and without a secret.
	var lines []apitype.Change
	s.ask(http.MethodGet, "/changes?limit=1000", "", http.StatusOK, &lines)
	var what []string
	for _, l := range lines {
		what = append(what, l.What)
		for _, secret := range []string{phrase, other, key, token.Key, "wlw-", "wlk-"} {
			assert.NotContains(t, string(l.Detail), secret)
		}
	}
	for _, w := range []string{"person_added", "person_welcomed", "passphrase_set", "session_ended", "token_added", "person_changed"} {
		assert.Contains(t, what, w)
	}
	s.ask(http.MethodGet, "/changes?who=marit", "", http.StatusOK, &lines)
	require.NotEmpty(t, lines)
	for _, l := range lines {
		assert.Equal(t, "marit from 127.0.0.1", l.Who)
	}
}

// TestANameIsNotTriedForEver: whether or not it is anybody's.
func TestANameIsNotTriedForEver(t *testing.T) {
	s := serve(t)
	s.letIn("marit", "viewer")
	for _, name := range []string{"marit", "nobody"} {
		for n := range 10 {
			if _, status, text := s.signedIn(name, fmt.Sprint("wrong wrong ", n)); status != http.StatusUnauthorized {
				require.Equal(t, http.StatusTooManyRequests, status, text) // the address was, too
			}
		}
		_, status, _ := s.signedIn(name, phrase)
		assert.Equal(t, http.StatusTooManyRequests, status, name)
	}
}

// TestTheFirstAdministrator: made by a link that is good once, and while nobody is there.
func TestTheFirstAdministrator(t *testing.T) {
	s := serve(t)
	key, err := s.c.People.First(t.Context())
	require.NoError(t, err)
	first := func(name string) (*http.Response, string) {
		return s.asNobody(http.MethodPost, "/welcome", fmt.Sprintf(`{"secret":%q,"name":%q,"passphrase":%q}`, key, name, phrase))
	}
	answer, text := first("")
	assert.Equal(t, 422, answer.StatusCode, text)
	answer, text = first("sigrun")
	require.Equal(t, 204, answer.StatusCode, text)
	answer, _ = first("another")
	assert.Equal(t, http.StatusGone, answer.StatusCode)
	list := get[[]apitype.Person](s, "/people")
	require.Len(t, list, 1)
	assert.Equal(t, []string{"sigrun", "administrator", "open"}, []string{list[0].Name, list[0].Role, list[0].State})
	again, err := s.c.People.First(t.Context())
	require.NoError(t, err)
	assert.Empty(t, again, "somebody is there")
	for _, body := range []string{`{"role":"engineer"}`, `{"ended":true}`} {
		assert.Contains(t, s.refused(http.MethodPatch, "/people/sigrun", body, 422), "last administrator")
	}
	// Another service on the same database knows them, too, and their session.
	cookie := cookieIn(answer)
	assert.Empty(t, cookie)
	in, _, _ := s.signedIn("sigrun", phrase)
	require.NoError(t, s.c.People.Load(t.Context()))
	answer, _ = s.asNobody(http.MethodGet, "/session", "", "Cookie", in)
	assert.Equal(t, 200, answer.StatusCode)
}

// TestTokens: of oneself, no more than oneself, until they end.
func TestTokens(t *testing.T) {
	s := serve(t)
	s.letIn("marit", "engineer")
	s.letIn("olav", "viewer")
	marit := s.tokenFor("marit", "engineer")
	by := func(key, method, path, body string) (int, string) {
		answer, text := s.call(method, "/api/v1"+path, body, "Authorization", "Bearer "+key)
		return answer.StatusCode, text
	}
	s.refused(http.MethodPost, "/tokens", `{"person":"olav","title":"x","role":"engineer"}`, 422)
	s.refused(http.MethodPost, "/tokens", `{"title":"x"}`, 422)
	s.refused(http.MethodPost, "/tokens", `{"person":"marit","title":" "}`, 422)
	s.refused(http.MethodPost, "/tokens", `{"person":"marit","title":"x","ends_at":"2020-01-01T00:00:00Z"}`, 422)
	status, text := by(marit.Key, http.MethodPost, "/tokens", `{"title":"the wall","role":"viewer"}`)
	require.Equal(t, 201, status, text)
	var wall apitype.Token
	require.NoError(t, json.Unmarshal([]byte(text), &wall))
	assert.Equal(t, "marit", wall.Name)
	status, _ = by(wall.Key, http.MethodPost, "/tokens", `{"title":"more","role":"engineer"}`)
	assert.Equal(t, 403, status, "a token makes none that may do more")
	status, _ = by(marit.Key, http.MethodPost, "/tokens", `{"person":"olav","title":"his"}`)
	assert.Equal(t, 403, status)
	status, _ = by(marit.Key, http.MethodPost, "/tokens", `{"person":"not-there","title":"his"}`)
	assert.Equal(t, 403, status, "who is there is not told")
	status, _ = by(wall.Key, http.MethodPost, "/sweeps", `{}`)
	assert.Equal(t, 403, status)
	status, text = by(wall.Key, http.MethodGet, "/tokens", "")
	require.Equal(t, 200, status)
	assert.NotContains(t, text, "wlk-", "keys are told once")
	var own []apitype.Token
	require.NoError(t, json.Unmarshal([]byte(text), &own))
	assert.Len(t, own, 2)
	soon := time.Now().Add(2 * time.Second).UTC().Format(time.RFC3339Nano)
	var short apitype.Token
	s.ask(http.MethodPost, "/tokens", fmt.Sprintf(`{"person":"olav","title":"short","ends_at":%q}`, soon), http.StatusCreated, &short)
	status, _ = by(short.Key, http.MethodGet, "/session", "")
	assert.Equal(t, 200, status)
	assert.Eventually(t, func() bool { status, _ := by(short.Key, http.MethodGet, "/session", ""); return status == 401 }, time.Minute, 200*time.Millisecond)
	assert.Eventually(t, func() bool {
		for _, x := range get[[]apitype.Token](s, "/tokens") {
			if x.ID == wall.ID {
				return x.LastUsedAt != nil && x.UsedFrom == "127.0.0.1"
			}
		}
		return false
	}, time.Minute, 50*time.Millisecond)
	status, _ = by(wall.Key, http.MethodDelete, "/tokens/"+short.ID, "")
	assert.Equal(t, 404, status, "another's is not theirs to see")
	status, _ = by(wall.Key, http.MethodDelete, "/tokens/"+wall.ID, "")
	assert.Equal(t, 204, status)
	status, _ = by(wall.Key, http.MethodGet, "/session", "")
	assert.Equal(t, 401, status)
}

// TestCookiesUnderTLS: they have the name that browsers take from nobody else, and are not taken
// by another.
func TestCookiesUnderTLS(t *testing.T) {
	s := serve(t)
	answer, _ := s.asNobody(http.MethodPost, "/session", `{"token":"`+token+`"}`, "X-Forwarded-Proto", "https")
	require.Equal(t, 204, answer.StatusCode)
	c := answer.Cookies()[0]
	assert.Equal(t, "__Host-woodlark_session", c.Name)
	assert.True(t, c.Secure && c.HttpOnly && c.Path == "/" && c.Domain == "" && c.SameSite == http.SameSiteStrictMode)
	answer, _ = s.asNobody(http.MethodGet, "/session", "", "X-Forwarded-Proto", "https", "Cookie", c.Name+"="+c.Value)
	assert.Equal(t, 200, answer.StatusCode)
	answer, _ = s.asNobody(http.MethodGet, "/session", "", "X-Forwarded-Proto", "https", "Cookie", "woodlark_session="+c.Value)
	assert.Equal(t, 401, answer.StatusCode)
}

// TestBoardsAreSharedWithSome: who is not among them finds nothing of it, by no call.
func TestBoardsAreSharedWithSome(t *testing.T) {
	s := serve(t)
	keys := map[string]string{}
	for _, name := range []string{"marit", "olav", "sigrun"} {
		s.letIn(name, "engineer")
		keys[name] = s.tokenFor(name, "engineer").Key
	}
	by := func(name, method, path, body string) (int, string) {
		answer, text := s.call(method, "/api/v1"+path, body, "Authorization", "Bearer "+keys[name])
		return answer.StatusCode, text
	}
	status, text := by("marit", http.MethodPost, "/boards", `{"name":"Bridge","parts":[{"kind":"states","width":0,"height":0}],"shared_with":["olav"]}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "share it with marit, too")
	status, text = by("marit", http.MethodPost, "/boards", `{"name":"Bridge","parts":[{"kind":"states","width":0,"height":0}],"shared_with":["olav","nobody"]}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "nobody")
	status, text = by("marit", http.MethodPost, "/boards", `{"name":"Bridge","parts":[{"kind":"states","width":0,"height":0}],"shared_with":["Olav","marit","olav"]}`)
	require.Equal(t, 201, status, text)
	var b apitype.Board
	require.NoError(t, json.Unmarshal([]byte(text), &b))
	assert.Equal(t, []string{"marit", "olav"}, b.SharedWith)
	require.NoError(t, s.c.Boards.Load(t.Context()), "it is kept")
	for name, want := range map[string]bool{"marit": true, "olav": true, "sigrun": false} {
		_, text := by(name, http.MethodGet, "/boards", "")
		assert.Equal(t, want, strings.Contains(text, "Bridge"), name)
		for _, place := range []string{"/boards/Bridge", "/boards/" + b.ID, "/boards/Bridge/shown", "/boards/Bridge/file?format=text"} {
			status, text := by(name, http.MethodGet, place, "")
			assert.Equal(t, want, status == 200, "%s by %s: %d", place, name, status)
			assert.Equal(t, !want, status == 404, "%s by %s: %s", place, name, text)
		}
	}
	change := `{"name":"Bridge","parts":[],"revision":1}`
	link := fmt.Sprintf(`{"what":"board","subject_id":%q,"title":"x","ends_at":%q}`, b.ID, time.Now().Add(time.Hour).UTC().Format(time.RFC3339))
	for _, c := range [][3]string{{http.MethodPut, "/boards/Bridge", change}, {http.MethodDelete, "/boards/Bridge", ""}, {http.MethodPost, "/guest-links", link}} {
		status, text := by("sigrun", c[0], c[1], c[2])
		assert.Equal(t, 404, status, "%s %s: %s", c[0], c[1], text)
	}
	status, text = by("olav", http.MethodPost, "/guest-links", link)
	assert.Equal(t, 201, status, text)
	assert.Equal(t, []string{"marit", "olav"}, get[apitype.Board](s, "/boards/Bridge").SharedWith, "an administrator sees all")
	status, text = by("olav", http.MethodPut, "/boards/Bridge", change)
	require.Equal(t, 200, status, text)
	status, _ = by("sigrun", http.MethodGet, "/boards/Bridge", "")
	assert.Equal(t, 200, status, "it is everybody's now")
}
