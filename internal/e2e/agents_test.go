package e2e

import (
	"crypto/ed25519"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/signed"
)

// freePort is one that nothing listens at now.
func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// joined starts an agent that has joined a service.
func (s *service) joined(name string, more ...string) (*running, string) {
	s.m.t.Helper()
	invite := jsonOf[apitype.Invite](s.m.t, s.m.good("agents", "invite", "-name", name, "-site", "Holm", "-format", "json"))
	folder := filepath.Join(filepath.Dir(s.m.state), name)
	args := append([]string{"agent", "-join", s.base, "-invite", invite.Code, "-state", folder, "-listen", freePort(s.m.t)}, more...)
	r := s.m.background("msg=ready", args...)
	s.eventually(waitLimit, func() bool { return s.agent(name).Alive }, "%s is there", name)
	return r, folder
}

func (s *service) agent(name string) apitype.Agent {
	s.m.t.Helper()
	out, _, _ := s.m.cli("agents", "-format", "json")
	for _, a := range jsonOf[[]apitype.Agent](s.m.t, out) {
		if a.Name == name {
			return a
		}
	}
	return apitype.Agent{}
}

// TestAgentsOnOtherMachines: they join once, measure by the plan while the service is
// away, hand over what they kept, measure between each other, and are locked out at once.
func TestAgentsOnOtherMachines(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	at := freePort(t)
	s := m.start("serve", "-listen", at)
	pier, folder := s.joined("pier", "-allow", "127.0.0.0/8")
	_, mole := s.joined("mole", "-load-hours", "00:00-24:00")

	key, err := os.Stat(filepath.Join(folder, "agent.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), key.Mode().Perm())
	a := s.agent("pier")
	assert.Equal(t, "remote", a.Kind)
	assert.Equal(t, "Holm", a.Site)
	require.NotNil(t, a.Health)
	assert.Contains(t, a.Health.Limits, "127.0.0.0/8 only")
	assert.NotEmpty(t, a.Health.Responder)
	assert.NotEmpty(t, a.Health.May)

	t.Run("on demand", func(t *testing.T) {
		out := m.good("ping", "-from", "pier", "-probes", "20", "-every", "10ms", "-format", "json", "127.0.0.1")
		assert.Contains(t, out, `"answered": 20`)
		out, _, status := m.cli("ping", "-from", "pier", "-probes", "2", "-every", "10ms", "203.0.113.1")
		assert.Equal(t, 3, status)
		assert.Contains(t, out, "the owner of this agent does not allow it")
		assert.Contains(t, m.good("trace", "-from", "pier", "-probes", "1", "127.0.0.1"), "this host itself")
		assert.Contains(t, m.good("here", "-from", "mole"), "Interface")
	})
	t.Run("both ways", func(t *testing.T) {
		out := m.good("trace", "-from", "pier", "-probes", "1", "-both-ways", "-format", "json", "127.0.0.1")
		assert.NotNil(t, jsonOf[finding.TraceReport](t, out).Back, "who stands at the target traces back")
	})
	t.Run("between each other", func(t *testing.T) {
		out, errs, status := m.cli("stream", "-from", "pier", "-codec", "g711", "-for", "3s", "-format", "json", "mole")
		require.Less(t, status, 2, errs)
		x := jsonOf[finding.StreamReport](t, out)
		assert.Equal(t, "pier", x.From)
		assert.Equal(t, "mole", x.To)
		assert.Len(t, x.Directions, 2)
		out, errs, status = m.cli("throughput", "-from", "pier", "-protocol", "udp", "-rate", "10M", "-for", "2s", "-direction", "there", "-format", "json", "mole")
		require.Less(t, status, 2, errs)
		y := jsonOf[finding.ThroughputReport](t, out)
		assert.InEpsilon(t, 10e6, *y.Directions[0].ReceivedBps, 0.05)
		out, errs, status = m.cli("throughput", "-from", "pier", "-bytes", "3000000", "-warm-up", "0s", "-explain=false", "-direction", "there", "-format", "json", "mole")
		require.Less(t, status, 2, errs)
		y = jsonOf[finding.ThroughputReport](t, out)
		assert.GreaterOrEqual(t, y.Directions[0].ReceivedBytes, int64(3_000_000))
		assert.Less(t, y.Directions[0].ReceivedBytes, int64(4_000_000))
		out, errs, status = m.cli("stream", "-from", "pier", "-reflector", "-for", "2s", "-format", "json", s.agent("mole").Health.Responder)
		require.Less(t, status, 2, errs)
		x = jsonOf[finding.StreamReport](t, out)
		require.NotNil(t, x.Reflector)
		assert.Equal(t, "pier", x.From)
		assert.Equal(t, 100, x.Directions[0].Sent)
		_, errs, status = m.cli("stream", "-from", "pier", "-for", "1s", "nobody")
		assert.Equal(t, 2, status)
		assert.Contains(t, errs, "there is no agent")
	})

	m.good("watch", "add", "-name", "quay", "-from", "pier", "-to", "127.0.0.1")
	readings := func() []apitype.Reading {
		out, _, _ := m.cli("results", "-from", "pier", "-to", "127.0.0.1", "-last", "30m", "-format", "json")
		return slices.DeleteFunc(jsonOf[[]apitype.Reading](t, out), func(r apitype.Reading) bool { return slices.Contains(r.Notes, "on_demand") })
	}
	s.eventually(150*time.Second, func() bool { return len(readings()) > 0 }, "the first reading")
	status, body := s.call(http.MethodPost, "/api/v1/two-ended", "Bearer "+s.token, `{"kind": "stream", "from": "mole", "to": "pier", "for": "10s"}`)
	require.Equal(t, http.StatusAccepted, status, "%s", body)
	asked := jsonOf[apitype.TwoEnded](t, string(body))
	stream := func() (x apitype.TwoEnded) { s.get("/api/v1/two-ended/"+asked.ID, &x); return x }
	s.eventually(waitLimit, func() bool { return len(stream().Live) > 0 }, "the stream goes on")
	s.cmd.Process.Signal(syscall.SIGKILL)
	<-s.ended
	away := time.Now()
	require.Eventually(t, func() bool { return strings.Contains(pier.log.String(), "measuring goes on") }, waitLimit, tick)
	// The agent measures on, also over a restart of its own.
	require.Eventually(t, func() bool { return time.Since(away) > 65*time.Second }, 2*time.Minute, time.Second)
	pier.kill(syscall.SIGTERM)
	m.background("msg=ready", "agent", "-state", folder, "-listen", freePort(t), "-allow", "127.0.0.0/8")
	s = m.start("serve", "-listen", at)
	s.eventually(waitLimit, func() bool { return s.agent("pier").Alive }, "pier is there again")
	s.eventually(2*time.Minute, func() bool {
		sent := 0
		seen := map[time.Time]bool{}
		for _, r := range readings() {
			assert.False(t, seen[r.StartedAt], "nothing is counted twice")
			seen[r.StartedAt] = true
			if r.StartedAt.After(away.Add(-time.Minute)) && r.StartedAt.Before(away.Add(time.Minute)) {
				sent += r.Sent
			}
		}
		return sent >= 60
	}, "the minute in which the service was away")

	s.eventually(waitLimit, func() bool { return stream().Outcome == "done" }, "what was going on as the service was killed")
	require.NotNil(t, stream().Stream)
	assert.Equal(t, 500, stream().Stream.Directions[0].Sent, "all of it")

	// Used up, and locked out.
	_, errs, status := m.cli("agent", "-join", s.base, "-invite", "gull", "-state", filepath.Join(t.TempDir(), "x"), "-name", "gull")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "this invite cannot be used")
	m.good("agents", "remove", "mole")
	answer, err := http.DefaultClient.Do(request(t, s.base+"/api/v1/agent/plan", mole))
	require.NoError(t, err)
	defer answer.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	out, errs, status := m.cli("agents", "remove", "local")
	assert.Equal(t, 2, status, out)
	assert.Contains(t, errs, "is inside the service")
}

// request asks with the key that an agent keeps in its folder.
func request(t *testing.T, address, folder string) *http.Request {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(folder, "agent.json"))
	require.NoError(t, err)
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
	require.NoError(t, err)
	me := jsonOf[struct {
		ID, Key string
		Seed    []byte
	}](t, string(b))
	require.Empty(t, me.Key, "it signs, and shows no key")
	require.NoError(t, signed.Sign(r, nil, signed.As{ID: me.ID, Key: ed25519.NewKeyFromSeed(me.Seed), At: time.Now()}))
	return r
}
