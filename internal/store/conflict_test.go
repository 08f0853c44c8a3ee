package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// inTheWay has the first two writes to a table end as those do that another node of a cluster was
// quicker with. What counts them is not undone with them.
func inTheWay(t *testing.T, db *sql.DB, table, on string) (tried func() int) {
	t.Helper()
	for _, s := range []string{
		"CREATE TABLE tried_" + table + " (n INT) ENGINE=Aria TRANSACTIONAL=0",
		"INSERT INTO tried_" + table + " VALUES (0)",
		fmt.Sprintf("CREATE TRIGGER way_%s BEFORE %s ON %s FOR EACH ROW BEGIN UPDATE tried_%s SET n = n + 1; "+
			"IF (SELECT n FROM tried_%s) < 3 THEN SIGNAL SQLSTATE '40001' SET MYSQL_ERRNO = 1213, MESSAGE_TEXT = 'Deadlock found'; END IF; END", table, on, table, table, table),
	} {
		_, err := db.ExecContext(t.Context(), s)
		require.NoError(t, err, s)
	}
	return func() (n int) {
		require.NoError(t, db.QueryRowContext(t.Context(), "SELECT n FROM tried_"+table).Scan(&n))
		return n
	}
}

// TestASingleWriteIsTriedAgain: each write, and not only those of several, is tried again when another
// was in the way.
func TestASingleWriteIsTriedAgain(t *testing.T) {
	t.Parallel()
	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: holder("only")})
	require.NoError(t, err)
	defer s.Close()
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	agent, err := s.EnsureAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated"})
	require.NoError(t, err)
	now := time.Now().UTC()
	for _, c := range []struct {
		table, on string
		write     func(context.Context) error
	}{
		{"invites", "INSERT", func(ctx context.Context) error {
			return s.SaveInvite(ctx, store.Invite{ID: ident.New(), Name: "holm", CodeHash: store.HashOf("x"), CreatedAt: now, EndsAt: now.Add(time.Hour)})
		}},
		{"notices", "INSERT", func(ctx context.Context) error {
			return s.SaveNotice(ctx, store.Notice{ID: ident.New(), At: now, Kind: "x", Text: "y"})
		}},
		{"changes", "INSERT", func(ctx context.Context) error { return s.NoteChange(ctx, store.Change{Who: "a", What: "b"}) }},
		{"agents", "UPDATE", func(ctx context.Context) error { return s.SeenAgents(ctx, []ident.ID{agent.ID}, now) }},
	} {
		tried := inTheWay(t, db, c.table, c.on)
		assert.NoError(t, c.write(t.Context()), c.table)
		assert.Equal(t, 3, tried(), c.table)
	}
}
