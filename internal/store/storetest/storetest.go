// Package storetest gives tests a real database: a private server, started once
// for all tests of a package, and in it a database for each test.
//
//	func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }
package storetest

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/store"
)

var (
	server *mariadb.Server
	count  atomic.Int64
)

// Main starts the server, runs the tests, and stops it.
func Main(m *testing.M) int {
	dir, err := os.MkdirTemp("", "woodlark-test-")
	if err == nil {
		defer os.RemoveAll(dir)
		server, err = mariadb.Start(context.Background(), mariadb.Options{Dir: dir, BufferMiB: 64, FlushLate: true})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "start the database for the tests:", err)
		return 1
	}
	defer server.Stop()
	return m.Run()
}

// DSN names a new, empty database.
func DSN() string { return server.DSN(fmt.Sprintf("test%d", count.Add(1))) }

// New opens a new, empty database for a test.
func New(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), store.Options{DSN: DSN()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}
