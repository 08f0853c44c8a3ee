package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/descope/virtualwebauthn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
)

// device is one that holds passkeys for a console, as a phone does.
type device struct {
	party virtualwebauthn.RelyingParty
	virtualwebauthn.Authenticator
	virtualwebauthn.Credential
}

func (s *desk) device(person string) *device {
	at := strings.Replace(s.web.URL, "127.0.0.1", "localhost", 1)
	d := &device{party: virtualwebauthn.RelyingParty{Name: "Woodlark", ID: "localhost", Origin: at}, Credential: virtualwebauthn.NewCredential(virtualwebauthn.KeyTypeEC2)}
	var list []apitype.Person
	s.ask(http.MethodGet, "/people", "", http.StatusOK, &list)
	for _, p := range list {
		if p.Name == person {
			id, err := ident.Parse(p.ID)
			require.NoError(s.t, err)
			d.Authenticator = virtualwebauthn.NewAuthenticatorWithOptions(virtualwebauthn.AuthenticatorOptions{UserHandle: id[:]})
		}
	}
	d.Authenticator.AddCredential(d.Credential)
	return d
}

// asked is what the device is asked, in the form that its maker reads.
func publicKey(t *testing.T, a apitype.Asked) string {
	t.Helper()
	text, err := json.Marshal(map[string]any{"publicKey": a.Options})
	require.NoError(t, err)
	return string(text)
}

func (d *device) makes(t *testing.T, a apitype.Asked) string {
	t.Helper()
	options, err := virtualwebauthn.ParseAttestationOptions(publicKey(t, a))
	require.NoError(t, err)
	return virtualwebauthn.CreateAttestationResponse(d.party, d.Authenticator, d.Credential, *options)
}

func (d *device) answers(t *testing.T, a apitype.Asked) string {
	t.Helper()
	options, err := virtualwebauthn.ParseAssertionOptions(publicKey(t, a))
	require.NoError(t, err)
	return virtualwebauthn.CreateAssertionResponse(d.party, d.Authenticator, d.Credential, *options)
}

// at makes a call to the console by its name, as a browser does.
func (s *desk) at(method, path, body, cookie string) (int, string, string) {
	s.t.Helper()
	base := s.web.URL
	defer func() { s.web.URL = base }()
	s.web.URL = strings.Replace(base, "127.0.0.1", "localhost", 1)
	answer, text := s.asNobody(method, path, body, "Cookie", cookie)
	return answer.StatusCode, text, cookieIn(answer)
}

func read[T any](t *testing.T, text string) (v T) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), &v), text)
	return v
}

func TestPasskeys(t *testing.T) {
	s := serve(t)
	s.letIn("marit", "engineer")
	s.letIn("olav", "viewer")
	cookie, _, _ := s.signedIn("marit", phrase)
	marit := s.device("marit")

	begin := func(cookie string) apitype.Asked {
		status, text, _ := s.at(http.MethodPost, "/passkeys/begin", "", cookie)
		require.Equal(t, 200, status, text)
		return read[apitype.Asked](t, text)
	}
	add := func(cookie, key, answer string) (int, string) {
		status, text, _ := s.at(http.MethodPost, "/passkeys", fmt.Sprintf(`{"key":%q,"title":"my phone","answer":%s}`, key, answer), cookie)
		return status, text
	}
	asked := begin(cookie)
	answer := marit.makes(t, asked)
	olav, _, _ := s.signedIn("olav", phrase)
	status, text := add(olav, asked.Key, answer)
	assert.Equal(t, 422, status, "another's: %s", text)
	status, _ = add(cookie, asked.Key, answer)
	assert.Equal(t, 422, status, "it was spent by that")
	asked = begin(cookie)
	status, text = add(cookie, asked.Key, answer)
	assert.Equal(t, 422, status, "the answer to another question: %s", text)
	asked = begin(cookie)
	answer = marit.makes(t, asked)
	status, text = add(cookie, asked.Key, answer)
	require.Equal(t, 201, status, text)
	kept := read[apitype.Passkey](t, text)
	assert.Equal(t, "localhost", kept.Host)
	asked = begin(cookie)
	status, text = add(cookie, asked.Key, marit.makes(t, asked))
	assert.Equal(t, 422, status, "twice: %s", text)

	ask := func() apitype.Asked {
		status, text, _ := s.at(http.MethodPost, "/session/passkey/begin", "", "")
		require.Equal(t, 200, status, text)
		return read[apitype.Asked](t, text)
	}
	in := func(key, answer string) (int, string, string) {
		return s.at(http.MethodPost, "/session/passkey", fmt.Sprintf(`{"key":%q,"answer":%s}`, key, answer), "")
	}
	asked = ask()
	answer = marit.answers(t, asked)
	status, text, came := in(asked.Key, answer)
	require.Equal(t, 204, status, text)
	status, text, _ = s.at(http.MethodGet, "/session", "", came)
	require.Equal(t, 200, status)
	assert.Contains(t, text, `"marit"`)
	assert.Contains(t, text, `"engineer"`)
	status, _, _ = in(asked.Key, answer)
	assert.Equal(t, 401, status, "again")
	status, _, _ = in(ask().Key, answer)
	assert.Equal(t, 401, status, "for another question")
	status, _, _ = in("wlp-made-up", answer)
	assert.Equal(t, 401, status)
	status, _, _ = in(ask().Key, `{}`)
	assert.Equal(t, 401, status)
	status, _, _ = in(ask().Key, `"gulls"`)
	assert.Equal(t, 401, status)

	// A device that was never added, one that says it is somebody else's, one that asks nobody, one
	// for another console.
	stranger := s.device("marit")
	asked = ask()
	status, _, _ = in(asked.Key, stranger.answers(t, asked))
	assert.Equal(t, 401, status)
	other := *marit
	other.Authenticator = s.device("olav").Authenticator
	asked = ask()
	status, _, _ = in(asked.Key, other.answers(t, asked))
	assert.Equal(t, 401, status)
	silent := *marit
	silent.Authenticator.Options.UserNotVerified = true
	asked = ask()
	status, _, _ = in(asked.Key, silent.answers(t, asked))
	assert.Equal(t, 401, status)
	lured := *marit
	lured.party.Origin = "http://localhost.evil.example"
	asked = ask()
	status, _, _ = in(asked.Key, lured.answers(t, asked))
	assert.Equal(t, 401, status)

	// By an address there are none; a token adds none; the state folder's token has none.
	s.refused(http.MethodPost, "/session/passkey/begin", "", 422)
	s.refused(http.MethodPost, "/passkeys/begin", "", 422)
	key := s.tokenFor("marit", "engineer")
	refused, _ := s.call(http.MethodPost, "/api/v1/passkeys/begin", "", "Authorization", "Bearer "+key.Key)
	assert.Equal(t, 403, refused.StatusCode)

	// It is seen, and ended, by its own alone.
	_, text, _ = s.at(http.MethodGet, "/passkeys", "", olav)
	assert.JSONEq(t, "[]", text)
	status, _, _ = s.at(http.MethodDelete, "/passkeys/"+kept.ID, "", olav)
	assert.Equal(t, 404, status)
	_, text, _ = s.at(http.MethodGet, "/passkeys", "", cookie)
	list := read[[]apitype.Passkey](t, text)
	require.Len(t, list, 1)
	assert.NotNil(t, list[0].LastUsedAt)
	require.NoError(t, s.c.People.Load(t.Context()), "and so it is for a service that begins now")
	asked = ask()
	status, _, _ = in(asked.Key, marit.answers(t, asked))
	assert.Equal(t, 204, status)
	status, _, _ = s.at(http.MethodDelete, "/passkeys/"+kept.ID, "", cookie)
	assert.Equal(t, 204, status)
	asked = ask()
	status, _, _ = in(asked.Key, marit.answers(t, asked))
	assert.Equal(t, 401, status)

	// A one-time link begins all anew: whoever had the account is out.
	asked = begin(cookie)
	status, text = add(cookie, asked.Key, marit.makes(t, asked))
	require.Equal(t, 201, status, text)
	s.welcomed(s.welcomeLink("marit"), phrase, http.StatusNoContent)
	asked = ask()
	status, _, _ = in(asked.Key, marit.answers(t, asked))
	assert.Equal(t, 401, status)
	changes := string(jsonBody(s, "/changes"))
	assert.Contains(t, changes, "passkey_added")
	assert.Contains(t, changes, "passkey_ended")
	for range 1100 { // strangers who only ask fill nothing up
		_, _, err := s.c.People.BeginPasskeySignIn(marit.party.Origin)
		require.NoError(t, err)
	}
}
