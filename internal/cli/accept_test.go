package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/api/apitype"
)

const handOver = `
about: {title: Holm line, order: SL-7}
wait: 10ms
direction: there
first_look: {skip: true}
host_check: {skip: true}
by_service:
  services:
    - {service: calls, frames: "218", cir: 500k, limits: {loss: 1%, delay: 50ms}}
  configuration: {step_for: 1s, steps: [50%, 100%], policing: false}
  performance: {for: 1s}
`

// accepted is what the test looks at of a result.
type accepted struct {
	StartedAt time.Time `json:"started_at"`
	Complete  bool      `json:"complete"`
	Plan      struct {
		About struct{ Order string }
	} `json:"plan"`
	Found struct {
		Verdict  string
		Criteria []struct{ Figure, Verdict string }
		Trials   int
	} `json:"found"`
	Trials []json.RawMessage `json:"trials"`
}

func (h *harbour) accepted(id string) (r apitype.Run, a accepted) {
	h.t.Helper()
	require.NoError(h.t, json.Unmarshal([]byte(h.there("runs show -format json "+id)), &r))
	if r.Result != nil {
		require.NoError(h.t, json.Unmarshal(r.Result, &a))
	}
	return r, a
}

// TestAnAcceptanceTest from its plan to its report, at agents: kept, estimated, run, stopped and
// gone on with, printed; and refused where a watch measures.
func TestAnAcceptanceTest(t *testing.T) {
	h := newHarbour(t)
	file := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(file, []byte(handOver), 0o600))
	assert.Contains(t, h.there("accept keep", "Holm line", "-plan", file), "revision 1")
	assert.Contains(t, h.there("accept keep", "Holm line", "-plan", file), "revision 2", "over what was there")
	assert.Contains(t, h.there("accept plans"), "Holm line")
	assert.Contains(t, h.there("accept estimate", "-kept", "Holm line"), "3 trials")
	out := h.there("accept -from quay -format json holm", "-kept", "Holm line")
	var a accepted
	require.NoError(t, json.Unmarshal([]byte(out), &a))
	assert.True(t, a.Complete)
	assert.Equal(t, "pass", a.Found.Verdict)
	assert.Equal(t, "SL-7", a.Plan.About.Order, "a run keeps what it was told")

	// Stopped behind its first trial, it goes on with the second.
	left := h.there("accept -from quay -background holm", "-kept", "Holm line")
	id, _, _ := strings.Cut(left, " ")
	var before accepted
	require.Eventually(t, func() bool {
		_, before = h.accepted(id)
		return len(before.Trials) > 0
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, h.there("runs stop "+id), "cancelled: ")
	on, _, _ := strings.Cut(h.there("accept resume "+id), " ")
	require.NotEqual(t, id, on)
	var r apitype.Run
	require.Eventually(t, func() bool {
		r, a = h.accepted(on)
		return r.Outcome == "done"
	}, 3*time.Minute, 50*time.Millisecond, "trials that this machine spoils are made again")
	assert.Equal(t, before.StartedAt, a.StartedAt)
	assert.Equal(t, before.Trials[0], a.Trials[0], "what was measured before")
	assert.GreaterOrEqual(t, a.Found.Trials, 3)
	status, _, errs := h.call("runs", "resume", on, "-service", h.url)
	assert.Equal(t, exitWrongCall, status)
	assert.Contains(t, errs, "it came to its end")

	for _, end := range []string{"html", "pdf"} {
		to := filepath.Join(t.TempDir(), "report."+end)
		h.there("accept report "+on, "-out", to)
		b, err := os.ReadFile(to)
		require.NoError(t, err)
		assert.Contains(t, string(b[:200]), map[string]string{"html": "<!DOCTYPE html>", "pdf": "%PDF-"}[end])
	}
	h.there("watch add -name gulls -from quay -to holm -kind ping")
	status, _, errs = h.call("accept", "-from", "quay", "-up-to", "1M", "holm", "-service", h.url)
	assert.Equal(t, exitWrongCall, status)
	assert.Contains(t, errs, `watch "gulls" measures between quay and holm`)
	assert.Contains(t, errs, "-out-of-service")
	assert.Contains(t, h.there("accept forget", "Holm line"), "its runs stay")
	assert.Contains(t, h.there("accept plans"), "No plans are kept")
}

// TestWhatAnAcceptanceTestIsNotMadeOf names what is wrong, where, and what would do.
func TestWhatAnAcceptanceTestIsNotMadeOf(t *testing.T) {
	h := &harbour{t: t}
	dir := t.TempDir()
	plan := func(text string) string {
		name := filepath.Join(dir, "plan.yaml")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		return name
	}
	for _, c := range []struct {
		name, says string
		args       []string
	}{
		{"nothing to test", "say what to test", nil},
		{"a size", "-sizes frames of 40 bytes", []string{"-up-to", "1M", "-sizes", "40"}},
		{"a part", `"loudness" is none of`, []string{"-up-to", "1M", "-tests", "loudness"}},
		{"a rate", "-up-to", []string{"-up-to", "fast"}},
		{"limits", "there are y1541-0", []string{"-cir", "1M", "-limits-like", "best"}},
		{"a key of a file", "2:3", []string{"-plan", plan("by_size:\n  mots: 1M\n")}},
		{"no plan", "by_size and by_service are both missing", []string{"-plan", plan("about: {order: x}\n")}},
		{"no file", "no such file", []string{"-plan", filepath.Join(dir, "nowhere.yaml")}},
		{"both", "the plan has services", []string{"-plan", plan(handOver), "-cir", "1M"}},
		{"a report", "ends in neither", []string{"-cir", "1M", "-out", "report.doc"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			args := append([]string{"accept"}, c.args...)
			if c.name == "a key of a file" {
				plan("by_size:\n  mots: 1M\n")
			}
			if c.name == "no plan" {
				plan("about: {order: x}\n")
			}
			if c.name == "both" {
				plan(handOver)
			}
			status, _, errs := h.call(append(args, "192.0.2.7")...)
			assert.Equal(t, exitWrongCall, status)
			assert.Contains(t, errs, c.says)
		})
	}
	status, _, errs := h.call("accept", "estimate", "-plan", plan("by_size:\n  most: 1M\n  sizes: [64, 20]\n"))
	assert.Equal(t, exitWrongCall, status)
	assert.Contains(t, errs, "line 3: by_size.sizes[1] frames of 20 bytes")
}

// TestTheServiceEndsMeanwhile: a test that goes on as the service ends goes on with the trial that
// was cut when it is there again, by itself.
func TestTheServiceEndsMeanwhile(t *testing.T) {
	dir, err := os.MkdirTemp("", "wlk")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	h, stop := harbourIn(t, dir)
	file := filepath.Join(t.TempDir(), "plan.yaml")
	require.NoError(t, os.WriteFile(file, []byte(handOver), 0o600))
	id, _, _ := strings.Cut(h.there("accept -from quay -background holm", "-plan", file), " ")
	var before accepted
	require.Eventually(t, func() bool {
		_, before = h.accepted(id)
		return len(before.Trials) > 0
	}, time.Minute, 20*time.Millisecond)
	stop()
	h, stop = harbourIn(t, dir)
	t.Cleanup(stop)
	cut, _ := h.accepted(id)
	assert.NotEqual(t, "running", cut.Outcome)
	var after accepted
	require.Eventually(t, func() bool {
		for _, r := range h.runsOf("-kind accept -outcome done") {
			_, after = h.accepted(r.ID)
			return true
		}
		return false
	}, 3*time.Minute, 100*time.Millisecond)
	assert.Equal(t, before.Trials[0], after.Trials[0])
	assert.True(t, after.Complete)
	assert.GreaterOrEqual(t, len(after.Trials), 3)
}
