package controller

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/internal/ident"
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

// TestLoadRunsAreComparedByTime: a reading of hours ago has nothing to do with a load run
// that goes on now, and something with one that went on then.
func TestLoadRunsAreComparedByTime(t *testing.T) {
	agent, other := ident.New(), ident.New()
	now := time.Now()
	c := &Controller{}
	c.runs.active = map[ident.ID]*activeRun{ident.New(): {agents: []ident.ID{agent}, sites: []string{"Holm"}, load: true, begun: true, since: now.Add(-time.Minute)}}
	c.runs.rememberLoad(loadSpan{from: now.Add(-5 * time.Hour), to: now.Add(-5*time.Hour + 10*time.Second), agents: []ident.ID{agent}})
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
	c.runs.rememberLoad(loadSpan{from: now, to: now.Add(loadsKept)})
	assert.Len(t, c.runs.past, 1, "what is long ago is forgotten")
}
