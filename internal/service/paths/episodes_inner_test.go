package paths

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
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
