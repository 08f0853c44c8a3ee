package paced_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/probe/paced"
)

func frameShape(change func(*paced.Shape)) paced.Shape {
	s := paced.Shape{Format: paced.Test, Calls: 1, Interval: time.Millisecond, Sizes: []int{100}, For: 2 * time.Second, First: 1, Bulk: true, FPS: 1000, Around: 46, Window: 500 * time.Millisecond}
	if change != nil {
		change(&s)
	}
	return s
}

func TestFramesOfATest(t *testing.T) {
	s := frameShape(nil)
	assert.NoError(t, s.Check())
	assert.Equal(t, 2000, s.PerCall())
	assert.Equal(t, []int64{500, 500, 500, 500}, s.DueIn(2000))
	assert.Equal(t, []int64{500, 200, 0, 0}, s.DueIn(700), "of one that was stopped no more left")
	// Mixed sizes take their time by their size: 146 and 546 bytes of frame, together two places.
	mixed := frameShape(func(s *paced.Shape) { s.Sizes = []int{100, 500}; s.Window = 0 })
	assert.Equal(t, []int{0, 0}, []int{mixed.WindowOf(5), len(mixed.DueIn(10))})
	burst := frameShape(func(s *paced.Shape) { s.AtOnce = 300 })
	assert.NoError(t, burst.Check())
	assert.Equal(t, 300, burst.PerCall())
	assert.InDelta(t, 800_000, burst.Rate(), 1e-6, "what a far end holds against its limit")
	for says, change := range map[string]func(*paced.Shape){
		"more than none":   func(s *paced.Shape) { s.FPS = 0 },
		"bytes of payload": func(s *paced.Shape) { s.Sizes = []int{17} },
		"sizes of frames":  func(s *paced.Shape) { s.Sizes = nil },
		"is more than":     func(s *paced.Shape) { s.AtOnce = 5000 },
		"windows":          func(s *paced.Shape) { s.Window = time.Microsecond },
		"at most 24h":      func(s *paced.Shape) { s.For = 25 * time.Hour },
		"are one stream":   func(s *paced.Shape) { s.Calls = 2 },
	} {
		assert.ErrorContains(t, frameShape(change).Check(), says)
	}
}
