package objective_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
)

// probes makes n probes of a round trip, every lossEvery-th lost, every
// slowEvery-th slower by 200 ms.
func probes(n int, rtt time.Duration, lossEvery, slowEvery int) (reading.Reading, []reading.Probe) {
	start := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	var list []reading.Probe
	for i := range n {
		p := reading.Probe{DueAt: start.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: rtt + time.Duration(i%3)*100*time.Microsecond}
		if slowEvery > 0 && i%slowEvery == 1 {
			p.RTT += 200 * time.Millisecond
		}
		if lossEvery > 0 && i%lossEvery == 2 {
			p = reading.Probe{DueAt: p.DueAt}
		}
		list = append(list, p)
	}
	return reading.Of(start, 0, n, time.Second, list), list
}

func TestJudge(t *testing.T) {
	ms := time.Millisecond
	for _, c := range []struct {
		name, objective string
		n               int
		rtt             time.Duration
		loss, slow      int
		want            objective.State
		missed          []string
	}{
		{"a clean path, enough probes", "voice", 20000, 20 * ms, 0, 0, objective.Met, nil},
		{"a clean path, few probes", "voice", 100, 20 * ms, 0, 0, objective.Open, nil},
		{"a clean path, few probes, no limit for variation", "interactive", 100, 20 * ms, 0, 0, objective.Open, nil},
		{"far away", "voice", 20000, 240 * ms, 0, 0, objective.Missed, []string{"mean_delay_ms", "mouth_to_ear_ms"}},
		{"far away, for far calls", "voice-far", 20000, 240 * ms, 0, 0, objective.Met, nil},
		{"one in fifty lost", "bulk", 20000, 20 * ms, 50, 0, objective.Missed, []string{"loss_ratio"}},
		{"one in fifty lost in a call", "voice", 20000, 20 * ms, 50, 0, objective.Missed, []string{"loss_ratio"}},
		{"one in five lost in a call", "voice", 20000, 20 * ms, 5, 0, objective.Missed, []string{"loss_ratio", "mos"}},
		{"one in a hundred 100 ms late", "video", 20000, 20 * ms, 0, 100, objective.Missed, []string{"variation_ms"}},
		{"varies, but nobody minds", "transaction", 20000, 20 * ms, 0, 100, objective.Met, nil},
		{"one in 1500 lost: half of it is within 0.1 %", "bulk", 30000, 20 * ms, 1500, 0, objective.Met, nil},
		{"two of 60,000 lost leave television open", "television", 60000, 20 * ms, 30000, 0, objective.Open, nil},
		{"no answer", "interactive", 50, 20 * ms, 1, 0, objective.Open, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			o, err := objective.Find(c.objective)
			require.NoError(t, err)
			r, list := probes(c.n, c.rtt, c.loss, c.slow)
			v := o.Judge(r, list)
			assert.Equal(t, c.want, v.State, "%+v", v.Lines)
			var missed []string
			for _, l := range v.Missed() {
				missed = append(missed, l.Measure)
				require.NotNil(t, l.Value)
			}
			assert.Equal(t, c.missed, missed)
			assert.True(t, v.Halved)
		})
	}
	_, err := objective.Find("choir")
	require.ErrorContains(t, err, "there are voice, voice-far")
}
