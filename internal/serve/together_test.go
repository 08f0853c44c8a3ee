package serve_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/serve"
)

// one is a service of several on one database.
type one struct {
	*serve.Process
	t     *testing.T
	token string
	stop  context.CancelFunc
	ended chan error
}

func together(t *testing.T, dsn, token string) *one {
	o := options(t, "127.0.0.1:0")
	o.Settings.Database, o.Settings.Together, o.Token = dsn, true, token
	p, err := serve.Start(t.Context(), o)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	x := &one{Process: p, t: t, token: token, stop: stop, ended: make(chan error, 1)}
	go func() { x.ended <- p.Serve(ctx) }()
	t.Cleanup(func() { stop(); <-x.ended; x.ended <- nil })
	return x
}

func (x *one) call(method, path, token, body string, headers ...string) (int, string) {
	r, err := http.NewRequestWithContext(x.t.Context(), method, x.URL()+path, strings.NewReader(body))
	require.NoError(x.t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err.Error()
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	return answer.StatusCode, string(text)
}

// status is what a service tells of all.
func (x *one) status() (s apitype.Status) {
	code, text := x.call(http.MethodGet, "/api/v1/status", x.token, "")
	if code == http.StatusOK {
		require.NoError(x.t, json.Unmarshal([]byte(text), &s))
	}
	return s
}

// works is the address of the service that works on the database; empty while nobody is known to.
func (x *one) works() string {
	for _, m := range x.status().Services {
		if m.Works {
			return m.Address
		}
	}
	return ""
}

// TestBesideOneThatDoesNotShare: who is told to share a database with one that was not says so, and takes
// over when that one ends.
func TestBesideOneThatDoesNotShare(t *testing.T) {
	db, err := mariadb.Start(t.Context(), mariadb.Options{Dir: options(t, "").Settings.State, BufferMiB: 64, FlushLate: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Stop() })
	o := options(t, "127.0.0.1:0")
	o.Settings.Database = db.DSN("woodlark")
	alone, err := serve.Start(t.Context(), o)
	require.NoError(t, err)
	x := together(t, db.DSN("woodlark"), strings.Repeat("a", 32))
	require.Eventually(t, func() bool {
		code, text := x.call(http.MethodGet, "/readyz", "", "")
		return code == http.StatusServiceUnavailable && strings.Contains(text, "another service works on the database, and does not share it")
	}, time.Minute, 20*time.Millisecond)
	alone.Close()
	require.Eventually(t, func() bool { code, _ := x.call(http.MethodGet, "/readyz", "", ""); return code == 200 }, time.Minute, 20*time.Millisecond)
}

// TestServicesTogether: of several on one database one works, and the others hand on to it whatever
// they are asked, with whoever asks; when it ends another takes over, and has all that the first was
// told.
func TestServicesTogether(t *testing.T) {
	dir := options(t, "").Settings.State
	db, err := mariadb.Start(t.Context(), mariadb.Options{Dir: dir, BufferMiB: 64, FlushLate: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Stop() })
	tokens := []string{strings.Repeat("a", 32), strings.Repeat("b", 32), strings.Repeat("c", 32)}
	var all []*one
	for _, token := range tokens {
		all = append(all, together(t, db.DSN("woodlark"), token))
		require.Eventually(t, func() bool { code, _ := all[len(all)-1].call(http.MethodGet, "/readyz", "", ""); return code == 200 }, time.Minute, 20*time.Millisecond)
	}
	first := all[0]
	for _, x := range all {
		require.Eventually(t, func() bool { return x.works() == first.URL() && len(x.status().Services) == 3 }, time.Minute, 50*time.Millisecond, "each knows who works")
	}
	// Any token is good at any of them, and what one is told all know.
	for i, x := range all {
		code, text := x.call(http.MethodPost, "/api/v1/people", tokens[(i+1)%3], `{"name":"p`+string(rune('a'+i))+`","role":"viewer"}`)
		require.Equal(t, http.StatusCreated, code, text)
	}
	for _, x := range all {
		_, text := x.call(http.MethodGet, "/api/v1/people", tokens[0], "")
		assert.Equal(t, 3, strings.Count(text, `"id"`))
		code, _ := x.call(http.MethodGet, "/api/v1/people", strings.Repeat("d", 32), "")
		assert.Equal(t, http.StatusUnauthorized, code)
	}
	// Who only says that it hands somebody on does not.
	code, _ := first.call(http.MethodGet, "/api/v1/status", tokens[0], "", "Woodlark-Handed-On", "AAAA", "Woodlark-Handed-On-From", "192.0.2.1")
	assert.Equal(t, http.StatusServiceUnavailable, code)
	code, _ = first.call(http.MethodGet, "/api/v1/status", tokens[0], "", "Woodlark-Handed-On-From", "192.0.2.1")
	assert.Equal(t, http.StatusOK, code)

	// Live events come through, and end when another takes over, so that the listener comes anew.
	lines := func(x *one) <-chan string {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, x.URL()+"/api/v1/events", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+x.token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.Equal(t, 200, answer.StatusCode)
		out := make(chan string, 100)
		go func() {
			defer close(out)
			defer answer.Body.Close()
			for in := bufio.NewScanner(answer.Body); in.Scan(); {
				out <- in.Text()
			}
		}()
		return out
	}
	heard := lines(all[1])
	assert.Contains(t, <-heard, "retry")
	began := time.Now()
	first.stop()
	require.NoError(t, <-first.ended)
	first.ended <- nil
	for range heard { // until it ends
	}
	others := all[1:]
	for _, x := range others {
		require.Eventually(t, func() bool { w := x.works(); return w == others[0].URL() || w == others[1].URL() }, time.Minute, 50*time.Millisecond)
		_, text := x.call(http.MethodGet, "/api/v1/people", tokens[2], "")
		assert.Equal(t, 3, strings.Count(text, `"id"`))
	}
	t.Logf("taken over within %v of the beginning of a stop", time.Since(began).Round(time.Millisecond))
	assert.Equal(t, others[0].works(), others[1].works(), "one of them")
	assert.Contains(t, <-lines(others[0]), "retry")
}
