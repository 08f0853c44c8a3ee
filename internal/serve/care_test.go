package serve_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api"
	"woodlark.example/internal/api/apitype"
	"woodlark.example/internal/backup"
	"woodlark.example/internal/client"
	"woodlark.example/internal/mariadb"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/service/transfer"
	"woodlark.example/internal/store"
)

// began runs a service on a database until the test ends, or the end that it returns is called.
func began(t *testing.T, o serve.Options) (*client.Client, func()) {
	t.Helper()
	s, err := serve.Start(t.Context(), o)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx) }()
	over := false
	end := func() {
		if over {
			return
		}
		over = true
		stop()
		assert.NoError(t, <-ended)
		s.Close()
	}
	t.Cleanup(end)
	return client.New(s.URL(), o.Token), end
}

func get[T any](t *testing.T, c *client.Client, path string) (out T) {
	t.Helper()
	require.NoError(t, c.Get(t.Context(), path, nil, &out), path)
	return out
}

// exported are all readings that a service has, as it hands them out.
func exported(t *testing.T, c *client.Client) (list []transfer.Line) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, c.Fetch(t.Context(), "/export/readings?from_at=2026-11-01T00:00:00Z&to_at=2026-12-31T00:00:00Z", nil, &b))
	for line := range bytes.Lines(b.Bytes()) {
		var x struct {
			transfer.Line
			End bool `json:"end"`
		}
		require.NoError(t, json.Unmarshal(line, &x))
		if !x.End {
			list = append(list, x.Line)
		}
	}
	return list
}

// TestStatesOfEarlierSchemas: what the program of each earlier schema kept, measured by it on a
// loopback, is brought forward and read: each path, reading, run, sweep, trace and watch of it. What
// a backup of it holds then is what it held, in every column that there was.
func TestStatesOfEarlierSchemas(t *testing.T) {
	server, err := mariadb.Start(t.Context(), mariadb.Options{Dir: t.TempDir(), BufferMiB: 64, FlushLate: true})
	require.NoError(t, err)
	defer server.Stop()
	files, err := filepath.Glob("testdata/schema-*.backup")
	require.NoError(t, err)
	newest, err := store.Schema()
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 17)
	seen := 0
	for _, name := range files {
		t.Run(regexp.MustCompile(`schema-\d+`).FindString(name), func(t *testing.T) {
			file, err := os.Open(name)
			require.NoError(t, err)
			defer file.Close()
			o := options(t, "127.0.0.1:0")
			o.Settings.Database = server.DSN(fmt.Sprintf("old%d", seen))
			o.Settings.Training, o.Settings.Keep = 14*24*time.Hour, 3650*24*time.Hour
			seen++
			r, err := serve.Restore(t.Context(), o.Settings, file, false)
			require.NoError(t, err)
			rows := map[string]int{}
			for _, p := range r.Manifest.Tables {
				rows[p.Name] = int(p.Rows)
			}
			token, err := os.ReadFile(filepath.Join(o.Settings.State, "token"))
			require.NoError(t, err)
			assert.Len(t, bytes.TrimSpace(token), 48)

			c, end := began(t, o)
			paths := get[api.PathList](t, c, "/paths").Paths
			assert.Len(t, paths, rows["watch_paths"])
			lines := exported(t, c)
			assert.Len(t, lines, rows["readings"])
			for _, l := range lines {
				assert.Equal(t, "local", l.From)
				assert.Positive(t, l.Sent)
				assert.Equal(t, l.Sent, l.Answered+l.Lost)
				if l.Answered > 0 {
					require.NotNil(t, l.RTTMedianMs, l.To)
					assert.Greater(t, *l.RTTMedianMs, 0.0)
				}
				assert.NotEmpty(t, l.Probes)
			}
			watches := get[[]apitype.Watch](t, c, "/watches")
			assert.Len(t, watches, rows["watches"])
			assert.True(t, slices.ContainsFunc(watches, func(w apitype.Watch) bool { return w.Name == "home" }))
			assert.Len(t, get[[]apitype.Agent](t, c, "/agents"), rows["agents"])
			traces := get[[]apitype.Trace](t, c, "/traces")
			require.Len(t, traces, rows["traces"])
			assert.Equal(t, "127.0.0.4", traces[0].To)
			sweeps := get[[]apitype.Sweep](t, c, "/sweeps")
			require.Len(t, sweeps, 1)
			assert.Len(t, get[[]map[string]any](t, c, "/runs"), 4, "two pings, a trace, a sweep")
			require.NoError(t, c.Get(t.Context(), "/degraded", nil, nil))
			end()

			// Back again: what there was is what there is.
			s, err := store.Open(t.Context(), store.Options{DSN: o.Settings.Database})
			require.NoError(t, err)
			defer s.Close()
			at, err := s.SchemaNow(t.Context())
			require.NoError(t, err)
			assert.Equal(t, newest, at)
			now := &tables{}
			require.NoError(t, s.Dump(t.Context(), now))
			_, err = file.Seek(0, 0)
			require.NoError(t, err)
			before := &tables{}
			_, _, err = backup.Read(file, before)
			require.NoError(t, err)
			for _, name := range []string{"paths", "readings", "sweeps", "routes", "maintenance"} {
				assert.Equal(t, before.keys(name), now.keys(name), name)
			}
		})
	}
}

// tables are those of a dump, whole.
type tables struct {
	list []backup.Table
	rows map[string][][]any
}

func (x *tables) Table(t backup.Table) error {
	if x.rows == nil {
		x.rows = map[string][][]any{}
	}
	x.list = append(x.list, t)
	return nil
}

func (x *tables) Row(values []any) error {
	name := x.list[len(x.list)-1].Name
	x.rows[name] = append(x.rows[name], append([]any(nil), values...))
	return nil
}

func (x *tables) File(string, []byte) error { return nil }

// keys are the first two values of each row: they tell rows apart.
func (x *tables) keys(name string) (list []string) {
	for _, r := range x.rows[name] {
		list = append(list, fmt.Sprintf("%s %s", r[0], r[1]))
	}
	return list
}

// TestADowngradeIsRefused: a program does not touch what a newer one made.
func TestADowngradeIsRefused(t *testing.T) {
	newest, err := store.Schema()
	require.NoError(t, err)
	var b bytes.Buffer
	w, err := backup.NewWriter(&b, backup.Head{Version: "9.0.0", Schema: newest + 1, MadeAt: time.Now().UTC()})
	require.NoError(t, err)
	_, err = w.Close()
	require.NoError(t, err)
	o := options(t, "127.0.0.1:0")
	_, err = serve.Restore(t.Context(), o.Settings, bytes.NewReader(b.Bytes()), false)
	assert.ErrorContains(t, err, "use a newer program")

	o = options(t, "127.0.0.1:0")
	_, end := began(t, o)
	end()
	server, err := mariadb.Start(t.Context(), mariadb.Options{Dir: filepath.Join(o.Settings.State, "database")})
	require.NoError(t, err)
	s, err := store.Open(t.Context(), store.Options{DSN: server.DSN("woodlark")})
	require.NoError(t, err)
	_ = s.Close()
	require.NoError(t, later(server.DSN("woodlark"), newest+1))
	require.NoError(t, server.Stop())
	_, err = serve.Start(t.Context(), o)
	require.ErrorContains(t, err, "use a newer program")
	_, err = serve.BackUp(t.Context(), o.Settings, "test", &b)
	require.ErrorContains(t, err, "use a newer program")

	// It is put aside, not lost, where a backup is to take its place.
	file, err := os.Open("testdata/schema-20.backup")
	require.NoError(t, err)
	defer file.Close()
	_, err = serve.Restore(t.Context(), o.Settings, file, false)
	require.ErrorIs(t, err, serve.ErrTaken)
	_, _ = file.Seek(0, 0)
	r, err := serve.Restore(t.Context(), o.Settings, file, true)
	require.NoError(t, err)
	assert.DirExists(t, filepath.Join(r.Aside, "database"))
	var says bytes.Buffer
	o.Log = slog.New(slog.NewTextHandler(&says, nil))
	c, end := began(t, o)
	defer func() {
		end()
		assert.Contains(t, says.String(), `"by a kill"=nothing "by a power cut"=nothing`)
	}()
	assert.Len(t, get[api.PathList](t, c, "/paths").Paths, 3)
}

// TestABackupOfARunningService: it is restored elsewhere and gives the same figures, and the call
// is for one at a time.
func TestABackupOfARunningService(t *testing.T) {
	server, err := mariadb.Start(t.Context(), mariadb.Options{Dir: t.TempDir(), BufferMiB: 64, FlushLate: true})
	require.NoError(t, err)
	defer server.Stop()
	o := options(t, "127.0.0.1:0")
	o.Settings.Database = server.DSN("one")
	file, err := os.Open("testdata/schema-20.backup")
	require.NoError(t, err)
	defer file.Close()
	_, err = serve.Restore(t.Context(), o.Settings, file, false)
	require.NoError(t, err)
	o.Settings.Keep, o.Settings.Training = 3650*24*time.Hour, 14*24*time.Hour
	var says bytes.Buffer
	o.Log = slog.New(slog.NewTextHandler(&says, nil))
	c, end := began(t, o)
	defer func() {
		end()
		assert.Contains(t, says.String(), `"by a kill"=nothing "by a power cut"="up to a second of what was taken, for the database does not flush`, "that of this test")
	}()
	var kept bytes.Buffer
	require.NoError(t, c.FetchLong(t.Context(), "/backup", nil, &kept))
	_, m, err := backup.Check(bytes.NewReader(kept.Bytes()))
	require.NoError(t, err)
	assert.Greater(t, m.Rows(), int64(40))
	for cut := 1; cut < kept.Len(); cut += 997 {
		other := options(t, "127.0.0.1:0")
		_, err = serve.Restore(t.Context(), other.Settings, bytes.NewReader(kept.Bytes()[:cut]), false)
		require.ErrorIs(t, err, backup.ErrDamaged)
		left, err := os.ReadDir(other.Settings.State)
		require.NoError(t, err)
		require.Empty(t, left, "nothing is begun by a file that is not whole")
	}
	other := options(t, "127.0.0.1:0")
	other.Settings.Database = server.DSN("two")
	other.Settings.Keep, other.Settings.Training = o.Settings.Keep, o.Settings.Training
	_, err = serve.Restore(t.Context(), other.Settings, bytes.NewReader(kept.Bytes()), false)
	require.NoError(t, err)
	d, _ := began(t, other)
	assert.Equal(t, exported(t, c), exported(t, d))
	for _, path := range []string{"/paths", "/watches", "/people", "/tokens", "/maintenance", "/runs", "/traces", "/sweeps", "/boards"} {
		var here, there any
		require.NoError(t, c.Get(t.Context(), path, nil, &here))
		require.NoError(t, d.Get(t.Context(), path, nil, &there))
		assert.Equal(t, here, there, path)
	}
	r, err := http.NewRequest(http.MethodGet, c.Base()+"/api/v1/backup", nil)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	_ = answer.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
}

// later has a database say that a newer program brought it to a schema.
func later(dsn string, schema int) error {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec("INSERT INTO schema_versions VALUES (?, 'of tomorrow', NOW(6))", schema)
	return err
}
