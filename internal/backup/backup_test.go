package backup_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/backup"
)

var at = time.Date(2026, 11, 14, 9, 30, 0, 123456000, time.UTC)

// world is what a small backup holds.
var world = struct {
	table backup.Table
	rows  [][]any
}{
	backup.Table{Name: "readings", Days: []string{"20261114"}, Columns: []backup.Column{{Name: "id", Kind: backup.Bytes}, {Name: "at", Kind: backup.Time}, {Name: "name", Kind: backup.Text}, {Name: "sent", Kind: backup.Whole}, {Name: "ms", Kind: backup.Float}}},
	[][]any{
		{[]byte{0, 1, 0xff, '\n'}, at, "plain", int64(60), 57.4},
		{[]byte{}, at.Truncate(time.Second), "", int64(math.MinInt64), math.SmallestNonzeroFloat64},
		{nil, nil, nil, nil, nil},
		{[]byte("x"), at, "a \"quote\", <b>, \u2028 a line\n, ü and 🐦", uint64(math.MaxUint64), -math.MaxFloat64},
		{[]byte("y"), at, "0.1 + 0.2", int64(0), 0.1 + 0.2},
	},
}

func write(t *testing.T, more int) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := backup.NewWriter(&b, backup.Head{Version: "0.1.0", Schema: 20, MadeAt: at})
	require.NoError(t, err)
	require.NoError(t, w.Table(world.table))
	for _, row := range world.rows {
		require.NoError(t, w.Row(row))
	}
	long := strings.Repeat("0123456789", 100)
	for i := range more { // so many that the table takes several files
		require.NoError(t, w.Row([]any{[]byte{byte(i)}, at, long, int64(i), 1.5}))
	}
	require.NoError(t, w.Table(backup.Table{Name: "empty", Columns: []backup.Column{{Name: "id", Kind: backup.Bytes}}}))
	require.NoError(t, w.File("token", []byte("secret\n")))
	m, err := w.Close()
	require.NoError(t, err)
	require.Len(t, m.Tables, 2)
	assert.EqualValues(t, len(world.rows)+more, m.Rows())
	return b.Bytes()
}

// taken is what was read.
type taken struct {
	tables []backup.Table
	rows   [][]any
	files  map[string]string
}

func (x *taken) Table(t backup.Table) error { x.tables = append(x.tables, t); return nil }
func (x *taken) Row(values []any) error     { x.rows = append(x.rows, values); return nil }
func (x *taken) File(name string, data []byte) error {
	x.files[name] = string(data)
	return nil
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, more := range []int{0, 3000} {
		data := write(t, more)
		head, m, err := backup.Check(bytes.NewReader(data))
		require.NoError(t, err)
		assert.Equal(t, backup.Head{Form: 1, Version: "0.1.0", Schema: 20, MadeAt: at}, head)
		assert.EqualValues(t, len(world.rows)+more, m.Rows())
		x := &taken{files: map[string]string{}}
		_, again, err := backup.Read(bytes.NewReader(data), x)
		require.NoError(t, err)
		assert.Equal(t, m, again)
		require.Len(t, x.tables, 2)
		assert.Equal(t, world.table, x.tables[0])
		assert.Equal(t, world.rows, x.rows[:len(world.rows)])
		assert.Len(t, x.rows, len(world.rows)+more)
		assert.Equal(t, map[string]string{"token": "secret\n"}, x.files)
		assert.Equal(t, data, write(t, more), "the same gives the same file")
	}
}

// TestDamageIsFound: whatever is cut off, and whatever byte within the archive is another, is found
// by reading it through.
func TestDamageIsFound(t *testing.T) {
	data := write(t, 0)
	for cut := range data {
		_, _, err := backup.Check(bytes.NewReader(data[:cut]))
		require.ErrorIs(t, err, backup.ErrDamaged, cut)
	}
	unpacked, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	plain, err := io.ReadAll(unpacked)
	require.NoError(t, err)
	pack := func(b []byte) io.Reader {
		var out bytes.Buffer
		w := gzip.NewWriter(&out)
		_, _ = w.Write(b)
		require.NoError(t, w.Close())
		return &out
	}
	_, _, err = backup.Check(pack(plain))
	require.NoError(t, err)
	harmless := 0
	for i := 0; i < len(plain); i += 5 {
		other := bytes.Clone(plain)
		other[i] ^= 0x15
		head, m, err := backup.Check(pack(other))
		if err == nil { // padding between the files, or an owner's name that nobody reads
			harmless++
			assert.Equal(t, 20, head.Schema)
			assert.EqualValues(t, len(world.rows), m.Rows())
		}
	}
	assert.Less(t, harmless, len(plain)/2)
}

func TestWhatIsNoBackup(t *testing.T) {
	for name, text := range map[string]string{"nothing": "", "something else": "hello", "an archive of another": "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03\x03\x00\x00\x00\x00\x00\x00\x00\x00\x00"} {
		_, _, err := backup.Check(strings.NewReader(text))
		assert.ErrorIs(t, err, backup.ErrDamaged, name)
	}
	var b bytes.Buffer
	w, err := backup.NewWriter(&b, backup.Head{Version: "0.1.0", Schema: 20, MadeAt: at})
	require.NoError(t, err)
	assert.Error(t, w.File("../token", nil))
	assert.Error(t, w.Table(backup.Table{Name: "a`b"}))
	require.NoError(t, w.Table(world.table))
	assert.Error(t, w.Row([]any{1}), "too few")
	assert.Error(t, w.Row([]any{[]byte{}, at, "x", int64(1), struct{}{}}))
}

func FuzzCheck(f *testing.F) {
	var b bytes.Buffer
	w, _ := backup.NewWriter(&b, backup.Head{Version: "0.1.0", Schema: 20, MadeAt: at})
	_ = w.Table(world.table)
	_ = w.Row(world.rows[0])
	_, _ = w.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _, _ = backup.Check(bytes.NewReader(data))
	})
}
