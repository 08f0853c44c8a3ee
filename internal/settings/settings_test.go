package settings_test

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/settings"
)

func read(t *testing.T, args ...string) (settings.Settings, error) {
	t.Helper()
	flags := flag.NewFlagSet("serve", flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	get := settings.Register(flags)
	require.NoError(t, flags.Parse(args))
	return get()
}

func file(t *testing.T, text string) string {
	name := filepath.Join(t.TempDir(), "woodlark.yaml")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	return name
}

func TestDefaults(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", "/nowhere")
	s, err := read(t)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:7373", s.Listen, "loopback unless said otherwise")
	assert.Equal(t, "/nowhere/woodlark", s.State)
	assert.Equal(t, 14*24*time.Hour, s.Training)
	assert.Equal(t, time.Local, s.Zone)
}

func TestFlagsBeforeEnvironmentBeforeFile(t *testing.T) {
	name := file(t, "listen: 127.0.0.1:1\nname: from-file\nsite: Quay\n")
	t.Setenv("WOODLARK_LISTEN", "127.0.0.1:2")
	t.Setenv("WOODLARK_NAME", "from-environment")
	s, err := read(t, "-config", name, "-listen", "127.0.0.1:3")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:3", s.Listen)
	assert.Equal(t, "from-environment", s.Name)
	assert.Equal(t, "Quay", s.Site)
	t.Setenv("WOODLARK_CONFIG", name)
	s, err = read(t)
	require.NoError(t, err)
	assert.Equal(t, "Quay", s.Site)
}

func TestWrongSettingsAreNamedWithTheirPlace(t *testing.T) {
	for _, c := range []struct {
		name, file string
		args       []string
		says       []string
	}{
		{"unknown key", "listen: 127.0.0.1:1\n\nlissen: x\n", nil, []string{"line 3", `no setting "lissen"`}},
		{"two at once", "a: 1\nb: 2\n", nil, []string{"line 1", "line 2"}},
		{"broken YAML", "listen: [1\n", nil, []string{"not valid YAML"}},
		{"value in the file", "\ntraining: long\n", nil, []string{"line 2: training", `"long"`, "such as 336h"}},
		{"value of a flag", "", []string{"-zone", "Mars/Olympus"}, []string{"-zone", "not a known time zone"}},
		{"listen", "", []string{"-listen", "7373"}, []string{"-listen", "not like 127.0.0.1:7373"}},
		{"log form", "", []string{"-log-form", "xml"}, []string{"none of text, json"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := read(t, append([]string{"-config", file(t, c.file)}, c.args...)...)
			require.Error(t, err)
			for _, says := range c.says {
				assert.ErrorContains(t, err, says)
			}
		})
	}
	_, err := read(t, "-config", "/nowhere/woodlark.yaml")
	require.ErrorContains(t, err, "there is no settings file /nowhere/woodlark.yaml")
	t.Setenv("WOODLARK_RETENTION", "1m")
	_, err = read(t)
	require.ErrorContains(t, err, "WOODLARK_RETENTION")
}

func TestAnEmptyFileSetsNothing(t *testing.T) {
	s, err := read(t, "-config", file(t, ""))
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:7373", s.Listen)
}

// The page of settings is that of the table.
func TestTheDocumentHasEverySetting(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", "")
	page, err := os.ReadFile("../../docs/settings.md")
	require.NoError(t, err)
	for _, s := range settings.Table() {
		value := s.Default
		if s.Key == "state" {
			value = "~/.local/state/woodlark"
		}
		if value == "" {
			value = "none"
		}
		assert.Contains(t, string(page), fmt.Sprintf("| `%s` | `%s` | %s | %s |", s.Key, s.Variable(), value, s.Says))
	}
	assert.Equal(t, len(settings.Table())+2, strings.Count(string(page), "\n|"), "no others")
}

// FuzzFile: a settings file is read or refused, in words.
func FuzzFile(f *testing.F) {
	for _, text := range []string{"listen: 127.0.0.1:7373\nzone: Europe/Oslo\n", "training: [504h]", "far-end: {a: b}", "gulls: 1", "- x", "listen: \"\"\nretention: 1h"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		file := filepath.Join(t.TempDir(), "w.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		flags := flag.NewFlagSet("x", flag.ContinueOnError)
		read := settings.Register(flags)
		require.NoError(t, flags.Parse([]string{"-config", file}))
		if _, err := read(); err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}
