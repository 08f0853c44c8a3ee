package busy_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/busy"
)

func TestTriesAreWrittenDown(t *testing.T) {
	log := filepath.Join(t.TempDir(), "tries")
	t.Setenv(busy.Log, log)
	n := 0
	busy.Again(t, func() string {
		if n++; n < 3 {
			return "not yet"
		}
		return ""
	})
	busy.Tries(t, func(*busy.Try) {})
	f, err := os.Open(log)
	require.NoError(t, err)
	defer f.Close()
	list, err := busy.Tallies(f)
	require.NoError(t, err)
	assert.Equal(t, []busy.Tally{{Test: t.Name(), Runs: 2, Again: 1, Most: 3}}, list)
}

func TestWhoTriesTooOften(t *testing.T) {
	for name, c := range map[string]struct {
		log  string
		want bool
	}{
		"once in three":                {"a 1 0\na 2 0\na 1 0\n", false},
		"twice in three":               {"a 1 0\na 2 0\na 5 1\n", true},
		"twice in two says too little": {"a 2 0\na 2 0\n", false},
		"spoilt by the machine":        {"a 2 1\na 3 2\na 5 5\n", false},
		"never":                        {"a 1 0\na 1 0\na 1 0\na 1 0\n", false},
	} {
		list, err := busy.Tallies(strings.NewReader(c.log))
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, c.want, list[0].TooOften(), name)
	}
	for _, bad := range []string{"a\n", "a b\n", "a 0 0\n", "a 1\n", "a 1 2\n"} {
		_, err := busy.Tallies(strings.NewReader(bad))
		require.Error(t, err, bad)
	}
}
