package api_test

import (
	"fmt"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
)

// TestWhoIsOutHearsNoMore: an open stream of events ends with what its listener came in by, and
// goes on while others are ended.
func TestWhoIsOutHearsNoMore(t *testing.T) {
	s := serve(t)
	person := s.letIn("marit", "engineer")
	s.letIn("olav", "viewer")
	listen := func(headers ...string) <-chan error {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.web.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.Equal(t, 200, answer.StatusCode)
		ended := make(chan error, 1)
		go func() {
			_, err := io.Copy(io.Discard, answer.Body)
			_ = answer.Body.Close()
			ended <- err
		}()
		return ended
	}
	byCookie := func() (string, <-chan error) {
		cookie, status, text := s.signedIn("marit", phrase)
		require.Equal(t, 204, status, text)
		return cookie, listen("Cookie", cookie)
	}
	sessions := func() (list []apitype.SignedIn) {
		for _, x := range get[[]apitype.SignedIn](s, "/sessions") {
			if x.Name == "marit" && x.Way == "passphrase" {
				list = append(list, x)
			}
		}
		return list
	}
	for name, end := range map[string]func() <-chan error{
		"its session is ended": func() <-chan error {
			_, heard := byCookie()
			s.ask(http.MethodDelete, "/sessions/"+sessions()[0].ID, "", http.StatusNoContent, nil)
			return heard
		},
		"who listens signs out": func() <-chan error {
			cookie, heard := byCookie()
			answer, text := s.asNobody(http.MethodDelete, "/session", "", "Cookie", cookie)
			require.Equal(t, 204, answer.StatusCode, text)
			return heard
		},
		"its token is ended": func() <-chan error {
			key := s.tokenFor("marit", "viewer")
			heard := listen("Authorization", "Bearer "+key.Key)
			s.ask(http.MethodDelete, "/tokens/"+key.ID, "", http.StatusNoContent, nil)
			return heard
		},
		"its token is over": func() <-chan error {
			var key apitype.Token
			s.ask(http.MethodPost, "/tokens", fmt.Sprintf(`{"person":"marit","title":"short","ends_at":%q}`, time.Now().Add(2*time.Second).UTC().Format(time.RFC3339Nano)), http.StatusCreated, &key)
			return listen("Authorization", "Bearer "+key.Key)
		},
		"its person may do other than before": func() <-chan error {
			s.ask(http.MethodPatch, "/people/"+person.ID, `{"role":"engineer"}`, http.StatusOK, nil)
			_, heard := byCookie()
			s.ask(http.MethodPatch, "/people/"+person.ID, `{"role":"viewer"}`, http.StatusOK, nil)
			return heard
		},
		"another passphrase is set": func() <-chan error {
			_, heard := byCookie()
			s.welcomed(s.welcomeLink("marit"), phrase, http.StatusNoContent)
			return heard
		},
		"its person is ended": func() <-chan error {
			_, heard := byCookie()
			s.ask(http.MethodPatch, "/people/"+person.ID, `{"ended":true}`, http.StatusOK, nil)
			s.ask(http.MethodPatch, "/people/"+person.ID, `{"ended":false}`, http.StatusOK, nil)
			return heard
		},
	} {
		t.Run(name, func(t *testing.T) {
			other := listen("Authorization", "Bearer "+s.tokenFor("olav", "viewer").Key)
			select {
			case <-end():
			case <-time.After(20 * time.Second):
				t.Fatal("the stream goes on")
			}
			select {
			case err := <-other:
				assert.Fail(t, "another's stream ended", err)
			default:
			}
		})
	}
}
