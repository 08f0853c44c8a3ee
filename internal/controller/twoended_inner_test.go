package controller

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/plan"
)

// TestSecondsOfARunThatGoesOn: rates from counts so far; a run that begins anew begins
// them anew.
func TestSecondsOfARunThatGoesOn(t *testing.T) {
	x := &twoEnded{now: plan.TwoGoing{Says: "starting"}}
	for _, g := range []plan.TwoGoing{
		{Says: "there", Seconds: 1, There: 1_000_000},
		{Says: "there", Seconds: 3, There: 5_000_000, Back: 250_000},
		{Says: "there", Seconds: 3.05, There: 5_000_001, Back: 250_000}, // too soon to be a rate
	} {
		x.note(g)
	}
	assert.Equal(t, []LiveSecond{{0, 1, 8e6, 0}, {1, 2, 16e6, 1e6}}, x.live)
	x.note(plan.TwoGoing{Says: "back", Seconds: 1, Back: 500})
	assert.Equal(t, []LiveSecond{{0, 1, 0, 4000}}, x.live, "another run")
	x.note(plan.TwoGoing{Says: "back", Seconds: 0.5, Back: 100})
	assert.Equal(t, []LiveSecond{{0, 0.5, 0, 1600}}, x.live, "the same once more")
}
