package e2e

import (
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

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/busy"
)

// TestASecondServiceOnOneDatabaseIsRefused, and says who holds it.
func TestASecondServiceOnOneDatabaseIsRefused(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	other := newMachine(t)
	began := time.Now()
	_, errs, status := other.cli("serve", "-listen", "127.0.0.1:0", "-database", "root@unix("+filepath.Join(m.state, "database", "db.sock")+")/woodlark")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "another service works on this database")
	assert.Contains(t, errs, s.base)
	assert.Contains(t, errs, ", since 20")
	assert.Less(t, time.Since(began), 15*time.Second)
	var status2 apitype.Status
	s.get("/api/v1/status", &status2)
	assert.Nil(t, status2.DatabaseAwaySince, "the first one goes on")
}

// TestBeyondLoopbackItSpeaksTLS: nobody's token goes in clear unawares. A service makes a certificate
// of its own; an agent joins by what its invite says, trusts that one key, and goes on by it; a command
// elsewhere says which key it trusts.
func TestBeyondLoopbackItSpeaksTLS(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve", "-listen", "0.0.0.0:0")
	require.Contains(t, s.base, "https://127.0.0.1:")
	invite := jsonOf[apitype.Invite](t, m.good("agents", "invite", "-site", "Holm", "-format", "json"))
	assert.Contains(t, s.log.String(), "trust="+invite.Trust)
	assert.Contains(t, invite.Command, "-join "+s.base+" -invite "+invite.Code+" -trust sha256:")
	folder := filepath.Join(filepath.Dir(m.state), "pier")
	args := []string{"-state", folder, "-name", "pier", "-listen", freePort(t)}
	said := strings.Fields(invite.Command)
	said = said[1:slices.Index(said, "-listen")]
	wrong := slices.Clone(said)
	wrong[len(wrong)-1] = "sha256:" + strings.Repeat("0", 64)
	_, errs, status := m.cli(append(wrong, args...)...)
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "another key than it is trusted by")
	_, errs, status = m.cli(append(said[:len(said)-2:len(said)-2], args...)...)
	assert.Equal(t, 3, status, "and nobody vouches for it")
	assert.Contains(t, errs, "certificate")
	pier := m.background("msg=ready", append(said, args...)...)
	s.eventually(waitLimit, func() bool { return s.agent("pier").Alive }, "the invite was not spent in vain")
	pier.kill(syscall.SIGTERM)
	pier = m.background("msg=ready", append(said, args...)...) // as a unit does
	s.eventually(waitLimit, func() bool { return s.agent("pier").Alive }, "begun again with its invite")
	pier.kill(syscall.SIGTERM)
	m.background("msg=ready", append([]string{"agent"}, args...)...)
	s.eventually(waitLimit, func() bool { return s.agent("pier").Alive }, "what it trusts is kept")

	other := newMachine(t)
	other.env = []string{"WOODLARK_SERVICE=" + s.base, "WOODLARK_TOKEN=" + s.token}
	_, errs, status = other.cli("agents")
	assert.Equal(t, 3, status)
	assert.Contains(t, errs, "certificate")
	other.env = append(other.env, "WOODLARK_TRUST="+invite.Trust)
	assert.Contains(t, other.good("agents"), "pier")
	other.env[2] = "WOODLARK_TRUST=sha256:00"
	_, errs, status = other.cli("agents")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "64 hexadecimal digits")

	_, errs, status = other.cli("serve", "-listen", "0.0.0.0:0", "-plain-http", "-tls-cert", "a", "-tls-key", "b")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "do not go together")
}

// firstProbe is when the first probe behind a time was sent.
func (s *service) firstProbe(behind time.Time) (at time.Time, ok bool) {
	var list api.PathList
	s.get("/api/v1/paths", &list)
	var series apitype.Series
	s.get("/api/v1/paths/"+list.Paths[0].ID+"/series?from_at="+behind.UTC().Add(-time.Second).Format(time.RFC3339)+"&to_at="+behind.UTC().Add(4*time.Minute).Format(time.RFC3339), &series)
	if series.Resolution != "probe" {
		return at, false
	}
	for _, x := range series.At {
		if x.After(behind) {
			return x, true
		}
	}
	return at, false
}

// TestMeasuringBeginsBeforeTheDatabaseIsThere: both are killed, and the first probe leaves
// within three seconds of the next start. A run that was carried out is not carried out
// again.
func TestMeasuringBeginsBeforeTheDatabaseIsThere(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-interval", "100ms")
	m.good("watch", "add", "-name", "rare", "-from", "local", "-to", "127.0.0.2", "-every", "1000h", "-probes", "3", "-interval", "20ms")
	runs := func(s *service) (list []apitype.Run) {
		s.get("/api/v1/runs?watch=rare&outcome=done", &list)
		return list
	}
	s.eventually(60*time.Second, func() bool { return len(runs(s)) == 1 }, "the first run")
	kept := filepath.Join(m.state, "agents", "*", "plan.json")
	s.eventually(30*time.Second, func() bool { names, _ := filepath.Glob(kept); return len(names) == 1 }, "the plan is kept")
	busy.Again(t, func() string {
		_ = syscall.Kill(databasePid(t, m), syscall.SIGKILL)
		s.kill()
		began := time.Now()
		s = m.start("serve")
		var first time.Time
		s.eventually(100*time.Second, func() (ok bool) { first, ok = s.firstProbe(began); return ok }, "probes behind the start")
		if late := first.Sub(began); late > 3*time.Second {
			return "the first probe left " + late.String() + " after the start"
		}
		return ""
	})
	assert.Len(t, runs(s), 1, "the rare run was carried out once")
}

// TestAFrozenDatabaseHoldsNobodyUp: what is in memory is answered from there.
func TestAFrozenDatabaseHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-every", "10s", "-probes", "4", "-interval", "10ms")
	s.eventually(20*time.Second, func() bool { return len(s.readings()) > 0 }, "a first reading")
	pid := databasePid(t, m)
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	frozen := time.Now()
	known := time.Duration(0)
	longest := map[string]time.Duration{}
	for time.Since(frozen) < 20*time.Second {
		for _, path := range []string{"/paths", "/status", "/agents", "/watches", "/metrics"} {
			at := time.Now()
			full := "/api/v1" + path
			if path == "/metrics" {
				full = path
			}
			status, body := s.call(http.MethodGet, full, "Bearer "+s.token, "")
			longest[path] = max(longest[path], time.Since(at))
			assert.Equal(t, 200, status, "%s: %s", path, body)
			if path == "/status" && known == 0 && !strings.Contains(string(body), `"database_away_since_at":null`) {
				known = time.Since(frozen)
			}
		}
	}
	for path, d := range longest {
		assert.Less(t, d, 4*time.Second, path)
	}
	assert.Positive(t, known, "it knows")
	assert.Less(t, known, 15*time.Second)
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	before := time.Now()
	s.eventually(60*time.Second, func() bool {
		status, _ := s.call(http.MethodGet, "/readyz", "", "")
		var now apitype.Status
		s.get("/api/v1/status", &now)
		return status == 200 && now.DatabaseAwaySince == nil && now.HeldBack == 0
	}, "all is written once it goes on")
	s.eventually(30*time.Second, func() bool {
		list := s.readings()
		return len(list) > 0 && list[len(list)-1].StartedAt.After(before.Add(-20*time.Second))
	}, "readings go on")
}

// TestAFullDisk: killed while its disk is full, the service comes up all the same, says
// which disk that is, measures, and writes what it held back once there is room.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	require.NoError(t, os.MkdirAll(m.state, 0o700))
	require.NoError(t, syscall.Mount("state", m.state, "tmpfs", 0, "size=420m"), "the tests run as root")
	t.Cleanup(func() { _ = syscall.Unmount(m.state, syscall.MNT_DETACH) })
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-interval", "200ms")
	s.eventually(100*time.Second, func() bool { return len(s.readings()) > 0 }, "a first reading")
	address := strings.TrimPrefix(s.base, "http://")
	ballast := filepath.Join(m.state, "ballast")
	f, err := os.Create(ballast)
	require.NoError(t, err)
	block := make([]byte, 1<<20)
	for err == nil {
		_, err = f.Write(block)
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	for n := len(block); n > 0; n /= 2 {
		_, _ = f.Write(block[:n])
	}
	require.NoError(t, f.Close())
	s.kill()
	_ = syscall.Kill(databasePid(t, m), syscall.SIGKILL)

	base, token := s.base, s.token
	began := time.Now()
	s = m.launch("serve", "-listen", address)
	s.base, s.token = base, token
	s.eventually(30*time.Second, func() bool {
		r, err := http.Get(base + "/readyz")
		if err != nil {
			return false
		}
		defer r.Body.Close()
		text := make([]byte, 500)
		n, _ := r.Body.Read(text)
		return r.StatusCode == 503 && strings.Contains(string(text[:n]), m.state) && strings.Contains(string(text[:n]), "is full")
	}, "it is up, and says which disk is full")
	status, body := s.call(http.MethodGet, "/api/v1/status", "Bearer "+token, "")
	if status != 200 {
		assert.Equal(t, 503, status)
		assert.Contains(t, string(body), "is full")
	}
	// It measures meanwhile: let a minute go by.
	s.eventually(100*time.Second, func() bool { return time.Now().Truncate(time.Minute).After(began.Add(5 * time.Second)) }, "a minute is over")
	freed := time.Now()
	require.NoError(t, os.Remove(ballast))
	s.eventually(2*time.Minute, func() bool {
		status, _ := s.call(http.MethodGet, "/readyz", "", "")
		return status == 200
	}, "it recovers by itself")
	s.eventually(100*time.Second, func() bool {
		for _, r := range s.readings() {
			if r.StartedAt.After(began.Add(-time.Minute)) && r.StartedAt.Before(freed.Add(-20*time.Second)) && r.Answered > 50 {
				return true
			}
		}
		return false
	}, "what was measured while it was full is there")
}
