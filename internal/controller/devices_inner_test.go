package controller

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/store"
)

func TestWhoAnswersInTraces(t *testing.T) {
	var d devices
	node := func(address, name, owner, segment string) finding.HopReport {
		return finding.HopReport{Address: address, Nodes: []finding.NodeReport{{Address: address, Name: name, Owner: owner, Segment: segment}}}
	}
	d.note(&finding.TraceReport{Hops: []finding.HopReport{node("2001:db8:1::1", "gw.quay.example", "Skerry Line", "ours"), node("203.0.113.9", "", "", ""), {}}})
	assert.Equal(t, "2001:db8:1::1", d.same("2001:db8:1::1"))
	d.note(&finding.TraceReport{Hops: []finding.HopReport{node("192.0.2.1", "gw.quay.example", "Skerry Line", "ours"), node("192.0.2.9", "gw.quay.example", "", "")}})
	assert.Equal(t, "192.0.2.1", d.same("2001:db8:1::1"), "one device, by both families")
	assert.Equal(t, "192.0.2.1", d.same("192.0.2.9"))
	assert.Equal(t, "203.0.113.9", d.same("203.0.113.9"), "without a name each is its own")
	assert.Equal(t, "198.51.100.1", d.same("198.51.100.1"), "never heard of")
	assert.Equal(t, "gw.quay.example (ours, Skerry Line)", d.call("192.0.2.1"))
	assert.Equal(t, "203.0.113.9", d.call("203.0.113.9"))
	d.note(&finding.TraceReport{Hops: []finding.HopReport{node("192.0.2.1", "", "", "transit")}})
	assert.Equal(t, "gw.quay.example (transit)", d.call("192.0.2.1"), "a name is not forgotten when it is not known once")
}

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
