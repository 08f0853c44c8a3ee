package api_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

// bomb is so many bytes of a text, again and again, packed: as parts that are all alike, so
// that it is made at once.
func bomb(t *testing.T, before, text string, size int) []byte {
	t.Helper()
	part := func(text string) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	block := strings.Repeat(text, (1<<20)/len(text))
	return append(part(before), bytes.Repeat(part(block), size/len(block))...)
}

// most is how much memory was in use at most while something was done.
func most(do func()) uint64 {
	var high uint64
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		tick := time.NewTicker(5 * time.Millisecond)
		defer tick.Stop()
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			high = max(high, m.HeapInuse)
			select {
			case <-stop:
				return
			case <-tick.C:
			}
		}
	}()
	do()
	close(stop)
	<-ended
	return high
}

// joined is an agent that has joined.
func (s *desk) joined(name string) remote.JoinAnswer {
	var invite apitype.Invite
	s.ask(http.MethodPost, "/agents/invites", `{}`, http.StatusCreated, &invite)
	var me remote.JoinAnswer
	answer := s.asAgent(http.MethodPost, "/join", "", remote.JoinRequest{Code: invite.Code, Name: name})
	require.Equal(s.t, http.StatusOK, answer.StatusCode)
	require.NoError(s.t, json.NewDecoder(answer.Body).Decode(&me))
	return me
}

// send posts a body as it is.
func (s *desk) send(path, key string, body []byte, encoding string) int {
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodPost, s.web.URL+"/api/v1/agent"+path, bytes.NewReader(body))
	require.NoError(s.t, err)
	if encoding != "" {
		r.Header.Set("Content-Encoding", encoding)
	}
	if key != "" {
		r.Header.Set("Authorization", "Bearer "+key)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, answer.Body)
	return answer.StatusCode
}

func TestSmallBodiesDoNotBecomeLargeOnes(t *testing.T) {
	s := serve(t)
	key := s.joined("pier").Key
	const large = 500 << 20
	zeros := bomb(t, "", "\x00", large)
	spaces := bomb(t, "", " ", large)
	text := bomb(t, `{"code":"`, "a", large)
	uploads := bomb(t, `{"Readings":[`, `{},`, large)
	deep := bomb(t, `{"Traces":[{"Report":{"hops":[`, `{},`, 60<<20)
	replies := bomb(t, `[`, `{},`, large)
	plainZeros := make([]byte, 63<<20)
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	high := most(func() {
		var wg sync.WaitGroup
		for _, c := range []struct {
			path, key string
			body      []byte
			encoding  string
		}{
			{"/join", "", zeros, "gzip"}, {"/join", "", spaces, "gzip"}, {"/join", "", text, "gzip"}, {"/join", "", text, "gzip"}, {"/join", "", plainZeros, ""},
			{"/uploads", key, uploads, "gzip"}, {"/uploads", key, deep, "gzip"}, {"/uploads", key, deep, "gzip"}, {"/uploads", key, spaces, "gzip"}, {"/uploads", key, plainZeros, ""},
			{"/replies", key, replies, "gzip"}, {"/replies", key, plainZeros, ""}, {"/health", key, text, "gzip"}, {"/health", key, plainZeros, ""},
			{"/uploads", key, uploads, "br"},
		} {
			wg.Go(func() {
				status := s.send(c.path, c.key, c.body, c.encoding)
				assert.True(t, status == 0 || status >= 400 && status < 500, "%s: %d", c.path, status)
			})
		}
		wg.Wait()
	})
	assert.Less(t, high, before.HeapInuse+400<<20, "MiB: %d before, %d at most", before.HeapInuse>>20, high>>20)
}

func TestUploadsAreNotBelieved(t *testing.T) {
	s := serve(t)
	pier, holm := s.joined("pier"), s.joined("holm")
	s.ask(http.MethodPost, "/watches", `{"name": "both", "from": ["pier", "holm"], "to": ["192.0.2.77"]}`, http.StatusCreated, nil)
	pathOf := func(key string) ident.ID {
		var p protocol.Plan
		require.NoError(t, json.NewDecoder(s.asAgent(http.MethodGet, "/plan", key, nil).Body).Decode(&p))
		return p.Tasks[0].Path
	}
	own, other := pathOf(pier.Key), pathOf(holm.Key)
	now := time.Now().Truncate(time.Minute).Add(-time.Minute)
	reads := func(change func(*protocol.Record)) protocol.Upload {
		r := minute(own, now, 3)
		change(&r)
		return protocol.Upload{Readings: []protocol.Record{r}}
	}
	run := ident.New()
	require.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/uploads", holm.Key, protocol.Upload{Runs: []protocol.Run{{ID: run, Path: other, Started: now, Ended: now, Outcome: protocol.Done}}}).StatusCode)
	for name, u := range map[string]protocol.Upload{
		"no such path":           reads(func(r *protocol.Record) { r.Path = ident.New() }),
		"another's path":         reads(func(r *protocol.Record) { r.Path = other }),
		"of 1970":                reads(func(r *protocol.Record) { r.Reading.At = time.Unix(0, 0) }),
		"of 2150":                reads(func(r *protocol.Record) { r.Reading.At = now.AddDate(124, 0, 0) }),
		"more answered than due": reads(func(r *protocol.Record) { r.Reading.Answered = 90 }),
		"less than none":         reads(func(r *protocol.Record) { r.Reading.Lost = -1; r.Reading.Refused = 4 }),
		"times below zero":       reads(func(r *protocol.Record) { r.Reading.RTT.Min = figure.Of(time.Duration(-1)) }),
		"out of order":           reads(func(r *protocol.Record) { r.Reading.RTT.Min = figure.Of(time.Minute) }),
		"probes that are none":   reads(func(r *protocol.Record) { r.Packed = []byte{1, 255, 255, 255} }),
		"probes of another":      reads(func(r *protocol.Record) { r.Packed = reading.Pack(now, []reading.Probe{{DueAt: now}}) }),
		"a negative span":        reads(func(r *protocol.Record) { r.Reading.Span = -time.Minute }),
		"another's run":          {Runs: []protocol.Run{{ID: run, Path: own, Started: now, Ended: now, Outcome: protocol.Failed}}},
		"no outcome":             {Runs: []protocol.Run{{ID: ident.New(), Path: own, Started: now, Ended: now, Outcome: "gulls"}}},
		"a long outcome":         {Runs: []protocol.Run{{ID: ident.New(), Path: own, Started: now, Ended: now, Outcome: protocol.Outcome(strings.Repeat("x", 1<<20))}}},
		"a long target":          {Traces: []protocol.Trace{{ID: ident.New(), Target: strings.Repeat("x", 1000), Family: 4, Via: "icmp", Started: now, Ended: now, Outcome: protocol.Failed}}},
		"a trace of no family":   {Traces: []protocol.Trace{{ID: ident.New(), Target: "x", Family: 5, Via: "icmp", Started: now, Ended: now, Outcome: protocol.Failed}}},
	} {
		answer := s.asAgent(http.MethodPost, "/uploads", pier.Key, u)
		body, _ := io.ReadAll(answer.Body)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, "%s: %s", name, body)
		assert.NotContains(t, string(body), "Error 1", name)
	}
	kept, err := s.c.Store.Run(t.Context(), run)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, kept.Outcome)
	for _, path := range []ident.ID{own, other} {
		list, err := s.c.Store.Readings(t.Context(), path, time.Unix(0, 0), now.AddDate(200, 0, 0), 10, false)
		require.NoError(t, err)
		assert.Empty(t, list)
	}
	long := strings.Repeat("x", 1<<20)
	assert.Equal(t, http.StatusRequestEntityTooLarge, s.asAgent(http.MethodPost, "/health", pier.Key, protocol.Health{Version: long}).StatusCode)
	assert.Equal(t, http.StatusUnprocessableEntity, s.asAgent(http.MethodPost, "/health", pier.Key, protocol.Health{Version: long[:500]}).StatusCode)
	for _, field := range []string{"site", "labels", "name"} {
		answer, body := s.call(http.MethodPost, "/api/v1/agents/invites", `{"`+field+`": "`+long[:5000]+`"}`)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, field)
		assert.Contains(t, body, "at most", field)
	}
}

func TestReadingsByAWrongClockAreMarked(t *testing.T) {
	s := serve(t)
	pier := s.joined("pier")
	s.ask(http.MethodPost, "/watches", `{"name": "both", "from": ["pier"], "to": ["192.0.2.77"]}`, http.StatusCreated, nil)
	var p protocol.Plan
	require.NoError(t, json.NewDecoder(s.asAgent(http.MethodGet, "/plan", pier.Key, nil).Body).Decode(&p))
	path := p.Tasks[0].Path
	there := time.Now().Add(-5 * time.Hour)
	require.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/uploads", pier.Key, protocol.Upload{SentAt: there, Readings: []protocol.Record{minute(path, there.Truncate(time.Minute).Add(-time.Minute), 3)}}).StatusCode)
	list := get[struct{ Readings []apitype.Reading }](s, "/paths/"+path.String()+"/readings")
	require.Len(t, list.Readings, 1)
	assert.Contains(t, list.Readings[0].Notes, "clock_wrong")
	status := get[apitype.Status](s, "/status")
	require.Len(t, status.ClocksOff, 1)
	assert.InDelta(t, -5*3600, status.ClocksOff[0].OffsetS, 60)
	notices := get[[]apitype.Notice](s, "/notices")
	require.NotEmpty(t, notices)
	assert.Contains(t, notices[0].Text, "The clock of agent pier is 5h")
	assert.Equal(t, "unmeasured", get[apitype.Path](s, "/paths/"+path.String()).State, "no path is judged by it")
	learnt, err := s.c.Store.History(t.Context(), path, time.Unix(0, 0), time.Now())
	require.NoError(t, err)
	assert.Zero(t, learnt.Len())
	require.Equal(t, http.StatusNoContent, s.asAgent(http.MethodPost, "/uploads", pier.Key, protocol.Upload{SentAt: time.Now(), Readings: []protocol.Record{minute(path, time.Now().Truncate(time.Minute).Add(-time.Minute), 3)}}).StatusCode)
	assert.Empty(t, get[apitype.Status](s, "/status").ClocksOff)
}

func TestAnAgentThatWasRemovedComesBackAsWhoItWas(t *testing.T) {
	s := serve(t)
	pier := s.joined("pier")
	s.ask(http.MethodDelete, "/agents/pier", "", http.StatusNoContent, nil)
	again := s.joined("pier")
	assert.Equal(t, pier.ID, again.ID, "so that what it holds of its paths is taken")
	assert.NotEqual(t, pier.Key, again.Key)
	assert.Equal(t, http.StatusUnauthorized, s.asAgent(http.MethodGet, "/plan", pier.Key, nil).StatusCode)
}

func TestWrongTokensAreLimited(t *testing.T) {
	s := serve(t)
	var last int
	for range 40 {
		answer, _ := s.call(http.MethodPost, "/api/v1/session", `{"token":"gull"}`, "Authorization", "")
		last = answer.StatusCode
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
	answer, _ := s.call(http.MethodPost, "/api/v1/session", `{"token":"`+token+`"}`, "Authorization", "")
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode, "the right one is not told from there either")
	assert.NotEmpty(t, answer.Header.Get("Retry-After"))
	answer, _ = s.call(http.MethodGet, "/api/v1/status", "", "Authorization", "Bearer gull")
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode)
}

func TestOtherPagesCannotUseTheCookie(t *testing.T) {
	s := serve(t)
	answer, _ := s.call("POST", "/api/v1/session", `{"token":"`+token+`"}`, "Authorization", "")
	require.Equal(t, 204, answer.StatusCode)
	cookie := "woodlark_session=" + answer.Cookies()[0].Value
	own := strings.TrimPrefix(s.web.URL, "http://")
	for _, c := range []struct {
		name, header, value string
		want                int
	}{
		{"our own page", "Origin", s.web.URL, 201},
		{"another port", "Origin", "http://127.0.0.1:1", 403},
		{"another host", "Origin", "http://gulls.example", 403},
		{"no page", "Origin", "null", 403},
		{"another site", "Sec-Fetch-Site", "cross-site", 403},
		{"the same site, another port", "Sec-Fetch-Site", "same-site", 403},
		{"our own site", "Sec-Fetch-Site", "same-origin", 201},
	} {
		answer, body := s.call("POST", "/api/v1/agents/invites", `{}`, "Authorization", "", "Cookie", cookie, c.header, c.value)
		assert.Equal(t, c.want, answer.StatusCode, "%s: %s", c.name, body)
	}
	for host, want := range map[string]int{own: 200, "localhost:1": 200, "gulls.example": 403, "gulls.example:80": 403, "127.0.0.1.gulls.example": 403} {
		r, err := http.NewRequest(http.MethodGet, s.web.URL+"/api/v1/status", nil)
		require.NoError(t, err)
		r.Host = host
		r.Header.Set("Cookie", cookie)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, want, answer.StatusCode, host)
	}
}

// TestSlowBodiesWithoutAKeyAreNotWaitedFor sends bodies a byte at a time.
func TestSlowBodiesWithoutAKeyAreNotWaitedFor(t *testing.T) {
	s := serve(t)
	address := strings.TrimPrefix(s.web.URL, "http://")
	began := time.Now()
	var wg sync.WaitGroup
	var held sync.Map
	for i := range 100 {
		path := []string{"/api/v1/session", "/api/v1/agent/join", "/api/v1/runs", "/api/v1/agent/uploads"}[i%4]
		wg.Go(func() {
			c, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer c.Close()
			fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 5000\r\n\r\n", path, address)
			over := make(chan struct{})
			go func() {
				defer close(over)
				_, _ = io.Copy(io.Discard, c) // until the service has had enough
			}()
			tick := time.NewTicker(100 * time.Millisecond)
			defer tick.Stop()
			for {
				select {
				case <-over:
					held.Store(i, time.Since(began))
					return
				case <-tick.C:
					if _, err := c.Write([]byte{' '}); err != nil && time.Since(began) > time.Minute {
						return
					}
				}
			}
		})
	}
	// Meanwhile who has the key is served.
	answer, _ := s.call(http.MethodGet, "/api/v1/status", "")
	assert.Equal(t, 200, answer.StatusCode)
	wg.Wait()
	longest := time.Duration(0)
	held.Range(func(_, v any) bool { longest = max(longest, v.(time.Duration)); return true })
	assert.Less(t, longest, 20*time.Second)
}

func TestMetricsAreValidOpenMetrics(t *testing.T) {
	s := serve(t)
	s.ask(http.MethodPost, "/watches", `{"name": "two kinds", "from": ["quay"], "to": ["192.0.2.9"], "via": "icmp,tcp:443"}`, http.StatusCreated, nil)
	var w apitype.Watch
	s.ask(http.MethodGet, "/watches/two%20kinds", "", http.StatusOK, &w)
	u := protocol.Upload{Agent: s.c.Fleet.Agents()[0].ID}
	for _, p := range get[struct{ Paths []apitype.Path }](s, "/paths").Paths {
		id, err := ident.Parse(p.ID)
		require.NoError(t, err)
		u.Readings = append(u.Readings, minute(id, time.Now().Add(-time.Minute), 1))
	}
	require.NoError(t, s.c.Upload(t.Context(), u))
	answer, text := s.call(http.MethodGet, "/metrics", "", "Accept", "application/openmetrics-text; version=1.0.0")
	require.Equal(t, 200, answer.StatusCode, text)
	families, current := map[string]bool{}, ""
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		words := strings.SplitN(line, " ", 4)
		switch {
		case line == "# EOF":
		case words[0] == "#" && words[1] == "HELP":
			require.False(t, families[words[2]], "%s is declared twice", words[2])
			families[words[2]], current = true, words[2]
		case words[0] == "#":
			assert.Equal(t, current, words[2])
		default:
			assert.True(t, strings.HasPrefix(line, current), "%s is no sample of %s", line, current)
		}
	}
	assert.True(t, strings.HasSuffix(text, "# EOF\n"))
	assert.Contains(t, text, `via="tcp:443"`)
	assert.Contains(t, text, `woodlark_database_up 1`)
}

func TestAnswersArePackedAndWrongCallsAreToldApart(t *testing.T) {
	s := serve(t)
	answer, body := s.call(http.MethodGet, "/api/v1/nope", "")
	assert.Equal(t, 404, answer.StatusCode)
	assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
	assert.Contains(t, body, "/api/v1/nope")
	for encoding, unpack := range map[string]func(io.Reader) (io.Reader, error){
		"br":   func(r io.Reader) (io.Reader, error) { return brotli.NewReader(r), nil },
		"gzip": func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
	} {
		answer, body := s.call(http.MethodGet, "/api/v1/paths", "", "Accept-Encoding", encoding)
		assert.Equal(t, encoding, answer.Header.Get("Content-Encoding"))
		r, err := unpack(strings.NewReader(body))
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, json.Valid(data))
	}
}

func TestChangesAreOnRecord(t *testing.T) {
	s := serve(t)
	s.joined("pier")
	s.ask(http.MethodDelete, "/agents/pier", "", http.StatusNoContent, nil)
	s.ask(http.MethodPatch, "/watches/holm", `{"paused": true}`, http.StatusOK, nil)
	s.ask(http.MethodDelete, "/watches/holm", "", http.StatusNoContent, nil)
	list := get[[]apitype.Change](s, "/changes?limit=50")
	var what []string
	for _, c := range list {
		what = append(what, c.What)
	}
	assert.Equal(t, []string{"watch_removed", "watch_changed", "agent_removed", "agent_joined", "agent_invited", "watch_added"}, what)
	assert.Equal(t, "administrator from 127.0.0.1", list[0].Who)
	assert.Equal(t, "holm", list[0].Name)
	assert.Contains(t, string(list[1].Detail), `"Paused":true`)
	assert.Contains(t, list[3].Who, "an agent from 127.0.0.1")
}
