package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/replay"
)

// tenDays are readings every five minutes; the last hour is slow.
func tenDays() string {
	var b strings.Builder
	r := rand.New(rand.NewPCG(3, 3))
	begin := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	for i := range 10*288 + 120 {
		d := 10 + 0.1*r.NormFloat64()
		if i >= 10*288+108 {
			d += 20
		}
		fmt.Fprintf(&b, `{"from":"northquay","to":"terminal.holm.example","family":4,"started_at":%q,"span_s":300,"sent":20,"answered":20,"lost":0,"rtt_median_ms":%.3f}`+"\n", begin.Add(time.Duration(i)*5*time.Minute).Format(time.RFC3339), d)
	}
	return b.String()
}

func TestReplayOnTheCommandLine(t *testing.T) {
	name := filepath.Join(t.TempDir(), "readings.ndjson")
	require.NoError(t, os.WriteFile(name, []byte(tenDays()), 0o600))
	for _, c := range []struct {
		name   string
		in     string
		args   []string
		status int
		says   string
	}{
		{"a file", "", []string{"-replay", name, "-zone", "UTC"}, exitNotGood, "RTT 30.0 ms instead of 10.0 since Thu 09:00"},
		{"standard input", tenDays(), []string{"-replay", "-", "-zone", "UTC"}, exitNotGood, "1 episode, 0 incidents"},
		{"other tolerances", "", []string{"-replay", name, "-tolerance", "rtt=30ms"}, exitGood, "0 episodes"},
		{"no such file", "", []string{"-replay", name + "x"}, exitWrongCall, "no such file"},
		{"a line that is none", "what?\n", []string{"-replay", "-"}, exitWrongCall, "-, line 1"},
		{"an odd zone", "", []string{"-replay", name, "-zone", "Mars"}, exitWrongCall, "is not a time zone"},
		{"an odd tolerance", "", []string{"-replay", name, "-tolerance", "rtt=much"}, exitWrongCall, "is no value"},
		{"an odd holiday", "", []string{"-replay", name, "-holidays", "Christmas"}, exitWrongCall, "write days such as"},
		{"routes without readings", "", []string{"-routes", name}, exitWrongCall, "belongs to -replay"},
		{"no table", "", []string{"-replay", name, "-format", "csv"}, exitWrongCall, "not as csv"},
		{"both from one input", tenDays(), []string{"-replay", "-", "-routes", "-"}, exitWrongCall, "cannot both"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var out, errs bytes.Buffer
			assert.Equal(t, c.status, run(append([]string{"degraded"}, c.args...), strings.NewReader(c.in), &out, &errs))
			assert.Contains(t, out.String()+errs.String(), c.says)
		})
	}
}

func TestReplayAsJSON(t *testing.T) {
	var out, errs bytes.Buffer
	assert.Equal(t, exitNotGood, run([]string{"degraded", "-replay", "-", "-zone", "UTC", "-format", "json"}, strings.NewReader(tenDays()), &out, &errs))
	var o replay.Output
	require.NoError(t, json.Unmarshal(out.Bytes(), &o))
	require.Len(t, o.Episodes, 1)
	assert.Equal(t, "2026-11-12T09:00:00Z", o.Episodes[0].BeganAt.Format(time.RFC3339))
	assert.Empty(t, o.Properties)
	assert.NotNil(t, o.Incidents, "an empty list, not null")
}
