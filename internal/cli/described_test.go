package cli

import (
	"bytes"
	"flag"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// said is what a call of the program writes.
func said(t *testing.T, args ...string) (out, errs string, status int) {
	t.Helper()
	var o, e bytes.Buffer
	status = run(args, strings.NewReader(""), &o, &e)
	return o.String(), e.String(), status
}

func TestVersion(t *testing.T) {
	commit, date = "0123456789ab", "2026-11-30"
	defer func() { commit, date = "", "" }()
	out, _, status := said(t, "version")
	assert.Equal(t, exitGood, status)
	assert.Regexp(t, regexp.MustCompile(`^woodlark `+regexp.QuoteMeta(Version)+"\ncommit 0123456789ab of 2026-11-30\ngo1\\S+, linux/\\w+\n$"), out)
}

// TestBashCompletes: what bash itself offers behind words.
func TestBashCompletes(t *testing.T) {
	script, _, status := said(t, "completion", "bash")
	require.Equal(t, exitGood, status)
	offered := func(words ...string) []string {
		t.Helper()
		line := "COMP_WORDS=(" + strings.Join(words, " ") + "); COMP_CWORD=" + string(rune('0'+len(words)-1)) + "; _woodlark; printf '%s\\n' \"${COMPREPLY[@]}\""
		if words[len(words)-1] == `""` {
			line = strings.Replace(line, `""`, `""`, 1)
		}
		cmd := exec.Command("bash", "--norc", "-c", script+"\n"+line)
		cmd.Dir = t.TempDir()
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.Fields(string(out))
	}
	assert.Equal(t, []string{"tokens", "trace"}, sorted(offered("woodlark", "t"), "tokens", "trace", "throughput")[:2])
	assert.Contains(t, offered("woodlark", "pe"), "people")
	assert.Equal(t, []string{"add"}, offered("woodlark", "people", "ad"))
	assert.Contains(t, offered("woodlark", "ping", "-pro"), "-probes")
	assert.Contains(t, offered("woodlark", "lab", "le"), "learn")
	assert.Contains(t, offered("woodlark", "lab", "learn", "-ans"), "-answer")
	assert.Contains(t, offered("woodlark", "help", "degr"), "degraded")
	assert.NotContains(t, offered("woodlark", "people", `""`), "-role", "an option only where one is begun")
}

// sorted are those of a list that are among others, in order.
func sorted(list []string, among ...string) (out []string) {
	for _, a := range among {
		for _, l := range list {
			if l == a {
				out = append(out, a)
				break
			}
		}
	}
	return out
}

// TestShellsAndPagesHaveEverything: each command and each option that help shows.
func TestShellsAndPagesHaveEverything(t *testing.T) {
	to := filepath.Join(t.TempDir(), "man", "man1")
	_, errs, status := said(t, "manual", "-to", to)
	require.Equal(t, exitGood, status, errs)
	for _, shell := range []string{"bash", "zsh", "fish"} {
		script, _, status := said(t, "completion", shell)
		require.Equal(t, exitGood, status)
		for _, c := range everyCommand() {
			d := described(c)
			page, err := os.ReadFile(filepath.Join(to, "woodlark-"+strings.ReplaceAll(c.name, " ", "-")+".1"))
			require.NoError(t, err, c.name)
			for _, f := range d.options() {
				option := "-" + f.Name
				if shell == "fish" {
					option = "-o " + f.Name
				}
				assert.Contains(t, script, option, "%s of %s", shell, c.name)
				assert.Contains(t, string(page), `\-`+roffWord(f.Name), c.name)
			}
			assert.Contains(t, string(page), ".SH EXAMPLES", c.name)
			assert.NotRegexp(t, regexp.MustCompile(`(?m)^'`), string(page), "a line that roff takes for a request")
		}
	}
	whole, err := os.ReadFile(filepath.Join(to, "woodlark.1"))
	require.NoError(t, err)
	for _, c := range everyCommand() {
		assert.Contains(t, string(whole), ".B woodlark "+roffWord(c.name)+"\n")
	}
	for _, call := range [][]string{{"completion"}, {"completion", "ksh"}, {"manual"}, {"manual", "x", "-to", to}} {
		_, errs, status := said(t, call...)
		assert.Equal(t, exitWrongCall, status, call)
		assert.NotEmpty(t, errs)
	}
}

// TestEveryCommandIsDescribed: none needs a service, or anything else, to say what it takes.
func TestEveryCommandIsDescribed(t *testing.T) {
	for _, c := range everyCommand() {
		n := 0
		d := newCall(c, t.Context(), []string{"-help"}, strings.NewReader(""), io.Discard, io.Discard)
		assert.ErrorIs(t, d.run(d), flag.ErrHelp, c.name)
		for range d.options() {
			n++
		}
		if !strings.HasPrefix(c.name, "lab") && c.name != "completion" && c.name != "notices" && c.name != "here" {
			assert.Positive(t, n, c.name)
		}
		assert.NotEmpty(t, c.summary, c.name)
		assert.NotEmpty(t, c.example, c.name)
	}
}
