package guard

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/incident"
)

// crossing are paths from one office to islands, each with one episode that began at a time.
func crossing(began time.Time, islands ...string) (list []affected) {
	for i, to := range islands {
		list = append(list, affected{key: Key{From: "northquay", To: to}, number: i + 1, e: Episode{From: began},
			links: []incident.Link{{From: "core1", To: "core2"}, {From: "core2", To: to}}})
	}
	return list
}

// TestWhatAnotherExplainsIsTakenBack: an incident of a segment that is not needed once more is known
// stands no longer, is told of as that, and leaves its paths to the one that explains all.
func TestWhatAnotherExplainsIsTakenBack(t *testing.T) {
	began := time.Date(2026, 11, 17, 10, 15, 0, 0, time.UTC)
	at := func(m int) time.Time { return began.Add(time.Duration(m) * time.Minute) }
	members := crossing(began, "holm", "gannetbay", "ternpoint")
	x := NewIncidents(nil)
	last := incident.Segment{From: "core2", To: "holm", Links: []incident.Link{{From: "core2", To: "holm"}}}
	both := incident.Segment{From: "core1", To: "core2", Links: []incident.Link{{From: "core1", To: "core2"}}}
	twice := append(crossing(began, "holm"), affected{key: Key{From: "drydock", To: "holm"}, number: 7, e: Episode{From: began}, links: []incident.Link{{From: "core1", To: "core2"}, {From: "core2", To: "holm"}}})

	taken := map[int]bool{}
	_, is := x.note(both, baseline.Loss, members, taken, at(5))
	require.True(t, is)
	_, is = x.note(last, baseline.Loss, twice, taken, at(5))
	require.True(t, is)
	require.Len(t, x.List(), 2)
	assert.Empty(t, x.takeBack(baseline.Loss, taken, at(5)), "both were found")
	taken = map[int]bool{}
	_, is = x.note(both, baseline.Loss, members, taken, at(6))
	require.True(t, is)
	assert.Empty(t, x.takeBack(baseline.Loss, taken, at(6)), "one of its episodes is no part of the other")

	taken = map[int]bool{}
	_, is = x.note(both, baseline.Loss, append(members, twice[1]), taken, at(9))
	require.True(t, is)
	assert.Empty(t, x.takeBack(baseline.RTT, taken, at(9)), "of another measure nothing was found")
	back := x.takeBack(baseline.Loss, taken, at(9))
	require.Len(t, back, 1)
	assert.Equal(t, at(9), back[0].TakenBack)
	assert.Equal(t, at(9), back[0].To)
	assert.False(t, back[0].Has(twice[1].key, 7))
	require.Len(t, x.List(), 2)
	assert.True(t, x.List()[0].Stands())
	assert.True(t, x.List()[0].Has(twice[1].key, 7))
	assert.Empty(t, x.takeBack(baseline.Loss, taken, at(10)), "once")
}

// TestAnIncidentKeepsItsFirstPaths: of one that goes on, those that joined an hour later are added
// to those that began it.
func TestAnIncidentKeepsItsFirstPaths(t *testing.T) {
	began := time.Date(2026, 11, 17, 10, 15, 0, 0, time.UTC)
	segment := incident.Segment{From: "core1", To: "core2", Links: []incident.Link{{From: "core1", To: "core2"}}}
	x := NewIncidents(nil)
	_, is := x.note(segment, baseline.RTT, crossing(began, "holm", "gannetbay"), map[int]bool{}, began.Add(5*time.Minute))
	require.True(t, is)
	later := crossing(began.Add(time.Hour), "oxwater", "ternpoint")
	i, is := x.note(segment, baseline.RTT, later, map[int]bool{}, began.Add(65*time.Minute))
	require.True(t, is)
	assert.Equal(t, 1, i.Number)
	assert.Len(t, i.Members, 4)
	assert.Equal(t, began, i.From)
	require.Len(t, x.List(), 1)
}
