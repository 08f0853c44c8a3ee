package controller

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/ident"
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

// TestLoadRunsAreComparedByTime: a reading of hours ago has nothing to do with a load run
// that goes on now, and something with one that went on then.
func TestLoadRunsAreComparedByTime(t *testing.T) {
	agent, other := ident.New(), ident.New()
	now := time.Now()
	c := &Controller{}
	c.twoEnds.going = map[ident.ID]*twoEnded{ident.New(): {agents: []ident.ID{agent}, sites: []string{"Holm"}, load: true, begun: true, since: now.Add(-time.Minute)}}
	c.twoEnds.rememberLoad(loadSpan{from: now.Add(-5 * time.Hour), to: now.Add(-5*time.Hour + 10*time.Second), agents: []ident.ID{agent}})
	for _, x := range []struct {
		name string
		who  ident.ID
		site string
		ago  time.Duration
		want bool
	}{
		{"now, at the same agent", agent, "", 30 * time.Second, true},
		{"now, at the same site", other, "Holm", 30 * time.Second, true},
		{"now, elsewhere", other, "Pier", 30 * time.Second, false},
		{"three hours ago, told only now", agent, "Holm", 3 * time.Hour, false},
		{"five hours ago, when one went on", agent, "", 5*time.Hour + 30*time.Second, true},
	} {
		t.Run(x.name, func(t *testing.T) {
			from := now.Add(-x.ago)
			assert.Equal(t, x.want, c.disturbed(x.who, x.site, from, from.Add(time.Minute)))
		})
	}
	c.twoEnds.rememberLoad(loadSpan{from: now, to: now.Add(loadsKept)})
	assert.Len(t, c.twoEnds.past, 1, "what is long ago is forgotten")
}
