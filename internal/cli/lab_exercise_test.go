package cli

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/compare"
	"woodlark.example/demo/faults"
	"woodlark.example/internal/kind"
)

// learns calls "lab learn" and returns what it wrote and its status.
func learns(t *testing.T, args ...string) (out, errs string, status int) {
	t.Helper()
	var o, e bytes.Buffer
	c := newCall(labLearnCommand, t.Context(), args, nil, &o, &e)
	status = c.finish(runLabLearn(c))
	return o.String(), e.String(), status
}

// TestARunShowsTheFault makes what measures from one end, in virtual time, in each network: something
// of its truth is found, and nothing that must not be.
func TestARunShowsTheFault(t *testing.T) {
	all, err := faults.List()
	require.NoError(t, err)
	ran := 0
	for _, x := range all {
		require.NotEmpty(t, x.Shows, x.Name)
		twoEnds := slices.ContainsFunc(x.Shows, func(s faults.Show) bool {
			k, err := kind.Find(s.Kind)
			require.NoError(t, err, x.Name)
			return k.TwoEnds
		})
		if twoEnds {
			continue // in real time: the end-to-end tests have one of them
		}
		ran++
		t.Run(x.Name, func(t *testing.T) {
			t.Parallel()
			// Which flows a trace sends is chance, as on any machine: both ways through a network may
			// look alike to one that met few.
			wrong := "not run"
			for range 3 {
				if wrong = shown(t, x); wrong == "" {
					break
				}
			}
			assert.Empty(t, wrong)
		})
	}
	assert.Greater(t, ran, 50)
}

// shown says what is wrong of a run of an exercise; empty when it shows something of the truth, and
// nothing that is not so.
func shown(t *testing.T, x faults.Exercise) (wrong string) {
	out, errs, status := learns(t, "-run", "-format", "json", x.Name)
	require.Contains(t, []int{exitGood, exitNotGood}, status, errs)
	var run struct {
		Measurements []json.RawMessage `json:"measurements"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &run))
	says := func(code string) bool { return strings.Contains(out, `"`+code+`"`) }
	for _, code := range x.MustNot {
		if says(code) {
			return code + " is not so"
		}
	}
	if against := slices.ContainsFunc(x.Shows, func(s faults.Show) bool { return s.Against != "" }); against && x.Fault {
		var r compare.Result
		require.NoError(t, json.Unmarshal(run.Measurements[2], &r), "the third lays both beside each other")
		if !slices.ContainsFunc(r.Differences, func(d compare.Delta) bool { return d.State == compare.Differs && d.Better == "a" }) {
			return r.Sentence
		}
		return ""
	}
	if len(x.Must) > 0 && !slices.ContainsFunc(x.Must, func(e faults.Expectation) bool { return says(e.Code) }) {
		return "it shows nothing of what is true"
	}
	return ""
}

func TestAnswersOfLearners(t *testing.T) {
	find := func(name string) faults.Exercise {
		x, err := faults.Find(name)
		require.NoError(t, err)
		return x
	}
	for _, c := range []struct {
		name, exercise string
		given          []string
		where          string
		right          bool
		fits, missing  int
	}{
		{"all of it", "clicks-in-the-line", []string{"loss_bursts", "loss_carried"}, "", true, 2, 0},
		{"half of it", "clicks-in-the-line", []string{"loss_bursts"}, "", false, 1, 1},
		{"and one too many", "clicks-in-the-line", []string{"loss_bursts", "loss_carried", "bloat"}, "", false, 2, 0},
		{"the place", "every-fourth", []string{"loss_alternating", "loss_carried"}, "gw.holm.example", false, 2, 0},
		{"nothing, and so it is", "one-lost-in-a-day", nil, "", true, 0, 0},
		{"something, where nothing is", "one-lost-in-a-day", []string{"loss_steady"}, "", false, 0, 0},
		{"nothing, where something is", "every-fourth", nil, "", false, 0, 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := find(c.exercise)
			r := judgeAnswer(x, c.given, c.where)
			if c.where != "" {
				at := slices.ContainsFunc(x.Must, func(e faults.Expectation) bool { return e.Hop == c.where })
				assert.Equal(t, at, r.Where.Right)
				c.right = at
			}
			assert.Equal(t, c.right, r.Right)
			assert.Len(t, r.Fits, c.fits)
			assert.Equal(t, c.missing, r.Missing)
		})
	}
	assert.False(t, judgeAnswer(find("two-kinds-of-slow"), []string{"branch_slow"}, "south").Where.Right, "a part of a name is no place")
	assert.True(t, judgeAnswer(find("two-kinds-of-slow"), []string{"branch_slow"}, "south.transit.example").Right)
	_, errs, status := learns(t, "-answer", "nonsense", "every-fourth")
	assert.Equal(t, exitWrongCall, status)
	assert.Contains(t, errs, "-codes")
	out, _, status := learns(t, "-answer", "none", "every-fourth")
	assert.Equal(t, exitNotGood, status)
	assert.NotContains(t, out, "loss", "the truth is not told")
}

func TestMomentsOfNetworks(t *testing.T) {
	now := time.Date(2026, 11, 30, 9, 30, 0, 0, time.UTC)
	for text, want := range map[string]string{"17:00": "2026-11-30T17:00", "day-1 14:20": "2026-11-29T14:20", "start+90m": "2026-11-30T11:00"} {
		got, err := momentOf(text, now, time.UTC)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Format("2006-01-02T15:04"), text)
	}
	_, err := momentOf("noon", now, time.UTC)
	assert.ErrorContains(t, err, "neither an hour")
	_, err = momentHost("learn:small-line", "desk.northquay.example", "day-1 14:20", true)
	assert.ErrorContains(t, err, "two ends measure in real time")
}
