package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store/storetest"
)

func traceSpec(to ...string) watches.Spec {
	return watches.Spec{Kind: "trace", From: []string{"quay"}, To: to, Every: 15 * time.Minute}
}

// passed is a trace over hops.
func passed(at time.Time, ms float64, hops ...string) protocol.Trace {
	r := &finding.TraceReport{Target: "terminal.holm.example", Address: hops[len(hops)-1], StartedAt: at, Reached: true, RTTMs: &ms, Findings: []finding.Finding{}}
	for i, a := range hops {
		r.Hops = append(r.Hops, finding.HopReport{TTL: i + 1, Address: a, Probes: 10, Answered: 10, Nodes: []finding.NodeReport{{Address: a, Flows: 6, Share: 1}}})
	}
	return protocol.Trace{ID: ident.New(), Target: r.Target, Family: 4, Via: "icmp", Started: at, Ended: at, Outcome: protocol.Done, Report: r}
}

func TestTracesAreComparedWithTheUsualRoute(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	agent := c.Fleet.Agents()[0].ID
	heard, stop := c.Events.Listen()
	defer stop()
	start := time.Now().Add(-24 * time.Hour)
	var list []protocol.Trace
	for i := range 4 {
		list = append(list, passed(start.Add(time.Duration(i)*time.Hour), 6.5, "192.0.2.1", "203.0.113.25", "203.0.113.26"))
	}
	for _, x := range list {
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent, Traces: []protocol.Trace{x}}))
		assert.Equal(t, events.Kind(kind.In("traces").News), (<-heard).Kind)
	}
	later := passed(start.Add(5*time.Hour), 24, "192.0.2.1", "203.0.113.33", "203.0.113.25", "203.0.113.26")
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent, Traces: []protocol.Trace{later}}))

	fourth, err := c.Store.Trace(t.Context(), list[3].ID)
	require.NoError(t, err)
	r, err := fourth.Report()
	require.NoError(t, err)
	assert.False(t, r.Compared.Changed)
	assert.False(t, fourth.Changed)
	second, err := c.Store.Trace(t.Context(), list[1].ID)
	require.NoError(t, err)
	r, err = second.Report()
	require.NoError(t, err)
	assert.Nil(t, r.Compared, "one sighting makes no usual route")

	kept, err := c.Store.Trace(t.Context(), later.ID)
	require.NoError(t, err)
	assert.True(t, kept.Changed)
	r, err = kept.Report()
	require.NoError(t, err)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, finding.RouteChanged, r.Findings[0].Code)
	assert.Contains(t, r.Findings[0].Sentence, "the usual route: hop 2, 203.0.113.33 came in; the round trip is 17.5 ms longer")
	assert.InDelta(t, 17.5, *r.Compared.StepMs, 1e-9)

	for with, changed := range map[string]bool{"last": true, "baseline": true, later.ID.String(): false} {
		require.NoError(t, c.Ingest.CompareTraces(t.Context(), kept, r, with), with)
		assert.Equal(t, changed, r.Compared.Changed, with)
	}
	require.ErrorIs(t, c.Ingest.CompareTraces(t.Context(), kept, r, "yesterday"), kind.ErrInvalid)
	none := kept
	none.Lane = ident.New()
	require.ErrorContains(t, c.Ingest.CompareTraces(t.Context(), none, r, "last"), "no earlier trace")
}

func TestTraceSpecs(t *testing.T) {
	require.NoError(t, traceSpec("terminal.holm.example").WithDefaults().Check())
	for says, change := range map[string]func(*watches.Spec){
		"less than 1m0s":                func(s *watches.Spec) { s.Every = time.Second },
		"a trace is not continuous":     func(s *watches.Spec) { s.Every = 0 },
		"is a prefix":                   func(s *watches.Spec) { s.To = []string{"192.0.2.0/24"} },
		"probes 2000000 is not between": func(s *watches.Spec) { s.How = how(t, "trace", `{"probes": 2000000}`) },
		"a trace takes 1h0m0s at most":  func(s *watches.Spec) { s.How = how(t, "trace", `{"probes": 10000}`) },
		"there are ping, sweep, trace":  func(s *watches.Spec) { s.Kind = "dowse" },
		"with_packets is of a":          func(s *watches.Spec) { s.How = how(t, "trace", `{"with_packets": true}`) },
	} {
		s := traceSpec("terminal.holm.example").WithDefaults()
		change(&s)
		err := s.Check()
		require.ErrorIs(t, err, kind.ErrInvalid)
		assert.True(t, strings.Contains(err.Error(), says), "%v", err)
	}
}

func TestTraceOnDemand(t *testing.T) {
	c, h := open(t, storetest.New(t))
	_, err := c.Runs.Start(t.Context(), asking(t, "trace", "quay", `{"both_ways": true, "family": "4"}`, "terminal.holm.example"))
	require.ErrorContains(t, err, "no agent stands at terminal.holm.example")
	_, err = c.Runs.Start(t.Context(), asking(t, "trace", "nowhere", "", "terminal.holm.example"))
	require.ErrorContains(t, err, "there is no agent")
	list, err := c.Runs.Start(t.Context(), asking(t, "trace", "quay", "", "terminal.holm.example"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, protocol.Running, list[0].Outcome)
	assert.EqualValues(t, 6, list[0].Family, "as it resolves at the agent")
	kept, err := c.Store.Trace(t.Context(), list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Running, kept.Outcome)
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "routes", traceSpec("terminal.holm.example", "app.ticketing.example").WithDefaults(), false)
	require.NoError(t, err)
	require.Len(t, h.standing, 1)
	assert.Equal(t, w.ID, h.standing[0].Order.Watch)
	assert.Len(t, h.standing[0].Order.Lanes, 2)
	assert.Contains(t, string(h.standing[0].Order.Spec), `"probes":5`)
	_, err = c.Watches.SetPaused(t.Context(), w, true)
	require.NoError(t, err)
	assert.Empty(t, h.standing)
}
