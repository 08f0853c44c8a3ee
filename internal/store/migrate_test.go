package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// raw opens a database without our schema, made with a character set.
func raw(t *testing.T, dsn, charset string) *sql.DB {
	t.Helper()
	config, err := mysqldriver.ParseDSN(dsn)
	require.NoError(t, err)
	name := config.DBName
	config.DBName = ""
	server, err := sql.Open("mysql", config.FormatDSN())
	require.NoError(t, err)
	_, err = server.Exec("CREATE DATABASE `" + name + "` " + charset)
	require.NoError(t, err)
	require.NoError(t, server.Close())
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

// schema is how the database describes all tables.
func schema(t *testing.T, dsn string) string {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	var text strings.Builder
	for _, name := range store.OwnTables {
		var table, says string
		require.NoError(t, db.QueryRow("SHOW CREATE TABLE `"+name+"`").Scan(&table, &says), name)
		text.WriteString(says + "\n")
	}
	return text.String()
}

func TestAMigrationCutOffAnywhereIsTakenUpAgain(t *testing.T) {
	whole := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: whole})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	want := schema(t, whole)
	for _, name := range regexp.MustCompile("(?m)^CREATE TABLE `(\\w+)`").FindAllStringSubmatch(want, -1) {
		assert.Contains(t, store.OwnTables, name[1])
	}
	versions := store.Statements()
	// One that was handed on is never changed, and was cut anywhere when it was made: by chance now.
	const newest = 3
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	for v, statements := range versions {
		chosen := 1 + random.IntN(len(statements))
		for cut := 1; cut <= len(statements); cut++ {
			if v < len(versions)-newest && cut != chosen {
				continue
			}
			dsn := storetest.DSN()
			db := raw(t, dsn, "")
			_, err := db.Exec("CREATE TABLE schema_versions (version INT NOT NULL PRIMARY KEY, name VARCHAR(100) NOT NULL, applied_at DATETIME(6) NOT NULL) ENGINE=InnoDB")
			require.NoError(t, err)
			for before := range v {
				for _, x := range versions[before] {
					_, err := db.Exec(x)
					require.NoError(t, err)
				}
				_, err := db.Exec("INSERT INTO schema_versions VALUES (?, 'x', NOW())", before+1)
				require.NoError(t, err)
			}
			for _, x := range statements[:cut] { // and killed before the version is noted
				_, err := db.Exec(x)
				require.NoError(t, err)
			}
			s, err := store.Open(t.Context(), store.Options{DSN: dsn})
			require.NoError(t, err, "version %d, cut behind statement %d", v+1, cut)
			require.NoError(t, s.Close())
			assert.Equal(t, want, schema(t, dsn), "version %d, cut behind statement %d", v+1, cut)
		}
	}
}

func TestOneCollationWhateverTheDatabaseHad(t *testing.T) {
	for _, charset := range []string{"CHARACTER SET latin1", "CHARACTER SET utf8mb3", "CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci"} {
		t.Run(charset, func(t *testing.T) {
			dsn := storetest.DSN()
			db := raw(t, dsn, charset)
			// As a version before made it: by the database's own character set.
			first := strings.ReplaceAll(store.Statements()[0][0], " DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", "")
			_, err := db.Exec(first)
			require.NoError(t, err)
			s, err := store.Open(t.Context(), store.Options{DSN: dsn + "?charset=latin1"})
			require.NoError(t, err)
			defer s.Close()
			for _, name := range []string{"Łódź", "A", "a", "海"} {
				_, err := s.EnsureAgent(t.Context(), store.Agent{Name: name, Kind: "simulated"})
				require.NoError(t, err)
			}
			list, err := s.Agents(t.Context())
			require.NoError(t, err)
			var names []string
			for _, a := range list {
				names = append(names, a.Name)
			}
			assert.Equal(t, []string{"A", "a", "Łódź", "海"}, names)
			assert.NotContains(t, strings.ReplaceAll(schema(t, dsn), "utf8mb4_bin", ""), "COLLATE=utf8mb4_general")
		})
	}
}

func holder(name string) *store.Holder {
	return &store.Holder{Owner: ident.New(), Says: name, Lost: func(error) {}}
}

func TestOneServiceHoldsADatabase(t *testing.T) {
	dsn := storetest.DSN()
	one := holder("northquay, process 1")
	first, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: one})
	require.NoError(t, err)
	since := time.Now()

	_, err = store.Open(t.Context(), store.Options{DSN: dsn, Holder: holder("holm")})
	require.ErrorIs(t, err, store.ErrHeld)
	assert.ErrorContains(t, err, "northquay, process 1, since "+since.UTC().Format("2006-01-02T15"))
	assert.Less(t, time.Since(since), store.HoldTime, "it is refused as soon as the other is seen to live")

	t.Run("the same owner takes over at once", func(t *testing.T) {
		first.Die()
		began := time.Now()
		again, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: one})
		require.NoError(t, err)
		assert.Less(t, time.Since(began), store.HoldTime/3)
		first = again
	})
	t.Run("another does when the owner has died", func(t *testing.T) {
		require.NoError(t, first.Expire(t.Context(), store.HoldTime-time.Second))
		first.Die()
		second, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: holder("holm")})
		require.NoError(t, err)
		require.NoError(t, second.Close())
		third, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: holder("drydock")})
		require.NoError(t, err, "given up on closing")
		require.NoError(t, third.Close())
	})
}

func TestWhoWasSilentForTooLongWritesNoMore(t *testing.T) {
	dsn := storetest.DSN()
	lost := make(chan error, 1)
	sleeper := &store.Holder{Owner: ident.New(), Says: "sleeper", Lost: func(err error) { lost <- err }}
	first, err := store.Open(t.Context(), store.Options{DSN: dsn, Holder: sleeper})
	require.NoError(t, err)
	defer first.Close()
	// Its hold is over before it renews it; the other takes it at once.
	var second *store.Store
	require.Eventually(t, func() bool {
		if first.Expire(t.Context(), store.HoldTime+time.Second) != nil {
			return false
		}
		limited, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		defer cancel()
		second, err = store.Open(limited, store.Options{DSN: dsn, Holder: holder("other")})
		return err == nil
	}, time.Minute, time.Millisecond)
	defer second.Close()
	assert.False(t, first.Renew(t.Context()))
	assert.ErrorContains(t, <-lost, "other")
	require.ErrorIs(t, first.SaveNotice(t.Context(), store.Notice{ID: ident.New(), At: noon}), store.ErrHeld)
	require.NoError(t, second.SaveNotice(t.Context(), store.Notice{ID: ident.New(), At: noon}))
}

func TestWhatTheDatabaseSaysIsNotToldToAll(t *testing.T) {
	for number, kind := range map[uint16]error{1406: store.ErrUnfit, 1290: store.ErrAway, 1114: store.ErrFull, 1205: store.ErrAway, 1062: store.ErrTaken, 1146: nil} {
		err := fmt.Errorf("list runs: %w", store.Wrap("read", store.Refused(number)))
		if kind != nil {
			assert.ErrorIs(t, err, kind)
		}
		assert.NotContains(t, err.Error(), "db.example")
		assert.Contains(t, store.Cause(err), "db.example")
	}
}

func TestWhatIsOldIsRemoved(t *testing.T) {
	s := storetest.New(t)
	ctx := t.Context()
	path := ident.New()
	end := noon.Add(time.Minute)
	var u protocol.Upload
	for range 3 {
		u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Path: path, Started: noon, Ended: end, Outcome: protocol.Failed})
	}
	u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Path: path, Started: noon.AddDate(0, 0, 50), Ended: end, Outcome: protocol.Failed})
	require.NoError(t, s.SaveUpload(ctx, u))
	require.NoError(t, s.SaveNotice(ctx, store.Notice{ID: ident.New(), At: noon, Text: "old"}))
	require.NoError(t, s.SaveEpisodes(ctx, []store.Episode{{ID: ident.New(), PathID: path, FromAt: noon, ToAt: &end, Excesses: "[]"}, {ID: ident.New(), PathID: path, FromAt: noon, Excesses: "[]"}}))
	require.NoError(t, s.SaveInvite(ctx, store.Invite{ID: ident.New(), CodeHash: store.HashOf("x"), CreatedAt: noon, EndsAt: end}))
	count := func() (n [3]int) {
		runs, err := s.Runs(ctx, store.RunFilter{})
		require.NoError(t, err)
		notices, err := s.Notices(ctx, time.Time{}.AddDate(1970, 0, 0))
		require.NoError(t, err)
		episodes, err := s.Episodes(ctx, path, noon.Add(-time.Hour), noon.AddDate(3, 0, 0))
		require.NoError(t, err)
		return [3]int{len(runs), len(notices), len(episodes)}
	}
	require.NoError(t, s.DropOld(ctx, noon.AddDate(0, 0, 60), noon.AddDate(0, 0, 30)))
	assert.Equal(t, [3]int{1, 0, 2}, count(), "episodes stay for longer")
	require.NoError(t, s.DropOld(ctx, noon.AddDate(2, 0, 0), noon.AddDate(0, 0, 30)))
	assert.Equal(t, [3]int{1, 0, 1}, count(), "and what goes on stays")
}

func TestRunsAreFoundByIndex(t *testing.T) {
	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	for _, q := range []string{"WHERE outcome = 'failed'", "WHERE watch_id = x'00'", "WHERE path_id = x'00'", ""} {
		db, err := sql.Open("mysql", dsn)
		require.NoError(t, err)
		var text string
		require.NoError(t, db.QueryRow("EXPLAIN FORMAT=JSON SELECT * FROM runs "+q+" ORDER BY started_at DESC, id DESC LIMIT 100").Scan(&text))
		assert.NotContains(t, text, "filesort", q)
		require.NoError(t, db.Close())
	}
}

// TestADatabaseThatRefusesWrites is away, in words: for an account that may not write then.
func TestADatabaseThatRefusesWrites(t *testing.T) {
	dsn := storetest.DSN()
	root := raw(t, dsn, "")
	for _, x := range []string{"CREATE USER plain@localhost", "GRANT ALL ON *.* TO plain@localhost", "REVOKE SUPER, READ_ONLY ADMIN ON *.* FROM plain@localhost"} {
		_, err := root.Exec(x)
		require.NoError(t, err)
	}
	s, err := store.Open(t.Context(), store.Options{DSN: strings.Replace(dsn, "root@", "plain@", 1), Holder: holder("plain")})
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Ping(t.Context()))
	_, err = root.Exec("SET GLOBAL read_only = 1")
	require.NoError(t, err)
	defer func() { _, _ = root.Exec("SET GLOBAL read_only = 0") }()
	assert.True(t, s.Renew(t.Context()), "it is not lost, it waits")
	since, why := s.Away()
	assert.False(t, since.IsZero())
	require.ErrorIs(t, why, store.ErrAway)
	assert.Contains(t, why.Error(), "it refuses writes")
	require.ErrorIs(t, s.Ping(t.Context()), store.ErrAway, "and is not ready")
	_, err = root.Exec("SET GLOBAL read_only = 0")
	require.NoError(t, err)
	assert.True(t, s.Renew(t.Context()))
	since, _ = s.Away()
	assert.True(t, since.IsZero())
}

// TestPagesArePacked: those of minutes and of what is rolled up are in a database that is new, whatever
// the server has to do for it; where they are not, it is known.
func TestPagesArePacked(t *testing.T) {
	dsn := storetest.DSN()
	db := raw(t, dsn, "")
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	list, err := s.Unpacked(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = db.Exec("ALTER TABLE readings PAGE_COMPRESSED=DEFAULT PAGE_COMPRESSION_LEVEL=DEFAULT")
	require.NoError(t, err)
	list, err = s.Unpacked(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"readings"}, list)
}
