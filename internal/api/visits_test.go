package api_test

import (
	"bytes"
	"context"
	"encoding/json"
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

	"woodlark.example/core/visitor"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
)

// begun is what a visit is measured by.
type begun struct {
	ID     string
	Ticket string
	Plan   visitor.Plan
}

func (s *desk) readiness(more string) apitype.GuestLink {
	s.t.Helper()
	return s.guestLink(fmt.Sprintf(`{"what": "readiness", "title": "Gannet Bay", "need": "calls", "seats": 3, "ends_at": %q%s}`, until(time.Hour), more))
}

func (s *desk) begin(l apitype.GuestLink) (b begun) {
	s.t.Helper()
	answer, text := s.asGuest(&http.Client{}, http.MethodPost, l.Path+"/visit/begin", "")
	require.Equal(s.t, http.StatusCreated, answer.StatusCode, text)
	require.NoError(s.t, json.Unmarshal([]byte(text), &b))
	return b
}

func (b begun) at(l apitype.GuestLink, call string) string {
	return l.Path + "/visit/" + call + "?" + url.Values{"ticket": {b.Ticket}}.Encode()
}

// TestAVisitByALink from its page to what is kept of it.
func TestAVisitByALink(t *testing.T) {
	s := serve(t)
	l := s.readiness(`, "notes": "Thank you."`)
	guest := &http.Client{}
	answer, text := s.asGuest(guest, http.MethodGet, l.Path, "")
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	assert.Contains(t, text, "the page to measure by")
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "script-src 'self'")
	_, text = s.asGuest(guest, http.MethodGet, l.Path+"/visit/", "")
	for _, says := range []string{"Gannet Bay", "Thank you.", "calls", `"seats":3`} {
		assert.Contains(t, text, says)
	}

	b := s.begin(l)
	assert.Equal(t, 3, b.Plan.Seats)
	answer, _ = s.asGuest(guest, http.MethodGet, b.at(l, "ping"), "")
	assert.Equal(t, http.StatusNoContent, answer.StatusCode)

	// Down as much as the visitor wants, and up as much as it has.
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.web.URL+b.at(l, "down"), nil)
	require.NoError(t, err)
	down, err := guest.Do(r)
	require.NoError(t, err)
	n, err := io.CopyN(io.Discard, down.Body, 20<<20)
	require.NoError(t, err)
	assert.EqualValues(t, 20<<20, n)
	_ = down.Body.Close()
	up, err := guest.Post(s.web.URL+b.at(l, "up"), "application/octet-stream", bytes.NewReader(make([]byte, 8<<20)))
	require.NoError(t, err)
	_ = up.Body.Close()
	assert.Equal(t, http.StatusNoContent, up.StatusCode)

	told, err := json.Marshal(visitor.Told{Words: "at the <quay>", Blocked: "by the test", Sent: []float64{}, Came: []visitor.Came{}, Echoes: []visitor.Trip{}, Down: []visitor.Mark{}, Trips: []visitor.Trip{{Phase: visitor.Rest, Ms: new(float64)}}})
	require.NoError(t, err)
	answer, text = s.asGuest(guest, http.MethodPost, b.at(l, "end"), string(told))
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	assert.Contains(t, text, `"answer":"not_told"`)
	answer, _ = s.asGuest(guest, http.MethodPost, b.at(l, "end"), string(told))
	assert.Equal(t, http.StatusGone, answer.StatusCode, "it is over")

	var list []apitype.Visit
	s.ask(http.MethodGet, "/visits", "", http.StatusOK, &list)
	require.Len(t, list, 1)
	assert.Equal(t, b.ID, list[0].ID)
	assert.Equal(t, "done", list[0].Outcome)
	assert.Equal(t, "at the <quay>", list[0].Words)
	assert.Equal(t, l.LinkID, list[0].LinkID)
	var one apitype.Visit
	s.ask(http.MethodGet, "/visits/"+b.ID, "", http.StatusOK, &one)
	require.NotNil(t, one.Found)
	assert.Equal(t, visitor.ByVisitor, one.Found.Rest.By)
	assert.EqualValues(t, 8<<20, one.Found.Rates[0].Bytes, "the last of them counts, too")
	assert.Contains(t, one.Agent, "Go-http-client")
	s.refused(http.MethodGet, "/visits/"+s.path.String(), "", http.StatusNotFound)
}

// TestVisitsAreBounded: one of a link at a time, by the ticket alone, and nothing by other links,
// other pages, after the end.
func TestVisitsAreBounded(t *testing.T) {
	s := serve(t)
	l, other := s.readiness(""), s.readiness("")
	guest := &http.Client{}
	b := s.begin(l)
	answer, text := s.asGuest(guest, http.MethodPost, l.Path+"/visit/begin", "")
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode)
	assert.Contains(t, text, "Somebody measures by this link just now")
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		header             []string
	}{
		"no ticket":          {http.MethodGet, l.Path + "/visit/down", "", http.StatusGone, nil},
		"another ticket":     {http.MethodGet, begun{Ticket: strings.Repeat("A", 22)}.at(l, "down"), "", http.StatusGone, nil},
		"by another link":    {http.MethodGet, b.at(other, "down"), "", http.StatusGone, nil},
		"no link":            {http.MethodGet, "/guest/none/visit/down?ticket=" + b.Ticket, "", http.StatusNotFound, nil},
		"from another page":  {http.MethodPost, b.at(l, "end"), "{}", http.StatusForbidden, []string{"Sec-Fetch-Site", "cross-site"}},
		"another method":     {http.MethodPut, b.at(l, "end"), "{}", http.StatusMethodNotAllowed, nil},
		"no offer":           {http.MethodPost, b.at(l, "offer"), "v=0", http.StatusUnprocessableEntity, nil},
		"a second offer":     {http.MethodPost, b.at(l, "offer"), "v=0", http.StatusUnprocessableEntity, nil},
		"no figures":         {http.MethodPost, b.at(l, "end"), "{", http.StatusUnprocessableEntity, nil},
		"a field too many":   {http.MethodPost, b.at(l, "end"), `{"rate": 1}`, http.StatusUnprocessableEntity, nil},
		"more than is taken": {http.MethodPost, b.at(l, "end"), `{"words": "` + strings.Repeat("x", visitor.MostTold) + `"}`, http.StatusUnprocessableEntity, nil},
		"words without end":  {http.MethodPost, b.at(l, "end"), `{"words": "` + strings.Repeat("x", visitor.MostWords+1) + `"}`, http.StatusUnprocessableEntity, nil},
		"the service's own":  {http.MethodGet, "/api/v1/visits", "", http.StatusUnauthorized, nil},
	} {
		answer, text := s.asGuest(guest, c.method, c.path, c.body, c.header...)
		assert.Equal(t, c.status, answer.StatusCode, "%s: %s", name, text)
	}
	s.ask(http.MethodDelete, "/guest-links/"+l.LinkID, "", http.StatusNoContent, nil)
	answer, _ = s.asGuest(guest, http.MethodGet, b.at(l, "ping"), "")
	assert.Equal(t, http.StatusGone, answer.StatusCode, "the link was ended")

	// Who went away is kept as that.
	s.c.Visits.Close()
	var list []apitype.Visit
	s.ask(http.MethodGet, "/visits", "", http.StatusOK, &list)
	require.Len(t, list, 1)
	assert.Equal(t, "left", list[0].Outcome)
	assert.Empty(t, list[0].Answer)
}

func TestALinkToMeasureByWithAPassphrase(t *testing.T) {
	s := serve(t)
	l := s.readiness(`, "passphrase": "one two three"`)
	answer, _ := s.asGuest(&http.Client{}, http.MethodPost, l.Path+"/visit/begin", "")
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	jar := &http.Client{Jar: jarOf(t)}
	answer, text := s.asGuest(jar, http.MethodPost, l.Path, "passphrase=one+two+three")
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	answer, text = s.asGuest(jar, http.MethodPost, l.Path+"/visit/begin", "")
	assert.Equal(t, http.StatusCreated, answer.StatusCode, text)
	s.c.Visits.Close()
}

func TestBadLinksToMeasureBy(t *testing.T) {
	s := serve(t)
	for spec, says := range map[string]string{
		`"need": ""`: "say what the place has to be fit for", `"need": "flying"`: "no need", `"need": "calls", "seats": -1`: "seats",
		`"need": "calls", "frozen": true`: "frozen", `"need": "calls", "subject_id": "x"`: "nothing else", `"need": "need: mine\nstreams: [{stream: a, codec: none}]"`: "need",
	} {
		text := s.refused(http.MethodPost, "/guest-links", fmt.Sprintf(`{"what": "readiness", "title": "T", "ends_at": %q, %s}`, until(time.Hour), spec), http.StatusUnprocessableEntity)
		assert.Contains(t, text, says, spec)
	}
	text := s.refused(http.MethodPost, "/guest-links", fmt.Sprintf(`{"what": "report", "title": "T", "ends_at": %q, "need": "calls"}`, until(time.Hour)), http.StatusUnprocessableEntity)
	assert.Contains(t, text, "need and seats are of a readiness test")
}

func jarOf(t *testing.T) http.CookieJar {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return jar
}

// TestTheWayToAVisitorIsTraced where that is allowed, by an agent of the service.
func TestTheWayToAVisitorIsTraced(t *testing.T) {
	s := serve(t)
	var traced string
	s.c.Visits.Trace = func(_ context.Context, address string) (ident.ID, error) {
		traced = address
		return s.path, nil
	}
	l := s.readiness("")
	b := s.begin(l)
	answer, text := s.asGuest(&http.Client{}, http.MethodPost, b.at(l, "end"), "{}")
	require.Equal(t, http.StatusOK, answer.StatusCode, text)
	assert.Equal(t, "127.0.0.1", traced)
	var one apitype.Visit
	s.ask(http.MethodGet, "/visits/"+b.ID, "", http.StatusOK, &one)
	assert.Equal(t, s.path.String(), one.Route)
}
