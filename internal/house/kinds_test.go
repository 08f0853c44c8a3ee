package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/kind"
	_ "woodlark.example/internal/kind/all"
)

// verbs are words of commands that are spelt as a kind, and mean another thing.
var verbs = map[string][]string{"internal/cli/baseline.go": {"accept"}, "internal/cli/agent.go": {"ready"}, "internal/cli/serve.go": {"ready"}}

// TestNobodyElseNamesAKind: what is particular to a kind stands in its folder; all else goes
// through the register.
func TestNobodyElseNamesAKind(t *testing.T) {
	root := filepath.Join("..", "..")
	named, looked := 0, 0
	for _, room := range []string{"core", "wire", "internal", "cmd"} {
		err := filepath.WalkDir(filepath.Join(root, room), func(name string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() && d.Name() == "testdata" {
				return filepath.SkipDir // what tests make there is no part of the house
			}
			if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
				return err
			}
			folder, err := filepath.Rel(root, filepath.Dir(name))
			require.NoError(t, err)
			file := token.NewFileSet()
			parsed, err := parser.ParseFile(file, name, nil, 0)
			require.NoError(t, err)
			own := under(filepath.ToSlash(folder), []string{"internal/kind"})
			ast.Inspect(parsed, func(n ast.Node) bool {
				text, is := n.(*ast.BasicLit)
				if !is || text.Kind != token.STRING {
					return true
				}
				looked++
				value, err := strconv.Unquote(text.Value)
				require.NoError(t, err)
				imported, _ := strings.CutPrefix(value, module+"internal/kind/")
				switch {
				case own:
					if slices.Contains(kind.Names(), value) {
						named++
					}
				case slices.Contains(verbs[filepath.ToSlash(strings.TrimPrefix(name, root+string(filepath.Separator)))], value):
				case slices.Contains(kind.Names(), value), slices.Contains(kind.Names(), imported):
					t.Errorf("%s: %s names a kind", file.Position(text.Pos()), text.Value)
				}
				return true
			})
			return nil
		})
		require.NoError(t, err)
	}
	assert.GreaterOrEqual(t, named, len(kind.Names()), "kinds name themselves")
	assert.Greater(t, looked, 1000)
}
