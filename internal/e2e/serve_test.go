package e2e

import (
	"bufio"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
)

func TestServe(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")

	t.Run("health needs no token, all else does", func(t *testing.T) {
		for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/api/v1/paths": 401, "/api/v1/status": 401, "/api/v1/events": 401, "/metrics": 401, "/api/v1/openapi.json": 200} {
			status, body := s.call(http.MethodGet, path, "", "")
			assert.Equal(t, want, status, "%s: %s", path, body)
		}
		status, body := s.call(http.MethodGet, "/api/v1/paths", "Bearer wrong", "")
		assert.Equal(t, 401, status)
		assert.Contains(t, string(body), `"status":401`)
		info, err := os.Stat(filepath.Join(m.state, "token"))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	})

	t.Run("signing in sets a cookie that scripts cannot read", func(t *testing.T) {
		status, _ := s.call(http.MethodPost, "/api/v1/session", "", `{"token":"wrong"}`)
		assert.Equal(t, 401, status)
		r, err := http.Post(s.base+"/api/v1/session", "application/json", strings.NewReader(`{"token":"`+s.token+`"}`))
		require.NoError(t, err)
		defer r.Body.Close()
		require.Equal(t, http.StatusNoContent, r.StatusCode)
		require.Len(t, r.Cookies(), 1)
		c := r.Cookies()[0]
		assert.True(t, c.HttpOnly)
		assert.Equal(t, http.SameSiteStrictMode, c.SameSite)
		again, err := http.NewRequest(http.MethodGet, s.base+"/api/v1/status", nil)
		require.NoError(t, err)
		again.AddCookie(c)
		answer, err := http.DefaultClient.Do(again)
		require.NoError(t, err)
		defer answer.Body.Close()
		assert.Equal(t, 200, answer.StatusCode)
	})

	t.Run("a watch pings loopback through the kernel", func(t *testing.T) {
		events := listen(t, s)
		m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1,127.9.8.7,::1", "-every", "10s", "-probes", "5", "-interval", "20ms")
		var list api.PathList
		s.eventually(20*time.Second, func() bool {
			s.get("/api/v1/paths", &list)
			for _, p := range list.Paths {
				if p.Last == nil {
					return false
				}
			}
			return len(list.Paths) == 3
		}, "three paths have a reading")
		for _, p := range list.Paths {
			assert.Equal(t, 5, p.Last.Answered, p.To)
			assert.Less(t, *p.Last.RTTMedianMs, 2000.0, "within the wait")
			assert.Contains(t, []string{"kernel", "user"}, p.Last.Timestamps)
			assert.Equal(t, "steady", p.State)
		}
		assert.Contains(t, events(), "event: reading")
		var readings []apitype.Reading
		require.NoError(t, json.Unmarshal([]byte(m.good("results", "-from", "local", "-to", "127.9.8.7", "-format", "json")), &readings))
		require.NotEmpty(t, readings)
		assert.Equal(t, 5, readings[0].Sent)
		var runs []apitype.Run
		s.get("/api/v1/runs?watch=loopback", &runs)
		require.NotEmpty(t, runs)
		assert.Equal(t, "done", runs[0].Outcome)
	})

	t.Run("a watch of a name that does not resolve is a failed run", func(t *testing.T) {
		m.good("watch", "add", "-name", "nowhere", "-from", "local", "-to", "nowhere.invalid")
		s.eventually(20*time.Second, func() bool {
			return strings.Contains(m.good("results", "-runs", "-outcome", "failed"), "nowhere.invalid")
		}, "the failed run is recorded with its reason")
	})

	t.Run("on demand, at the agent", func(t *testing.T) {
		var got []map[string]any
		require.NoError(t, json.Unmarshal([]byte(m.good("ping", "-from", "local", "-probes", "10", "-every", "10ms", "-format", "json", "127.0.0.1")), &got))
		require.Len(t, got, 1)
		assert.Equal(t, 10.0, got[0]["answered"])
		assert.Equal(t, "127.0.0.1", got[0]["address"])
		assert.Equal(t, "local", got[0]["from"])
	})

	t.Run("watches are listed, changed, paused and removed", func(t *testing.T) {
		assert.Contains(t, m.good("watch", "list"), "5 probes each 10s")
		assert.Contains(t, m.good("watch", "change", "loopback", "-every", "1m"), "5 probes each 1m0s")
		assert.Contains(t, m.good("watch", "pause", "loopback"), "paused")
		assert.NotContains(t, m.good("watch", "resume", "loopback"), "paused")
		m.good("watch", "remove", "nowhere")
		assert.NotContains(t, m.good("watch", "list"), "nowhere")
		file := filepath.Join(t.TempDir(), "watches.yaml")
		require.NoError(t, os.WriteFile(file, []byte("watches:\n  - {name: loopback, from: [local], to: [127.0.0.2], every: 30s}\n  - {name: other, from: [local], to: [127.0.0.3], paused: true}\n"), 0o600))
		out := m.good("watch", "apply", file)
		assert.Contains(t, out, "127.0.0.2")
		assert.Contains(t, out, "other")
	})

	t.Run("bad watches are refused with their reason", func(t *testing.T) {
		for _, c := range []struct {
			args []string
			says string
		}{
			{[]string{"-from", "local", "-to", "127.0.0.1"}, "needs a name"},
			{[]string{"-name", "other", "-from", "local", "-to", "127.0.0.1"}, "is taken by another watch"},
			{[]string{"-name", "x", "-from", "nobody", "-to", "127.0.0.1"}, `no agent "nobody"; there are ["local"]`},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.0/33"}, "is not a prefix"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.0/24"}, "is a prefix; a target is one address or name"},
			{[]string{"-name", "x", "-from", "local", "-to", "300.1.2.3"}, "is not an IP address"},
			{[]string{"-name", "x", "-from", "local", "-to", strings.Repeat("a", 70000)}, "70000 characters long"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-interval", "-1s"}, "-every -1s is less than 1ms"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-interval", "7s"}, "does not divide a minute"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-repeat", "1s"}, "less than 10s"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-every", "30s"}, "write '-repeat 30s'"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-codec", "g711"}, "-codec is not of a ping"},
			{[]string{"-name", "x", "-kind", "dowse", "-from", "local", "-to", "127.0.0.1"}, "there are ping, sweep, trace"},
			{[]string{"-name", "x", "-from", "local", "-to", "127.0.0.1", "-dscp", "fast"}, "neither a name such as EF"},
		} {
			_, errs, status := m.cli(append([]string{"watch", "add"}, c.args...)...)
			assert.Equal(t, 2, status, "%s: %s", c.says, errs)
			assert.Contains(t, errs, c.says)
			assert.Less(t, len(errs), 1000, "an error is readable")
		}
		file := filepath.Join(t.TempDir(), "bad.yaml")
		for text, says := range map[string]string{"": "names no watches", "watches: [": "is not a file of watches", "watches:\n  - {name: x, frm: [local]}\n": "2:"} {
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			_, errs, status := m.cli("watch", "apply", file)
			assert.Equal(t, 2, status)
			assert.Contains(t, errs, says)
		}
	})

	t.Run("metrics are OpenMetrics", func(t *testing.T) {
		r, err := http.NewRequest(http.MethodGet, s.base+"/metrics", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+s.token)
		r.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		assert.Contains(t, answer.Header.Get("Content-Type"), "application/openmetrics-text")
		var text strings.Builder
		scanner := bufio.NewScanner(answer.Body)
		for scanner.Scan() {
			text.WriteString(scanner.Text() + "\n")
		}
		assert.Contains(t, text.String(), `woodlark_paths{state="steady"}`)
		assert.True(t, strings.HasSuffix(text.String(), "# EOF\n"))
	})

	t.Run("a second service does not share the state or the port", func(t *testing.T) {
		_, errs, status := m.cli("serve", "-listen", "127.0.0.1:0")
		assert.Equal(t, 3, status)
		assert.Contains(t, errs, "in use by another woodlark")
		other := newMachine(t)
		_, errs, status = other.cli("serve", "-listen", strings.TrimPrefix(s.base, "http://"))
		assert.Equal(t, 3, status)
		assert.Contains(t, errs, "is taken by another program")
	})
}

// listen reads the event stream; the function that it returns gives what came
// so far, once a reading is among it.
func listen(t *testing.T, s *service) func() string {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.base+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.Equal(t, "text/event-stream", answer.Header.Get("Content-Type"))
	got := &syncBuffer{}
	go func() {
		defer answer.Body.Close()
		scanner := bufio.NewScanner(answer.Body)
		scanner.Buffer(nil, 1<<20)
		for scanner.Scan() {
			_, _ = got.Write([]byte(scanner.Text() + "\n"))
		}
	}()
	return func() string {
		s.eventually(10*time.Second, func() bool { return strings.Contains(got.String(), "event: reading") }, "an event tells of a reading")
		return got.String()
	}
}

func TestSettings(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	file := filepath.Join(t.TempDir(), "woodlark.yaml")
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for _, c := range []struct {
		name, file string
		args       []string
		says       []string
	}{
		{"unknown key", "listen: 127.0.0.1:0\nlisten-on: x\n", nil, []string{"line 2", `no setting "listen-on"`}},
		{"broken", "listen: [\n", nil, []string{"is not valid YAML"}},
		{"bad value", "zone: Skerries\n", nil, []string{"line 1: zone", "not a known time zone"}},
		{"bad flag", "", []string{"-training", "5m"}, []string{"-training", "at least 24h"}},
		{"unknown flag", "", []string{"-lisen", "x"}, []string{"lisen"}},
		{"the port is taken", "", []string{"-listen", taken.Addr().String()}, []string{"is taken by another program", "-listen"}},
		{"no database there", "", []string{"-listen", "127.0.0.1:0", "-database", "root@tcp(" + taken.Addr().String() + "1)/x"}, []string{"database"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.NoError(t, os.WriteFile(file, []byte(c.file), 0o600))
			_, errs, status := m.cli(append([]string{"serve", "-config", file}, c.args...)...)
			assert.NotZero(t, status)
			for _, says := range c.says {
				assert.Contains(t, errs, says)
			}
		})
	}
}
