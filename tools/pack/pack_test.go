package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestThePackage makes a package of the built program twice, and has it installed, used by each
// role, backed up, killed, upgraded, restored, removed and purged in a root of its own.
func TestThePackage(t *testing.T) {
	t.Chdir("../..")
	papers := t.TempDir()
	run := func(name string, args ...string) string {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v\n%s", name, args, out)
		return string(out)
	}
	run("bin/woodlark", "manual", "-to", filepath.Join(papers, "man1"))
	for _, shell := range []string{"bash", "zsh", "fish"} {
		require.NoError(t, os.WriteFile(filepath.Join(papers, shell), []byte(run("bin/woodlark", "completion", shell)), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(papers, "sbom.json"), []byte("{}\n"), 0o644))
	arch := strings.TrimSpace(run("dpkg", "--print-architecture"))
	made := [2][]byte{}
	var name string
	for i := range made {
		to := t.TempDir()
		p := pack{program: "bin/woodlark", arch: arch, version: "0.1.0", papers: papers, to: to, packed: "none", at: time.Date(2026, 11, 14, 0, 0, 0, 0, time.UTC)}
		require.NoError(t, p.make())
		name = filepath.Join(to, "woodlark_0.1.0_"+arch+".deb")
		data, err := os.ReadFile(name)
		require.NoError(t, err)
		made[i] = data
		// A later time, or another place, tells nothing.
		require.NoError(t, os.Chtimes("packaging/woodlark.yaml", time.Now(), time.Now()))
	}
	assert.True(t, string(made[0]) == string(made[1]), "the same gives the same")
	said := run("packaging/try", "-like-here", t.TempDir(), name)
	for _, line := range []string{"installed", "a viewer makes none", "a backup while it runs", "what was there before a kill is there", "every figure is what it was", "the owner's settings stay", "purged; nothing is left"} {
		assert.Contains(t, said, "  "+line+" ")
	}
	assert.NotContains(t, said, " NO\n")
	t.Log("\n" + said)
}

// TestTheUnitsAreHardened: of 10, as systemd reckons how much a service could do.
func TestTheUnitsAreHardened(t *testing.T) {
	for _, unit := range []string{"woodlark.service", "woodlark-agent.service"} {
		out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=30", "../../packaging/"+unit).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", unit, out)
	}
}

// TestElsewhereItSaysLinuxOnly: a compiler for another system says so, and nothing else.
func TestElsewhereItSaysLinuxOnly(t *testing.T) {
	for _, system := range []string{"darwin", "windows", "freebsd"} {
		cmd := exec.Command("go", "build", "-o", os.DevNull, "./cmd/woodlark")
		cmd.Dir, cmd.Env = "../..", append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), "Linux only")
		assert.Equal(t, 1, strings.Count(string(out), ".go:"), string(out))
	}
}
