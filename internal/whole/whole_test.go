package whole_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/whole"
)

func TestWrite(t *testing.T) {
	name := filepath.Join(t.TempDir(), "a.json")
	require.NoError(t, os.WriteFile(name+whole.Part, bytes.Repeat([]byte("x"), 100), 0o600), "left by one that was ended")
	for _, text := range []string{"first, and long", "second", ""} {
		require.NoError(t, whole.Write(name, []byte(text)))
		got, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
	list, err := os.ReadDir(filepath.Dir(name))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is left beside it")
}

// TestNotWritten: what cannot be written leaves what was there, and says which file it is.
func TestNotWritten(t *testing.T) {
	dir := t.TempDir()
	err := whole.Write(filepath.Join(dir, "nowhere", "a"), []byte("x"))
	assert.ErrorContains(t, err, filepath.Join(dir, "nowhere", "a"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	taken := filepath.Join(dir, "b")
	require.NoError(t, os.MkdirAll(filepath.Join(taken, "in it"), 0o700))
	assert.ErrorContains(t, whole.Write(taken, []byte("x")), "write "+taken)
	assert.DirExists(t, filepath.Join(taken, "in it"))
	assert.NoFileExists(t, taken+whole.Part)
}
