package guard

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/baseline"
)

// TestStepsOfACreep: a level that turns out to be a step of a creep is none any more; one of before,
// one that somebody took for normal, and one of another measure stay.
func TestStepsOfACreep(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 11, n, 8, 0, 0, 0, time.UTC) }
	level := func(m baseline.Measure, since int, episode int) Property {
		return Property{Kind: NewLevel, Measure: m, Since: day(since), ToldAt: day(since + 3), Episode: episode}
	}
	accepted := level(baseline.Loss, 6, 4)
	accepted.AcceptedAt = day(9)
	p := &Path{}
	for _, x := range []Property{level(baseline.Loss, 1, 1), level(baseline.Loss, 5, 2), level(baseline.RTT, 5, 3), accepted} {
		p.tell(x)
	}
	p.tell(Property{Kind: Creeping, Measure: baseline.Loss, Since: day(3), ToldAt: day(14), Before: 0, Now: 0.02})
	var ended []bool
	for _, x := range p.properties {
		ended = append(ended, !x.EndedAt.IsZero())
	}
	assert.Equal(t, []bool{false, true, false, false, false}, ended)
}
