package yamlfile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/yamlfile"
)

type file struct {
	Name  string `yaml:"name"`
	Links []struct {
		Delay string `yaml:"delay"`
	} `yaml:"links"`
}

func TestDecode(t *testing.T) {
	var f file
	require.NoError(t, yamlfile.Decode([]byte("name: quay\nlinks:\n  - {delay: 3ms}\n"), &f))
	assert.Equal(t, "3ms", f.Links[0].Delay)
	var empty file
	require.NoError(t, yamlfile.Decode(nil, &empty), "whether a file may be empty is for its reader to say")
	assert.Equal(t, file{}, empty)
	for text, says := range map[string]string{
		"name: [":                        "not valid YAML",
		"nam: x":                         "1:1",
		"name: x\nlinks:\n  - {dely: 3}": "3:",
		"links: 5":                       "not valid YAML",
		"links: *":                       "not valid YAML",
	} {
		require.ErrorIs(t, yamlfile.Decode([]byte(text), &file{}), yamlfile.ErrYAML, text)
		assert.ErrorContains(t, yamlfile.Decode([]byte(text), &file{}), says, text)
	}
}

func TestLines(t *testing.T) {
	tree, err := yamlfile.Parse([]byte("name: quay\n\nlinks:\n  - delay: 3ms\n  - delay: 4ms\n"))
	require.NoError(t, err)
	assert.Equal(t, 5, tree.Line("$.links[1].delay"))
	assert.Zero(t, tree.Line("$.links[9]"))
	assert.Zero(t, tree.Line("no place"))
	pairs := tree.Pairs()
	require.Len(t, pairs, 2)
	assert.Equal(t, yamlfile.Pair{Key: "name", Value: "quay", Line: 1}, pairs[0])
	assert.Equal(t, 3, pairs[1].Line)
	_, err = yamlfile.Parse([]byte("a: ["))
	require.ErrorIs(t, err, yamlfile.ErrYAML)
}

func FuzzDecode(f *testing.F) {
	f.Add("name: quay\nlinks:\n  - {delay: 3ms}\n")
	f.Add("links: *x")
	f.Fuzz(func(t *testing.T, text string) {
		if err := yamlfile.Decode([]byte(text), &file{}); err != nil {
			require.ErrorIs(t, err, yamlfile.ErrYAML)
		}
		if tree, err := yamlfile.Parse([]byte(text)); err == nil {
			tree.Pairs()
			tree.Line("$.links[0].delay")
		}
	})
}
