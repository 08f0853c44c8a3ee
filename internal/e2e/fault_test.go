package e2e

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/mariadb"
)

// path is the only path of a service.
func (s *service) path() apitype.Path {
	s.m.t.Helper()
	var list api.PathList
	s.get("/api/v1/paths", &list)
	require.Len(s.m.t, list.Paths, 1)
	return list.Paths[0]
}

func (s *service) readings() []apitype.Reading {
	s.m.t.Helper()
	var list api.ReadingList
	s.get("/api/v1/paths/"+s.path().ID+"/readings?limit=50000", &list)
	return list.Readings
}

// probes counts what is stored.
func probes(list []apitype.Reading) (n int) {
	for _, r := range list {
		n += r.Sent
	}
	return n
}

func TestKilledInTheMiddleOfAMinute(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-interval", "100ms")
	journal := filepath.Join(m.state, "agents", "*", "journal.json")
	written := func() bool {
		names, err := filepath.Glob(journal)
		require.NoError(t, err)
		for _, name := range names {
			if info, err := os.Stat(name); err == nil && info.Size() > 200 {
				return true
			}
		}
		return false
	}
	s.eventually(30*time.Second, written, "the minute in progress is written down")
	database := databasePid(t, m)
	killed := time.Now()
	s.kill()

	again := m.start("serve")
	require.Eventually(t, func() bool { return syscall.Kill(database, 0) != nil }, time.Minute, 50*time.Millisecond, "the database of the killed service has ended")
	var minute apitype.Reading
	again.eventually(90*time.Second, func() bool {
		for _, minute = range again.readings() {
			if slices.Contains(minute.Notes, "resumed") || slices.Contains(minute.Notes, "cut") {
				return true
			}
		}
		return false
	}, "the minute in which it was killed is there")
	// A minute stays open after its end until its last answers had their wait,
	// so one killed just after the turn of a minute may find the one before.
	const open = 10 * time.Second
	assert.WithinDuration(t, killed, minute.StartedAt, time.Minute+open, "it is that minute")
	assert.Contains(t, minute.Notes, "short", "and says that it is short")
	assert.Positive(t, minute.Answered, "what was measured before is in it")
}

func databasePid(t *testing.T, m *machine) int {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(m.state, "database", "db.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.TrimSpace(string(data)))
	require.NoError(t, err)
	return pid
}

func TestKilledDatabaseComesBack(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	s := m.start("serve")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-every", "10s", "-probes", "4", "-interval", "10ms")
	s.eventually(20*time.Second, func() bool { return len(s.readings()) > 0 }, "a first reading")
	before := s.readings()
	pid := databasePid(t, m)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	s.eventually(40*time.Second, func() bool {
		status, _ := s.call("GET", "/readyz", "", "")
		return status == 200 && databasePid(t, m) != pid
	}, "the database is started again")
	s.eventually(40*time.Second, func() bool { return len(s.readings()) > len(before) }, "readings go on")
	assert.Equal(t, before[0], s.readings()[0], "what was there is there")
}

func TestDatabaseAwayAndBack(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "wldb")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	begin := func() *mariadb.Server {
		server, err := mariadb.Start(t.Context(), mariadb.Options{Dir: dir, BufferMiB: 32})
		require.NoError(t, err)
		return server
	}
	database := begin()
	defer func() { _ = database.Stop() }()
	m := newMachine(t)
	s := m.start("serve", "-database", database.DSN("elsewhere"))
	assert.NoDirExists(t, filepath.Join(m.state, "database"), "no server of its own when one is named")
	m.good("watch", "add", "-name", "loopback", "-from", "local", "-to", "127.0.0.1", "-every", "10s", "-probes", "4", "-interval", "10ms")
	s.eventually(20*time.Second, func() bool { return len(s.readings()) > 0 }, "a first reading")
	require.NoError(t, database.Stop())

	var status apitype.Status
	s.eventually(40*time.Second, func() bool {
		s.get("/api/v1/status", &status)
		return status.HeldBack > 0 && status.DatabaseAwaySince != nil
	}, "readings are held back, and it says so")
	code, _ := s.call("GET", "/readyz", "", "")
	assert.Equal(t, 503, code)
	code, body := s.call("GET", "/api/v1/runs", "Bearer "+s.token, "")
	assert.Equal(t, 503, code)
	assert.Contains(t, string(body), "readings are held back")
	s.eventually(40*time.Second, func() bool {
		s.get("/api/v1/status", &status)
		return status.HeldBack >= 2
	}, "measuring goes on")

	database = begin()
	s.eventually(60*time.Second, func() bool {
		s.get("/api/v1/status", &status)
		return status.HeldBack == 0 && status.DatabaseAwaySince == nil
	}, "what was held back is written")
	list := s.readings()
	for i := 1; i < len(list); i++ {
		assert.Less(t, list[i].StartedAt.Sub(list[i-1].StartedAt), 15*time.Second, "no run is missing")
	}
	assert.Equal(t, 4*len(list), probes(list))
	var notices []apitype.Notice
	s.get("/api/v1/notices", &notices)
	require.NotEmpty(t, notices)
	assert.Contains(t, notices[0].Text, "Readings were held back meanwhile")
}
