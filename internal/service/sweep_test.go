package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/sweep"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func sweepSpec(to ...string) watches.Spec {
	return watches.Spec{Kind: "sweep", From: []string{"quay"}, To: to, Every: time.Hour}
}

// swept is a sweep in which some addresses answered within some milliseconds.
func swept(t *testing.T, started time.Time, answered map[string]float64) protocol.Sweep {
	t.Helper()
	s, err := sweep.Parse([]string{"192.0.2.0/29"}, nil, sweep.Options{})
	require.NoError(t, err)
	r := &sweep.Report{Prefixes: s.Entries(), Addresses: 8, Probed: 8, Answered: uint64(len(answered)), StartedAt: started}
	for i := range s.Len() {
		a := s.At(i).String()
		if ms, ok := answered[a]; ok {
			r.Hosts = append(r.Hosts, sweep.HostReport{Address: a, RTTMs: &ms})
		}
	}
	return protocol.Sweep{ID: ident.New(), Scope: s.Scope(), Started: started, Ended: started.Add(time.Second), Outcome: protocol.Done, Report: r}
}

func TestSweepsAreComparedWithTheOneBefore(t *testing.T) {
	c, _ := open(t, storetest.New(t))
	agent := c.Fleet.Agents()[0].ID
	heard, stop := c.Events.Listen()
	defer stop()
	start := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	first := swept(t, start, map[string]float64{"192.0.2.1": 1, "192.0.2.2": 5, "192.0.2.3": 5})
	second := swept(t, start.Add(time.Hour), map[string]float64{"192.0.2.1": 1.1, "192.0.2.3": 40, "192.0.2.4": 3})
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent, Sweeps: []protocol.Sweep{first}}))
	assert.Equal(t, events.Kind(kind.In("sweeps").News), (<-heard).Kind)
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent, Sweeps: []protocol.Sweep{second}}))
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent, Sweeps: []protocol.Sweep{second}}), "it may come twice")
	list, err := c.Store.Sweeps(t.Context(), nil, nil, store.Page{Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Nil(t, list[0].Body, "lists leave the bodies out")
	kept, err := c.Store.Sweep(t.Context(), second.ID)
	require.NoError(t, err)
	r, err := kept.Report()
	require.NoError(t, err)
	assert.Equal(t, start, r.ComparedAt.UTC())
	assert.Equal(t, []string{"192.0.2.4"}, r.New)
	assert.Equal(t, []string{"192.0.2.2"}, r.Gone)
	require.Len(t, r.Slower, 1)
	assert.Equal(t, sweep.SlowerReport{Address: "192.0.2.3", RTTMs: 40, BeforeMs: 5}, r.Slower[0])
	before, err := c.Store.Sweep(t.Context(), first.ID)
	require.NoError(t, err)
	r, err = before.Report()
	require.NoError(t, err)
	assert.Nil(t, r.ComparedAt, "there was none before it")
	assert.Nil(t, r.New)
	require.NoError(t, c.Store.DropOld(t.Context(), time.Now(), start.Add(time.Minute)))
	list, err = c.Store.Sweeps(t.Context(), nil, nil, store.Page{Limit: 10})
	require.NoError(t, err)
	assert.Len(t, list, 1)
}

func TestWatchesThatSweep(t *testing.T) {
	c, h := open(t, storetest.New(t))
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "quay hosts", sweepSpec("192.0.2.0/24"), false)
	require.NoError(t, err)
	assert.Empty(t, w.Paths)
	assert.Empty(t, h.tasks, "it pings nothing")
	require.Len(t, h.standing, 1)
	x := h.standing[0]
	assert.Equal(t, time.Hour, x.Every)
	assert.Equal(t, w.ID, x.Order.Watch)
	assert.Equal(t, []string{"192.0.2.0/24"}, x.Order.Targets)
	assert.JSONEq(t, `{"via": "icmp", "packets_per_second": 5000, "wait": "1s", "rounds": 2, "seed": 1, "names": true}`, string(x.Order.Spec))
	_, err = c.Watches.SetPaused(t.Context(), w, true)
	require.NoError(t, err)
	assert.Empty(t, h.standing)

	for says, change := range map[string]func(*watches.Spec){
		"neither private nor":       func(s *watches.Spec) { s.To = []string{"8.8.8.0/24"} },
		"cannot be gone through":    func(s *watches.Spec) { s.To = []string{"2001:db8::/48"} },
		"less than 1m":              func(s *watches.Spec) { s.Every = time.Second },
		"asks by icmp or tcp":       func(s *watches.Spec) { s.How = how(t, "sweep", `{"via": "udp:53"}`) },
		"is for loopback addresses": func(s *watches.Spec) { s.How = how(t, "sweep", `{"packets_per_second": "unlimited"}`) },
		"would take up to": func(s *watches.Spec) {
			s.To, s.How = []string{"10.0.0.0/8"}, how(t, "sweep", `{"packets_per_second": 100}`)
		},
		"there is no agent":     func(s *watches.Spec) { s.From = []string{"nobody"} },
		"measurement \"dance\"": func(s *watches.Spec) { s.Kind = "dance" },
	} {
		s := sweepSpec("192.0.2.0/24")
		change(&s)
		_, err := c.Watches.Save(t.Context(), ident.ID{}, "other", s, false)
		require.ErrorIs(t, err, kind.ErrInvalid, says)
		require.ErrorContains(t, err, says)
	}
}

func TestASweepOnDemand(t *testing.T) {
	c, h := open(t, storetest.New(t))
	runs, err := c.Runs.Start(t.Context(), asking(t, "sweep", "quay", `{"exclude": ["192.0.2.1"], "via": "icmp,tcp:443"}`, "192.0.2.0/30"))
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, protocol.Running, runs[0].Outcome)
	o := <-h.asked
	assert.Contains(t, string(o.Spec), `"exclude":["192.0.2.1"]`)
	kept, err := c.Store.Sweep(t.Context(), runs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Running, kept.Outcome)
	assert.Equal(t, uint64(3), kept.Addresses)
	require.NoError(t, c.Store.EndRunning(t.Context()))
	kept, err = c.Store.Sweep(t.Context(), runs[0].ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Failed, kept.Outcome)
	_, err = c.Runs.Start(t.Context(), asking(t, "sweep", "nobody", "", "192.0.2.0/30"))
	require.ErrorIs(t, err, kind.ErrInvalid)
}
