package guard_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// TestSuspicion: a calm path is none, nor one that nothing is known of; one reading that is far
// off makes it one, more probes of the same time settle it, either way.
func TestSuspicion(t *testing.T) {
	start := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	point := func(i int, rtt float64, lost int) baseline.Point {
		p := baseline.Point{At: start.Add(time.Duration(i) * time.Minute), Span: time.Minute, Sent: 60, Answered: 60 - lost, Lost: lost}
		if lost < 60 {
			p.Set(baseline.RTT, rtt+float64(i*7%11)*0.02)
			p.Set(baseline.Jitter, 0.1+float64(i*5%7)*0.01)
		}
		return p
	}
	learnt := func() *guard.Path {
		p := guard.NewPath(&guard.Options{}, 0)
		assert.False(t, p.Suspects(start), "nothing is known yet")
		for i := range 10 * 24 * 60 {
			p.Add(point(i, 10, 0))
			if i%1440 == 1439 {
				assert.False(t, p.Suspects(start.Add(time.Duration(i)*time.Minute)), "calm")
			}
		}
		return p
	}
	const n = 10 * 24 * 60
	p := learnt()
	assert.Empty(t, p.Add(point(n, 13, 0)), "one reading does not suffice")
	assert.True(t, p.Suspects(point(n, 0, 0).At))
	told := 0
	for range 5 {
		told += len(p.Beside(point(n, 13, 0)))
	}
	assert.Equal(t, 1, told, "more of the same does")
	assert.False(t, p.Suspects(point(n, 0, 0).At), "what is told is not suspect any more")
	assert.Empty(t, p.Add(point(n+1, 13, 0)), "its own next reading comes after it")

	p = learnt()
	p.Add(point(n, 13, 0))
	for range 6 {
		assert.Empty(t, p.Beside(point(n, 10, 0)))
	}
	assert.False(t, p.Suspects(point(n, 0, 0).At), "it was nothing")

	p = learnt()
	p.Add(point(n, 0, 60))
	assert.True(t, p.Suspects(point(n, 0, 0).At), "no answer")
	lost := p.Beside(point(n, 0, 60))
	if assert.Len(t, lost, 1) {
		assert.Equal(t, guard.Lost, lost[0].Episode.Kind)
	}
	p = learnt()
	p.SetMaintenance([]baseline.Interval{{From: point(n, 0, 0).At.Add(-time.Hour), To: point(n, 0, 0).At.Add(time.Hour)}})
	p.Add(point(n, 13, 0))
	assert.False(t, p.Suspects(point(n, 0, 0).At), "work is done on it")
	assert.Empty(t, p.Beside(point(n, 13, 0)))
}
