package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// traced is a trace over hops, named by their addresses; empty for one that is
// silent.
func traced(at time.Time, hops ...string) protocol.Trace {
	r := &finding.TraceReport{Target: "terminal.holm.example", Address: hops[len(hops)-1], StartedAt: at, Reached: true}
	ms, lost := 5.25, 0.02
	r.RTTMs, r.LossRatio = &ms, &lost
	for i, a := range hops {
		h := finding.HopReport{TTL: i + 1, Address: a, Probes: 10, Answered: 9, RTTMs: &ms, CarriedMs: &ms, CarriedRatio: &lost}
		if a != "" {
			h.Nodes = []finding.NodeReport{{Address: a, Name: a + ".example", Flows: 6, Share: 1}}
		}
		r.Hops = append(r.Hops, h)
	}
	return protocol.Trace{ID: ident.New(), Target: r.Target, Family: 4, Via: "icmp", Started: at, Ended: at.Add(4 * time.Second), Outcome: protocol.Done, Report: r}
}

func TestTraces(t *testing.T) {
	s := storetest.New(t)
	agent := ident.New()
	at := time.Now().UTC().Add(-3 * time.Hour).Truncate(time.Minute)
	first := traced(at, "192.0.2.1", "203.0.113.25", "203.0.113.26")
	lane := store.LaneOf(agent, first.Target, first.Family, first.Via)
	require.NoError(t, s.BeginTraces(t.Context(), []store.Trace{{ID: first.ID, Lane: lane, AgentID: agent, Target: first.Target, Family: 4, Via: "icmp", StartedAt: at, Outcome: protocol.Running}}))
	list := []protocol.Trace{first, traced(at.Add(15*time.Minute), "192.0.2.1", "203.0.113.25", "203.0.113.26"), traced(at.Add(30*time.Minute), "192.0.2.1", "203.0.113.25", "203.0.113.26"),
		traced(at.Add(45*time.Minute), "192.0.2.1", "", "203.0.113.25", "203.0.113.26")}
	for range 2 { // an upload may come twice
		require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Agent: agent, Traces: list}))
	}

	got, err := s.Traces(t.Context(), store.TraceFilter{Agent: agent})
	require.NoError(t, err)
	require.Len(t, got, 4)
	assert.Equal(t, list[3].ID, got[0].ID, "newest first")
	assert.Equal(t, 4, got[0].Hops)
	assert.InDelta(t, 5.25, *got[0].RTTMs, 1e-9)
	assert.Nil(t, got[0].Body, "lists leave it out")
	other, err := s.Traces(t.Context(), store.TraceFilter{Target: "app.ticketing.example"})
	require.NoError(t, err)
	assert.Empty(t, other)

	whole, err := s.Trace(t.Context(), first.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, whole.Outcome)
	r, err := whole.Report()
	require.NoError(t, err)
	assert.Equal(t, first.Report.Hops, r.Hops)

	routes, err := s.Routes(t.Context(), lane)
	require.NoError(t, err)
	require.Len(t, routes, 2, "each distinct route once")
	assert.Equal(t, "192.0.2.1 - 203.0.113.25 203.0.113.26", routes[0].Hops)
	assert.Equal(t, 1, routes[0].Times)
	assert.Equal(t, 3, routes[1].Times, "twice uploaded, once counted")
	assert.Equal(t, at, routes[1].FirstAt.UTC())
	assert.Equal(t, at.Add(30*time.Minute), routes[1].LastAt.UTC())
	assert.Equal(t, list[2].ID, routes[1].LastTrace)

	usual, found, err := s.UsualRoute(t.Context(), lane, at.Add(-time.Hour), 3)
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, list[2].ID, usual.ID)
	_, found, err = s.UsualRoute(t.Context(), lane, at.Add(-time.Hour), 4)
	require.NoError(t, err)
	assert.False(t, found, "too seldom seen")
	before, found, err := s.TraceBefore(t.Context(), lane, at.Add(45*time.Minute))
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, list[2].ID, before.ID)

	minutes, err := s.HopMinutes(t.Context(), lane, at, at.Add(time.Hour), 100)
	require.NoError(t, err)
	require.Len(t, minutes, 4)
	rows, err := minutes[3].Rows()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Empty(t, rows[1].Addresses)
	assert.Equal(t, []string{"203.0.113.25"}, rows[2].Addresses)
	assert.InDelta(t, 5.25, *rows[2].RTTMs, 1e-9)
	assert.InDelta(t, 0.02, *rows[2].Carried, 1e-9)

	// One that was measured for longer has a row a minute.
	long := traced(at.Add(50*time.Minute), "192.0.2.1", "203.0.113.26")
	lost := 0.5
	for i := range 3 {
		long.Report.Minutes = append(long.Report.Minutes, finding.HopMinute{At: at.Add(time.Duration(50+i) * time.Minute), Route: long.Report.Route().Key(),
			Hops: []finding.HopMinuteLine{{TTL: 1, Addresses: []string{"192.0.2.1"}, Probes: 60 + i, Answered: 60, CarriedRatio: &lost}, {TTL: 2, Probes: 60, Answered: 30}}})
	}
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Agent: agent, Traces: []protocol.Trace{long}}))
	minutes, err = s.HopMinutes(t.Context(), lane, at.Add(50*time.Minute), at.Add(time.Hour), 100)
	require.NoError(t, err)
	require.Len(t, minutes, 3)
	rows, err = minutes[2].Rows()
	require.NoError(t, err)
	assert.Equal(t, []store.HopRow{{TTL: 1, Addresses: []string{"192.0.2.1"}, Probes: 62, Answered: 60, Carried: &lost}, {TTL: 2, Probes: 60, Answered: 30}}, rows)

	require.NoError(t, s.BeginTraces(t.Context(), []store.Trace{{ID: ident.New(), Lane: lane, AgentID: agent, Target: "x", Family: 4, Via: "icmp", StartedAt: at, Outcome: protocol.Running}}))
	require.NoError(t, s.EndRunning(t.Context()))
	require.NoError(t, s.DropOld(t.Context(), time.Now(), at.Add(40*time.Minute)))
	got, err = s.Traces(t.Context(), store.TraceFilter{Agent: agent})
	require.NoError(t, err)
	assert.Len(t, got, 2)
	routes, err = s.Routes(t.Context(), lane)
	require.NoError(t, err)
	assert.Len(t, routes, 2)
}

// FuzzStored feeds what a damaged database may hold in place of what was packed.
func FuzzStored(f *testing.F) {
	f.Add([]byte(`[{"t":1,"n":3,"k":2}]`))
	f.Add([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0, 1})
	f.Add([]byte("null"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_, _ = store.HopMinute{Packed: b}.Rows()
		_, _ = store.Trace{Body: b}.Report()
		_, _ = store.Sweep{Body: b}.Report()
		_, _ = store.TwoEnded{Body: b}.Report()
	})
}
