package guard_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// TestSilenceBesideLoadRuns: a path beside load runs is judged by whether it answers, and by nothing
// that a load does to it.
func TestSilenceBesideLoadRuns(t *testing.T) {
	start := 3*day + 600
	loaded := func(m int) bool { return m >= start && m < start+240 }
	slow := between(start, start+240, 300, flat(10))
	for name, c := range map[string]struct {
		loss func(int) float64
		load func(int) bool
		told int
		to   int
	}{
		"half is lost, and all is late":        {between(start, start+240, 0.5, flat(0)), loaded, 0, 0},
		"a minute without an answer":           {between(start+60, start+61, 1, between(start, start+240, 0.3, flat(0))), loaded, 0, 0},
		"twelve minutes without an answer":     {between(start+60, start+72, 1, between(start, start+240, 0.3, flat(0))), loaded, 1, start + 72},
		"it answers when the load is over":     {between(start+60, start+240, 1, flat(0)), loaded, 1, start + 240},
		"loads in every other minute":          {between(start+60, start+72, 1, flat(0)), func(m int) bool { return loaded(m) && m%2 == 0 }, 1, start + 72},
		"it began before the loads":            {between(start-5, start+72, 1, flat(0)), loaded, 1, start + 72},
		"two fall silent, and a minute is not": {between(start+60, start+62, 1, flat(0)), loaded, 1, start + 62},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPath()
			delay := slow
			if c.told > 0 {
				delay = flat(10)
			}
			changes := world{seed: 4, delay: delay, loss: c.loss, load: c.load}.run(p, start+400)
			list := p.Episodes()
			require.Len(t, list, c.told, "%+v", list)
			if c.told == 0 {
				return
			}
			assert.Equal(t, guard.Lost, list[0].Kind)
			assert.WithinDuration(t, at(c.to), list[0].To, time.Minute)
			assert.Empty(t, list[0].Unmeasured)
			assert.LessOrEqual(t, changes[0].At.Sub(list[0].From), 3*time.Minute)
			n, known := p.Judge().Baseline().At(baseline.RTT, at(start+360))
			require.True(t, known)
			assert.Less(t, n.High, 12.0, "nothing was learnt of it")
		})
	}
}
