package guard

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/baseline"
)

// TestStepsOfACreep: a level that turns out to be a step of a creep is none any more, and its episode
// is over unless another measure of it goes on; one of before, one that somebody took for normal, and
// one of another measure stay.
func TestStepsOfACreep(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 8, 0, 0, 0, time.UTC) }
	level := func(m baseline.Measure, since int, episode int) Property {
		return Property{Kind: NewLevel, Measure: m, Since: day(since), ToldAt: day(since + 3), Episode: episode}
	}
	accepted := level(baseline.Loss, 6, 4)
	accepted.AcceptedAt = day(9)
	o := Options{}
	p := NewPath(&o, 0)
	episode := func(number, since int, measures ...baseline.Measure) {
		m := &matter{Episode: Episode{Kind: Degraded, From: day(since), NewLevel: day(since + 3)}, number: number, measure: map[baseline.Measure]*ending{}, back: map[baseline.Measure]*back{}}
		for _, x := range measures {
			m.Excesses = append(m.Excesses, Excess{Measure: x, From: day(since)})
			m.back[x] = &back{by: 0.01}
		}
		p.judge.open, p.episodes = append(p.judge.open, m), append(p.episodes, m.clone())
	}
	episode(1, 1, baseline.Loss)
	episode(2, 5, baseline.Loss)
	episode(3, 5, baseline.RTT)
	episode(4, 6, baseline.Loss)
	episode(5, 7, baseline.Loss, baseline.RTT)
	both := level(baseline.Loss, 7, 5)
	for _, x := range []Property{level(baseline.Loss, 1, 1), level(baseline.Loss, 5, 2), level(baseline.RTT, 5, 3), accepted, both} {
		p.tell(x)
	}
	changes := p.tell(Property{Kind: Creeping, Measure: baseline.Loss, Since: day(3), ToldAt: day(14), Before: 0, Now: 0.02})
	if assert.Len(t, changes, 1) {
		assert.Equal(t, Crept, changes[0].What)
		assert.Equal(t, 2, changes[0].Number)
		assert.Equal(t, day(14), changes[0].Episode.To)
	}
	var open []int
	for _, m := range p.judge.open {
		open = append(open, m.number)
	}
	assert.Equal(t, []int{1, 3, 4, 5}, open)
	assert.False(t, p.episodes[1].Open())
	x, _ := p.judge.open[3].Excess(baseline.Loss)
	assert.Equal(t, day(14), x.To, "of what goes on in another measure, this one is over")
	assert.Contains(t, p.judge.open[3].back, baseline.RTT)
	assert.NotContains(t, p.judge.open[3].back, baseline.Loss)
	var ended []bool
	for _, x := range p.properties {
		ended = append(ended, !x.EndedAt.IsZero())
	}
	assert.Equal(t, []bool{false, true, false, false, true, false}, ended)
}
