package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/compare"
)

// TestCompareCommand: two runs of one kind, two kinds with a figure in common, and what cannot be.
func TestCompareCommand(t *testing.T) {
	h := newHarbour(t)
	run := func(line string) string {
		id, _, _ := strings.Cut(h.there(line), " ")
		h.there("runs follow " + id)
		return id
	}
	one := run("ping -from quay -background -probes 40 -every 10ms holm.example")
	two := run("ping -from quay -background -probes 40 -every 10ms holm.example")
	route := run("trace -from quay -background -probes 5 -every 10ms holm.example")
	var r compare.Result
	require.NoError(t, json.Unmarshal([]byte(h.there("compare -format json "+one+" "+two)), &r))
	assert.Len(t, r.Differences, 3, "delay, loss, jitter")
	assert.NotEmpty(t, r.Sentence)
	assert.Contains(t, r.A.What, "ping of ")
	text := h.there("compare " + one + " " + two)
	assert.Contains(t, text, r.Sentence)
	assert.Contains(t, text, "surely between")
	assert.Contains(t, h.there("compare -format csv "+one+" "+two), "mean RTT,")
	require.NoError(t, json.Unmarshal([]byte(h.there("compare -format json "+route+" "+one)), &r))
	assert.Contains(t, r.A.What, "trace of ")
	for line, says := range map[string]string{
		one:                          "compare takes two",
		one + " lark":                `"lark" is neither the identifier of a run nor a path`,
		one + " quay->nowhere":       "there is no path from quay to nowhere",
		"-for 0s " + one + " " + two: "is not above zero",
		one + " 01a22ac3-c918-77b3-84c2-ccea814f969e": "the second: ",
	} {
		status, _, errs := h.call(append([]string{"compare", "-service", h.url}, strings.Fields(line)...)...)
		assert.NotZero(t, status, line)
		assert.Contains(t, errs, says, line)
	}
}

// TestResultsOfFiles: what -format json wrote can be laid beside another, whatever measured it.
func TestResultsOfFiles(t *testing.T) {
	folder := t.TempDir()
	run := func(args ...string) (string, string, int) {
		var out, errs bytes.Buffer
		status := run(args, nil, &out, &errs)
		return out.String(), errs.String(), status
	}
	file := func(name string, args ...string) string {
		out, errs, status := run(append(args, "-format", "json", "terminal.holm.example")...)
		require.Less(t, status, 2, errs)
		at := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(at, []byte(out), 0o600))
		return at
	}
	in := []string{"-world", "learn:mornings-are-slow", "-from", "desk.northquay.example", "-probes", "300", "-every", "200ms", "-moment"}
	noon := file("noon.json", append([]string{"ping"}, append(in, "12:00")...)...)
	morning := file("morning.json", append([]string{"ping"}, append(in, "09:00")...)...)
	way := file("way.json", "trace", "-world", "learn:mornings-are-slow", "-from", "desk.northquay.example", "-moment", "12:00")
	out, errs, status := run("compare", noon, morning)
	require.Zero(t, status, errs)
	assert.Contains(t, out, "morning.json is worse than")
	assert.Contains(t, out, "53.1 ms against 23.1 ms")
	out, errs, status = run("compare", noon, way)
	require.Zero(t, status, errs)
	assert.Contains(t, out, "  trace")
	none := filepath.Join(folder, "none.json")
	require.NoError(t, os.WriteFile(none, []byte(`{"a": 1, "b": 2, "c": 3}`), 0o600))
	_, errs, status = run("compare", noon, none)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "no result of a measurement")
	_, errs, status = run("compare", noon, "here → there")
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "a file goes beside")
}
