package paths

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

func TestHopsOfATrace(t *testing.T) {
	r := &finding.TraceReport{Hops: []finding.HopReport{
		{Address: "192.0.2.1", Nodes: []finding.NodeReport{{Address: "192.0.2.1"}}}, {},
		{Address: "198.51.100.1", Nodes: []finding.NodeReport{{Address: "198.51.100.1"}, {Address: "198.51.100.2"}}},
		{Address: "198.51.100.9", PerPacket: true, Nodes: []finding.NodeReport{{Address: "198.51.100.9"}}},
		{Address: "203.0.113.26", Nodes: []finding.NodeReport{{Address: "203.0.113.26"}}}}}
	assert.Equal(t, []string{"192.0.2.1", "", "", "", "203.0.113.26"}, hopsOf(r), "no one hop where nobody answers, or packets part")
}

// TestTakenBesideLoadRuns: such readings tell whether the path answers, and no more.
func TestTakenBesideLoadRuns(t *testing.T) {
	start := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		flags    protocol.Flags
		answered int
		episodes int
	}{{protocol.Disturbed, 0, 1}, {protocol.Disturbed, 5, 0}, {protocol.Disturbed | protocol.OnDemand, 0, 0}, {protocol.Disturbed | protocol.WrongClock, 0, 0}, {0, 0, 1}} {
		p := New(Options{}).newPath(store.Path{ID: ident.New()})
		take := func(m, answered int, flags protocol.Flags) {
			p.Take(protocol.Record{Path: p.ID, Flags: flags, Reading: reading.Reading{At: start.Add(time.Duration(m) * time.Minute), Span: time.Minute, Sent: 20, Answered: answered, Lost: 20 - answered}})
		}
		for m := range 30 {
			take(m, 20, 0)
		}
		for m := range 5 {
			take(30+m, c.answered, c.flags)
			take(30+m, c.answered, c.flags) // once more is once
		}
		assert.Len(t, p.guard.Open(), c.episodes, "%+v", c)
		take(40, 20, c.flags)
		assert.Len(t, p.guard.Open(), map[bool]int{true: c.episodes}[c.flags&(protocol.OnDemand|protocol.WrongClock) != 0], "%+v", c)
	}
}

// TestEpisodesOfAnEarlierVersion: kept without what is known of them today.
func TestEpisodesOfAnEarlierVersion(t *testing.T) {
	from, to := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC), time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	e := EpisodeOf(store.Episode{ID: ident.New(), Kind: "degraded", FromAt: from, ToAt: &to, Excesses: `[{"measure":"rtt","normal":10,"low":9.8,"high":10.4,"now":22,"worst":25,"readings":15,"resolution":"hour_of_day","chance":1e-9,"sent":0,"lost":0}]`})
	assert.Equal(t, guard.Degraded, e.Kind)
	assert.False(t, e.Open())
	if assert.Len(t, e.Excesses, 1) {
		assert.Equal(t, 25.0, e.Excesses[0].Worst)
		assert.Equal(t, to, e.Excesses[0].To)
	}
	again := EpisodeOf(e.row())
	again.ID = e.ID
	assert.Equal(t, e, again, "kept anew it is the same")
}
