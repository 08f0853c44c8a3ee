package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
)

// TestWatchesAsAFile: what is exported is applied without a change; changes are shown first and
// applied whole or not at all.
func TestWatchesAsAFile(t *testing.T) {
	h := newHarbour(t)
	dir := t.TempDir()
	file := func(name, text string) string {
		name = filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		return name
	}
	targets := file("targets.csv", "target,who\nholm.example,Holm\n192.0.2.7,\"the light, north\"\n")
	h.there("watch add -from quay -to 192.0.2.2 -tags a,b -payload 100 -dscp EF -targets "+targets, "-name", "one thing")
	h.there("watch add -name routes -kind trace -from quay -to holm -and-back -zone Europe/Dublin -start 2031-01-01T00:00:00Z", "-cron", "30 2 * * MON-FRI", "-hours", "mon-fri 01:00-05:00")
	h.there("watch add -name fill -kind throughput -from quay -to holm -repeat 6h -spread poisson -protocol udp -rate 2M -paused -bytes-per-day 5000000")
	exported := h.there("watch export")
	same := h.there("watch apply -show " + file("same.yaml", exported))
	assert.Equal(t, 3, strings.Count(same, "stays as it is"), "%s\n%s", exported, same)
	assert.Contains(t, exported, "rate: 2")
	assert.NotContains(t, exported, "wait", "what is usual is left out")

	var list []apitype.Watch
	all := func() []apitype.Watch {
		list = nil
		require.NoError(t, json.Unmarshal([]byte(h.there("watch list -format json")), &list))
		return list
	}
	before := all()
	require.Len(t, before, 3)
	assert.ElementsMatch(t, []string{"192.0.2.2", "holm.example", "192.0.2.7"}, before[1].To)
	assert.InDelta(t, 3*1440, before[1].RowsPerDay, 0.1)
	assert.InDelta(t, 3*86400, before[1].ProbesPerDay, 0.1)
	assert.Positive(t, before[0].LoadPerDay)
	assert.Equal(t, "paused", before[0].Says)

	status, out, errs := h.call("watch", "apply", file("bad.yaml", "watches:\n  - {name: new, from: quay, to: holm.example}\n  - {name: bad, from: gull, to: holm.example}\n  - {name: worse, kind: trace, from: quay, to: a b, repeat: 1h}\n"), "-service", h.url)
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, `watch "bad"`)
	assert.Contains(t, errs, `watch "worse"`, "all that is wrong is told at once")
	assert.Empty(t, out)
	assert.Equal(t, before, all(), "nothing is half applied")

	changed := h.there("watch apply " + file("changed.yaml", "watches:\n  - {name: one thing, from: quay, to: 192.0.2.2, repeat: 5m, probes: 10}\n  - {name: another, from: [quay], to: holm.example}\n"))
	assert.Contains(t, changed, "~ one thing\n")
	assert.Contains(t, changed, "    repeat: 5m0s, was nothing\n")
	assert.Contains(t, changed, "    to: 192.0.2.2, was 192.0.2.2, holm.example, 192.0.2.7\n")
	assert.Contains(t, changed, "+ another\n    costs 1 path, 86400 probes a day, ")
	assert.True(t, strings.HasSuffix(changed, "Applied.\n"))
	require.Len(t, all(), 4)

	copied := h.there("watch copy routes -name evenings", "-hours", "01:00-03:00")
	assert.Contains(t, copied, "evenings")
	shown := h.there("watch change evenings -show -paused")
	assert.Contains(t, shown, "paused: true, was nothing")
	assert.Contains(t, h.there("watch show evenings"), "it begins at 2031-01-01")
	assert.Contains(t, h.there("watch export -format json routes"), `"cron": "30 2 * * MON-FRI"`)
	for _, x := range []struct{ line, says string }{
		{"watch copy routes", "-name OTHER"}, {"watch copy routes -name routes", "-name OTHER"}, {"watch export gull", "no watch"},
		{"watch add -name x -from quay -targets " + file("none.csv", "target\n"), "names no target"}, {"watch apply " + filepath.Join(dir, "gone"), "read the watches"},
	} {
		status, _, errs := h.call(append(strings.Fields(x.line), "-service", h.url)...)
		assert.Equal(t, 2, status, x.line)
		assert.Contains(t, errs, x.says, x.line)
	}
}

// TestSeveralMeasurementsInOneWatch: from options and files, exported whole, refused by name.
func TestSeveralMeasurementsInOneWatch(t *testing.T) {
	h := newHarbour(t)
	name := filepath.Join(t.TempDir(), "w.yaml")
	added := h.there("watch add -name holm -from quay -to 192.0.2.2", "-also", "trace -repeat 15m -probes 5", "-also", "throughput -repeat 6h -protocol udp -rate 2M")
	assert.Contains(t, added, "continuous, each 1s; a trace each 15m0s; a throughput each 6h0m0s")
	exported := h.there("watch export")
	assert.Contains(t, exported, "kind: trace")
	require.NoError(t, os.WriteFile(name, []byte(exported), 0o600))
	assert.Contains(t, h.there("watch apply -show "+name), "stays as it is", exported)
	var one, two []apitype.Watch
	require.NoError(t, json.Unmarshal([]byte(h.there("watch list -format json")), &one))
	require.Len(t, one, 1)
	require.Len(t, one[0].Also, 2)
	assert.JSONEq(t, "5", string(one[0].Also[0].How["probes"]))
	assert.Greater(t, one[0].ProbesPerDay, 86400.0, "the cost of all of it")
	assert.Positive(t, one[0].LoadPerDay)
	h.there("watch copy holm -name other")
	h.there("watch change holm -tags x")
	h.there("watch change other", "-also", "")
	require.NoError(t, json.Unmarshal([]byte(h.there("watch list -format json")), &two))
	require.Len(t, two, 2)
	assert.Len(t, two[0].Also, 2, "what is not said stays")
	assert.Empty(t, two[1].Also)
	for _, bad := range []struct{ also, says string }{
		{"gull", "it begins with a kind"}, {"trace", "a trace is not continuous"}, {"trace -repeat 15m -codec g711", "-codec is not of a trace"}, {"trace -fly", "fly"}, {"trace 5m", "no use for"},
	} {
		status, _, errs := h.call("watch", "add", "-name", "bad", "-from", "quay", "-to", "192.0.2.2", "-also", bad.also, "-service", h.url)
		assert.Equal(t, 2, status, bad.also)
		assert.Contains(t, errs, bad.says, bad.also)
	}
	for text, says := range map[string]string{
		"{kind: trace, repeat: 15m, to: x}":  "to is of the whole watch",
		"{kind: trace, repeat: 15m, fly: x}": "fly",
		"trace":                              "each is an object",
	} {
		require.NoError(t, os.WriteFile(name, []byte("watches:\n  - {name: a, from: quay, to: 192.0.2.2, also: ["+text+"]}\n"), 0o600))
		status, _, errs := h.call("watch", "apply", name, "-service", h.url)
		assert.Equal(t, 2, status, text)
		assert.Contains(t, errs, says, text)
	}
}
