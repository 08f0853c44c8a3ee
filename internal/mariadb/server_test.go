package mariadb_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/mariadb"
)

func start(t *testing.T, dir string) *mariadb.Server {
	s, err := mariadb.Start(t.Context(), mariadb.Options{Dir: dir, BufferMiB: 32})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Stop() })
	return s
}

func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "wlm")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func query(t *testing.T, s *mariadb.Server, statements ...string) {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN(""))
	require.NoError(t, err)
	defer db.Close()
	for _, statement := range statements {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
}

func count(t *testing.T, s *mariadb.Server, from string) (n int, err error) {
	db, err := sql.Open("mysql", s.DSN(""))
	require.NoError(t, err)
	defer db.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	return n, db.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+from).Scan(&n)
}

func TestWhatIsKeptOutlivesStopsAndKills(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	query(t, s, "CREATE DATABASE quay", "CREATE TABLE quay.ships (name VARCHAR(20) PRIMARY KEY) ENGINE=InnoDB", "INSERT INTO quay.ships VALUES ('Razorbill')")
	pid := s.Pid()
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		n, err := count(t, s, "quay.ships")
		return err == nil && n == 1 && s.Pid() != pid
	}, time.Minute, 100*time.Millisecond, "it is started again with what it had")
	require.NoError(t, s.Stop())
	assert.Zero(t, s.Pid())
	require.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)

	again := start(t, dir)
	n, err := count(t, again, "quay.ships")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
}

func TestItListensOnASocketOnly(t *testing.T) {
	s := start(t, folder(t))
	db, err := sql.Open("mysql", s.DSN(""))
	require.NoError(t, err)
	defer db.Close()
	var name, value string
	require.NoError(t, db.QueryRowContext(t.Context(), "SHOW VARIABLES LIKE 'skip_networking'").Scan(&name, &value))
	assert.Equal(t, "ON", value)
}

func TestALongFolderNameStillHasASocket(t *testing.T) {
	dir := filepath.Join(folder(t), strings.Repeat("long/", 22))
	s := start(t, dir)
	assert.NotContains(t, s.DSN(""), "long/long", "a socket's path holds 108 bytes")
	query(t, s, "SELECT 1")
}

func TestAHalfMadeDataFolderIsMadeAnew(t *testing.T) {
	dir := folder(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data.new"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data.new", "ibdata1"), []byte("cut off"), 0o600))
	query(t, start(t, dir), "SELECT 1")
}

func TestAFolderThatCannotBeMade(t *testing.T) {
	file := filepath.Join(folder(t), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := mariadb.Start(t.Context(), mariadb.Options{Dir: filepath.Join(file, "database")})
	require.ErrorContains(t, err, "make the database's folder")
}

func TestServersDoNotShareTemporaryTables(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	db, err := sql.Open("mysql", s.DSN(""))
	require.NoError(t, err)
	defer db.Close()
	var name, value string
	require.NoError(t, db.QueryRowContext(t.Context(), "SHOW VARIABLES LIKE 'tmpdir'").Scan(&name, &value))
	assert.Equal(t, filepath.Join(dir, "tmp"), value)
	// What lies in the system's folder is somebody else's.
	other, err := os.CreateTemp("", "#sql-temptable-other-")
	require.NoError(t, err)
	require.NoError(t, other.Close())
	defer os.Remove(other.Name())
	start(t, folder(t))
	assert.FileExists(t, other.Name())
}
