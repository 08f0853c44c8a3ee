package runs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/probe/nearend"
)

// TestSecondsOfARunThatGoesOn: rates from counts so far; a run that begins anew begins
// them anew.
func TestSecondsOfARunThatGoesOn(t *testing.T) {
	x := &soFar{}
	note := func(elapsed time.Duration, there, back int64, anew bool) {
		x.second(nearend.Progress{Elapsed: elapsed, There: there, Back: back}, anew)
	}
	note(time.Second, 1_000_000, 0, true)
	note(3*time.Second, 5_000_000, 250_000, false)
	note(3050*time.Millisecond, 5_000_001, 250_000, false) // too soon to be a rate
	assert.Equal(t, []LiveSecond{{0, 1, 8e6, 0}, {1, 2, 16e6, 1e6}}, x.live)
	note(time.Second, 0, 500, true)
	assert.Equal(t, []LiveSecond{{0, 1, 0, 4000}}, x.live, "another run")
	note(500*time.Millisecond, 0, 100, false)
	assert.Equal(t, []LiveSecond{{0, 0.5, 0, 1600}}, x.live, "the same once more")
}
