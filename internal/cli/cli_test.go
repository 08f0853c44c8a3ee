package cli

import (
	"bytes"
	"context"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/demo"
	"woodlark.example/internal/client"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/kind/ping"
	"woodlark.example/internal/network"
	"woodlark.example/internal/report"
)

// newTestCall is a call of a command that has two options.
func newTestCall(args ...string) (c *call, probes *int, out, errs *bytes.Buffer) {
	out, errs = &bytes.Buffer{}, &bytes.Buffer{}
	c = newCall(command{name: "ping", summary: "s", usage: "u", example: "e"}, context.Background(), args, strings.NewReader(""), out, errs)
	probes = c.flags.Int("probes", 10, "probes to send")
	c.withFormat()
	return c, probes, out, errs
}

func TestOptionsStandBeforeAndAfterArguments(t *testing.T) {
	for _, c := range []struct {
		args []string
		want []string
	}{
		{[]string{"-probes", "3", "a", "b"}, []string{"a", "b"}},
		{[]string{"a", "-probes", "3", "b"}, []string{"a", "b"}},
		{[]string{"a", "b", "-probes=3"}, []string{"a", "b"}},
		{[]string{"-probes", "3", "--", "-a", "b"}, []string{"-a", "b"}},
	} {
		call, probes, _, _ := newTestCall(c.args...)
		require.NoError(t, call.parse(), "%v", c.args)
		assert.Equal(t, c.want, call.args)
		assert.Equal(t, 3, *probes)
	}
}

func TestStatuses(t *testing.T) {
	for _, c := range []struct {
		name string
		err  error
		want int
		says string
	}{
		{"good", nil, exitGood, ""},
		{"not good, said already", exit{status: exitNotGood}, exitNotGood, ""},
		{"wrong call", wrongCall("-x is odd"), exitWrongCall, "'woodlark help ping' shows how"},
		{"refused by the service", &client.Problem{Status: 422, Detail: "no such agent"}, exitWrongCall, "no such agent"},
		{"not signed in", &client.Problem{Status: 401, Detail: "token"}, exitUnmeasured, "token"},
		{"the service's own trouble", &client.Problem{Status: 503, Detail: "database"}, exitUnmeasured, "database"},
		{"not reached", client.ErrUnreached, exitUnmeasured, "not reached"},
		{"not permitted", network.ErrNotPermitted, exitUnmeasured, "not permitted"},
		{"help", flag.ErrHelp, exitGood, ""},
	} {
		call, _, _, errs := newTestCall()
		assert.Equal(t, c.want, call.finish(c.err), c.name)
		assert.Contains(t, errs.String(), c.says, c.name)
	}
}

func TestUnknownFormat(t *testing.T) {
	call, _, _, _ := newTestCall("-format", "xml")
	require.ErrorContains(t, call.parse(), "none of text, json, csv")
}

func TestStatusOfAMeasurement(t *testing.T) {
	k, err := kind.Find("ping")
	require.NoError(t, err)
	one := func(state kind.State, sent, answered int) result {
		r := &ping.Result{PingResult: report.PingResult{Outcome: string(state), Figures: reading.Figures{Sent: sent, Answered: answered}}}
		return result{kind.Lane{Target: "holm"}, state, "", r}
	}
	answered, silent, failed := one(kind.Done, 5, 5), one(kind.Done, 5, 0), one(kind.Failed, 0, 0)
	status := func(results ...result) int {
		c, _, _, _ := newTestCall()
		m := &measuring{call: c, kind: k, spec: k.New(kind.ByHand)}
		if err := m.finish(results); err != nil {
			return err.(exit).status
		}
		return exitGood
	}
	assert.Equal(t, exitGood, status(answered, answered))
	assert.Equal(t, exitNotGood, status(answered, silent))
	assert.Equal(t, exitUnmeasured, status(answered, failed))
	assert.Equal(t, exitNotGood, status(silent, failed))
	assert.Equal(t, exitUnmeasured, status(result{kind.Lane{Target: "holm"}, kind.Failed, "no such agent", nil}))
}

func TestTheTokenIsMadeOnceAndKeptPrivate(t *testing.T) {
	dir := t.TempDir()
	first, err := adminToken(dir)
	require.NoError(t, err)
	assert.Len(t, first, 48)
	require.NoError(t, os.Chmod(filepath.Join(dir, tokenFile), 0o644))
	again, err := adminToken(dir)
	require.NoError(t, err)
	assert.Equal(t, first, again)
	info, err := os.Stat(filepath.Join(dir, tokenFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "whatever it was made")
	require.NoError(t, os.WriteFile(filepath.Join(dir, tokenFile), []byte("\n"), 0o600))
	_, err = adminToken(dir)
	require.ErrorContains(t, err, "damaged", "an empty one is not replaced without a word")
	require.ErrorContains(t, err, filepath.Join(dir, tokenFile))
}

func TestOnlyOneServiceOnAStateFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	lock, err := lockState(dir)
	require.NoError(t, err)
	_, err = lockState(dir)
	require.ErrorContains(t, err, "in use by another woodlark")
	require.ErrorContains(t, err, "-state")
	require.NoError(t, lock.Close())
	lock, err = lockState(dir)
	require.NoError(t, err)
	_ = lock.Close()
}

func TestTheNoteOfAnEndedServiceIsNotBelieved(t *testing.T) {
	dir := t.TempDir()
	_, err := readNote(dir)
	require.ErrorIs(t, err, os.ErrNotExist)
	token, err := adminToken(dir)
	require.NoError(t, err)
	require.NoError(t, writeNote(dir, note{URL: "http://127.0.0.1:9", Pid: os.Getpid()}))
	n, err := readNote(dir)
	require.NoError(t, err)
	assert.Equal(t, token, n.token)
	require.NoError(t, writeNote(dir, note{URL: "http://127.0.0.1:9", Pid: 1 << 30}))
	_, err = readNote(dir)
	require.ErrorContains(t, err, "has ended")
}

func TestTheClientIsFound(t *testing.T) {
	base := t.TempDir()
	t.Setenv("XDG_STATE_HOME", base)
	t.Setenv("WOODLARK_STATE", "")
	t.Setenv("WOODLARK_TOKEN", "")
	t.Setenv("WOODLARK_SERVICE", "")
	c, _, _, _ := newTestCall()
	_, err := c.client()
	require.ErrorContains(t, err, "no service is running on this machine")
	folder := filepath.Join(base, "woodlark", "demo")
	require.NoError(t, os.MkdirAll(folder, 0o700))
	_, err = adminToken(folder)
	require.NoError(t, err)
	require.NoError(t, writeNote(folder, note{URL: "http://127.0.0.1:7373", Pid: os.Getpid()}))
	found, err := c.client()
	require.NoError(t, err, "the demo's state is looked at too")
	assert.Equal(t, "http://127.0.0.1:7373", found.Base())
	c.service = "http://127.0.0.1:9999"
	_, err = c.client()
	require.ErrorContains(t, err, "WOODLARK_TOKEN", "another service's token is not known")
	t.Setenv("WOODLARK_TOKEN", "x")
	_, err = c.client()
	require.NoError(t, err)
	c.service = "ftp://127.0.0.1"
	_, err = c.client()
	require.ErrorContains(t, err, "is not an address such as")
}

func TestADemoClearsOnlyItsOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	require.NoError(t, clearDemo(dir), "nothing there")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	precious := filepath.Join(dir, "precious")
	require.NoError(t, os.WriteFile(precious, []byte("x"), 0o600))
	require.ErrorContains(t, clearDemo(dir), "not a demo's")
	assert.FileExists(t, precious)
	require.NoError(t, os.Remove(precious))
	require.NoError(t, markUnfinished(dir))
	require.NoError(t, clearDemo(dir), "what a demo began it may clear")
	assert.NoDirExists(t, dir)
}

func TestTheDemosReferenceStays(t *testing.T) {
	dir := t.TempDir()
	now, fresh, err := demoReference(dir)
	require.NoError(t, err)
	assert.True(t, fresh)
	assert.WithinDuration(t, time.Now(), now, 2*time.Second)
	before := now.Add(-48 * time.Hour)
	require.NoError(t, os.WriteFile(filepath.Join(dir, demoMark), []byte(before.Format(time.RFC3339)+"\n"), 0o600))
	kept, fresh, err := demoReference(dir)
	require.NoError(t, err)
	assert.False(t, fresh)
	assert.True(t, before.Equal(kept), "the past of a kept demo does not move")
}

func TestWatchFiles(t *testing.T) {
	watches, err := readWatches("demo", demo.Watches)
	require.NoError(t, err)
	assert.Greater(t, len(watches), 4)
	for text, says := range map[string]string{
		"":                         "names no watches",
		"watches: []":              "names no watches",
		"watches: 5":               "is not a file of watches",
		"watches:\n  - {name: ''}": "watch 1 has no name",
		"watches:\n  - {nam: a}":   "line 2: a watch of kind ping has no \"nam\"",
		"watches:\n  - {name: a}\n  - name: b\n    kind: walk\n    codec: g711": "line 5: a watch of kind walk has no \"codec\"",
		"watches:\n  - {name: a, kind: dowse}":                                  "line 2: unknown kind of measurement",
		"watchs:\n  - {name: a}":                                                "1:",
		"watches:\n  - {name: a}\n  - {name: a}":                                "is there twice",
	} {
		_, err := readWatches("file.yaml", []byte(text))
		require.ErrorContains(t, err, says, text)
		assert.ErrorContains(t, err, "file.yaml")
	}
}

func TestLists(t *testing.T) {
	assert.Equal(t, []string{"a", "b"}, list(" a, b ,,"))
	assert.Nil(t, list(""))
	assert.Equal(t, "a, b", some([]string{"a", "b"}))
	assert.Equal(t, "a and 2 more", some([]string{"a", "b", "c"}))
	assert.Len(t, short(strings.Repeat("x", 500)), 63)
}

// TestOptionsOfSeveralValuesAreGivenOnce: of two lists none is dropped in silence. Of an option of one
// value the later counts.
func TestOptionsOfSeveralValuesAreGivenOnce(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"-to", "a,b", "-to", "c"}, "-to: it is given twice"},
		{[]string{"-to", "a", "x", "-to=c"}, "-to: it is given twice"},
		{[]string{"-to", "a", "x", "-to=a"}, ""},
		{[]string{"-probes", "3", "-probes", "4"}, ""},
		{[]string{"-word", "a", "-word", "b"}, ""},
	} {
		call, probes, _, _ := newTestCall(c.args...)
		to := call.flags.String("to", "", "names, with commas between")
		words := 0
		call.flags.Func("word", "with commas between; may be given again", func(string) error { words++; return nil })
		call.again = []string{"word"}
		err := call.parse()
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, "%v", c.args)
			continue
		}
		require.NoError(t, err, "%v", c.args)
		switch c.args[0] {
		case "-probes":
			assert.Equal(t, 4, *probes)
		case "-word":
			assert.Equal(t, 2, words)
		default:
			assert.Equal(t, "a", *to)
		}
	}
}
