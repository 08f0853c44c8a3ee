package store_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/backup"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// anything fills each table with rows of any values that its columns take.
func anything(t *testing.T, db *sql.DB, r *rand.Rand, rows int, many ...string) {
	t.Helper()
	type column struct{ table, name, kind, nullable string }
	list, err := db.Query("SELECT table_name, column_name, column_type, is_nullable FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name NOT IN ('leases', 'schema_versions', 'filling') ORDER BY table_name, ordinal_position")
	require.NoError(t, err)
	tables := map[string][]column{}
	for list.Next() {
		var c column
		require.NoError(t, list.Scan(&c.table, &c.name, &c.kind, &c.nullable))
		tables[c.table] = append(tables[c.table], c)
	}
	require.NoError(t, list.Err())
	blob := func(n int) []byte {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return b
	}
	all, err := db.Begin()
	require.NoError(t, err)
	for name, columns := range tables {
		n := rows
		if slices.Contains(many, name) {
			n *= 20
		}
		for range n {
			var values []any
			for _, c := range columns {
				var size int
				_, _ = fmt.Sscanf(c.kind[strings.IndexByte(c.kind+"(", '('):], "(%d)", &size)
				size = max(size, 8)
				switch kind, _, _ := strings.Cut(strings.TrimSuffix(c.kind, " unsigned"), "("); {
				case c.nullable == "YES" && r.IntN(3) == 0:
					values = append(values, nil)
				case kind == "binary":
					values = append(values, blob(size))
				case strings.HasSuffix(kind, "blob"), kind == "varbinary":
					values = append(values, blob(r.IntN(size+1)))
				case strings.HasSuffix(kind, "text"), kind == "varchar", kind == "char":
					text := []rune("Ærø “x” \\'\"\n🐦")
					r.Shuffle(len(text), func(i, j int) { text[i], text[j] = text[j], text[i] })
					values = append(values, string(text[:r.IntN(min(size, len(text)))+1]))
				case kind == "double", kind == "float":
					values = append(values, r.NormFloat64()*1e3)
				case kind == "datetime":
					values = append(values, time.Date(2026, 11, 1+r.IntN(9), r.IntN(24), r.IntN(60), r.IntN(60), 1000*r.IntN(1_000_000), time.UTC))
				case kind == "tinyint":
					values = append(values, r.IntN(2))
				default:
					values = append(values, r.IntN(30_000))
				}
			}
			_, err := all.Exec("INSERT IGNORE INTO `"+name+"` VALUES (?"+strings.Repeat(",?", len(columns)-1)+")", values...)
			require.NoError(t, err, "%s %v", name, values)
		}
	}
	require.NoError(t, all.Commit())
}

func held(t *testing.T, s interface {
	Dump(context.Context, store.Sink) error
}, schema int) ([]byte, backup.Manifest) {
	t.Helper()
	var b bytes.Buffer
	w, err := backup.NewWriter(&b, backup.Head{Version: "test", Schema: schema})
	require.NoError(t, err)
	require.NoError(t, s.Dump(t.Context(), w))
	m, err := w.Close()
	require.NoError(t, err)
	return b.Bytes(), m
}

// filler takes a backup into a filling.
type filler struct{ *store.Filling }

func (filler) File(string, []byte) error { return nil }

func TestAllThatIsDumpedIsFilledIn(t *testing.T) {
	schema, err := store.Schema()
	require.NoError(t, err)
	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	now := time.Now()
	require.NoError(t, s.CoverDays(t.Context(), now.AddDate(0, 0, -20), now))
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	anything(t, db, rand.New(rand.NewPCG(1, 19)), 60, "readings", "notices")
	data, m := held(t, s, schema)
	assert.Greater(t, m.Rows(), int64(4_000))

	_, err = store.Fill(t.Context(), store.Options{DSN: dsn}, schema)
	assert.ErrorIs(t, err, store.ErrNotEmpty)

	other := storetest.DSN()
	begin := func() (*store.Filling, error) {
		return store.Fill(t.Context(), store.Options{DSN: other, Holder: &store.Holder{Owner: ident.New(), Says: "a test"}}, schema)
	}
	f, err := begin()
	require.NoError(t, err)
	_, err = begin()
	assert.ErrorIs(t, err, store.ErrHeld, "one fills it at a time")
	_, _, err = backup.Read(bytes.NewReader(data), filler{f})
	require.NoError(t, err)
	_, err = store.Open(t.Context(), store.Options{DSN: other})
	assert.ErrorIs(t, err, store.ErrHalfFilled, "until it is done it is nobody's")
	require.NoError(t, f.Done())
	require.NoError(t, f.Close())
	back, err := store.Open(t.Context(), store.Options{DSN: other})
	require.NoError(t, err)
	defer back.Close()
	again, n := held(t, back, schema)
	assert.Equal(t, m, n)
	assert.True(t, bytes.Equal(data, again), "byte for byte")
	assert.Equal(t, schemaWithoutDays(t, dsn), schemaWithoutDays(t, other))
}

func schemaWithoutDays(t *testing.T, dsn string) string {
	text, _, _ := strings.Cut(schema(t, dsn), "PARTITION BY")
	return text
}

// TestAFillingThatIsCutOff: nothing is left of one that fails; one that was killed is begun anew.
func TestAFillingThatIsCutOff(t *testing.T) {
	schema, err := store.Schema()
	require.NoError(t, err)
	dsn := storetest.DSN()
	f, err := store.Fill(t.Context(), store.Options{DSN: dsn}, schema)
	require.NoError(t, err)
	agents := backup.Table{Name: "agents", Columns: []backup.Column{{Name: "id", Kind: backup.Bytes}, {Name: "name", Kind: backup.Text}}}
	require.NoError(t, f.Table(agents))
	require.NoError(t, f.Row([]any{make([]byte, 16), "northquay"}))
	assert.ErrorIs(t, f.Done(), backup.ErrDamaged, "a row without what it needs")
	assert.ErrorIs(t, f.Table(backup.Table{Name: "passwords", Columns: agents.Columns}), backup.ErrDamaged)
	assert.ErrorIs(t, f.Table(backup.Table{Name: "leases", Columns: agents.Columns}), backup.ErrDamaged)
	require.NoError(t, f.Close())
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err, "nothing was left")
	require.NoError(t, s.Close())

	dsn = storetest.DSN()
	_, err = store.Fill(t.Context(), store.Options{DSN: dsn}, schema) // and its program is killed
	require.NoError(t, err)
	_, err = store.Open(t.Context(), store.Options{DSN: dsn})
	assert.ErrorIs(t, err, store.ErrHalfFilled)
	f, err = store.Fill(t.Context(), store.Options{DSN: dsn}, schema)
	require.NoError(t, err)
	require.NoError(t, f.Done())
	require.NoError(t, f.Close())
	s, err = store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	require.NoError(t, s.Close())

	for _, wrong := range []int{0, -1, schema + 1} {
		_, err = store.Fill(t.Context(), store.Options{DSN: storetest.DSN()}, wrong)
		assert.ErrorContains(t, err, "use a newer program", wrong)
	}
}

// TestADumpIsOfOneMoment: who writes two rows at once finds both or neither in it, and old days wait.
func TestADumpIsOfOneMoment(t *testing.T) {
	dsn := storetest.DSN()
	s, err := store.Open(t.Context(), store.Options{DSN: dsn})
	require.NoError(t, err)
	defer s.Close()
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	defer db.Close()
	stop, writing := make(chan struct{}), make(chan error, 1)
	pairs := 0
	go func() {
		for {
			select {
			case <-stop:
				writing <- nil
				return
			default:
			}
			tx, err := db.Begin()
			if err == nil {
				_, err = tx.Exec("INSERT INTO sites VALUES (?, NULL, NULL, '', '', NOW())", fmt.Sprintf("site %d", pairs))
			}
			if err == nil {
				_, err = tx.Exec("INSERT INTO owners VALUES (?, '', '', NOW())", fmt.Sprintf("prefix %d", pairs))
			}
			if err == nil {
				err = tx.Commit()
			}
			if err != nil {
				writing <- err
				return
			}
			pairs++
		}
	}()
	for range 20 {
		c := &counting{of: map[string]int{}}
		require.NoError(t, s.Dump(t.Context(), c))
		assert.Equal(t, c.of["sites"], c.of["owners"])
	}
	close(stop)
	require.NoError(t, <-writing)
	assert.Positive(t, pairs)
}

// counting counts the rows of each table.
type counting struct {
	of  map[string]int
	now string
}

func (c *counting) Table(t backup.Table) error { c.now = t.Name; return nil }
func (c *counting) Row([]any) error            { c.of[c.now]++; return nil }
