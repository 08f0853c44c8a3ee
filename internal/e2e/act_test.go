package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/history"
	"woodlark.example/internal/serve"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/settings"
	"woodlark.example/internal/store"
)

// briefly is a network in which one link of the way to Holm is slow and loses for 90 s.
const briefly = `
world: briefly
seed: 90
nodes:
  - {name: desk.northquay.example, addresses: [192.0.2.20]}
  - {name: gw.northquay.example, router: true, addresses: [192.0.2.1]}
  - {name: core1.transit.example, router: true, addresses: [198.51.100.65]}
  - {name: core2.transit.example, router: true, addresses: [198.51.100.66]}
  - {name: terminal.holm.example, addresses: [203.0.113.26]}
links:
  - {between: [desk.northquay.example, gw.northquay.example], delay: 100us, variation: gamma 40us}
  - {between: [gw.northquay.example, core1.transit.example], delay: 2ms, variation: gamma 100us}
  - {between: [core1.transit.example, core2.transit.example], delay: 6ms, variation: gamma 150us}
  - {between: [core2.transit.example, terminal.holm.example], delay: 3ms, variation: gamma 100us}
changes:
  - {link: [core1.transit.example, core2.transit.example], from: %q, until: %q, set: {delay: 30ms, loss: 10%%}}
`

// TestAFaultOf90SecondsIsCaughtWithItsHop: in real time, by a live agent, with a day of history.
func TestAFaultOf90SecondsIsCaughtWithItsHop(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "wla")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	p, err := serve.Start(t.Context(), serve.Options{Settings: settings.Settings{Listen: "127.0.0.1:0", State: dir, Zone: time.UTC}, Token: "0123456789abcdef0123456789abcdef"})
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- p.Serve(t.Context()) }()
	t.Cleanup(func() { p.Close(); <-served })
	c := p.Service()

	// The fault begins 20 s into a minute, once the agent has measured for a while, and the route is
	// known.
	now := time.Now().UTC()
	begin := now.Add(90 * time.Second).Truncate(time.Minute).Add(20 * time.Second)
	if begin.Before(now.Add(90 * time.Second)) {
		begin = begin.Add(time.Minute)
	}
	end := begin.Add(90 * time.Second)
	m, err := world.Read([]byte(fmt.Sprintf(briefly, begin.Format(time.RFC3339), end.Format(time.RFC3339))), world.Options{})
	require.NoError(t, err)

	quay := store.Agent{Name: "quay", Kind: "simulated", Address: "192.0.2.20"}
	require.NoError(t, c.AddAgent(t.Context(), quay, nil))
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "Holm", watches.Spec{From: []string{"quay"}, To: []string{"203.0.113.26"}}, false)
	require.NoError(t, err)
	until := now.Truncate(time.Minute)
	require.NoError(t, c.Store.CoverDays(t.Context(), until.AddDate(0, 0, -3), until.AddDate(0, 0, 2)))
	from, err := m.Find("desk.northquay.example")
	require.NoError(t, err)
	past := c.Paths.Past()
	require.NoError(t, past.Add(t.Context(), w.Paths[0], func(yield func(paths.Minute) bool) {
		way := history.Path{From: from, To: netip.MustParseAddr("203.0.113.26"), Interval: time.Second, Wait: 2 * time.Second}
		_ = history.Minutes(t.Context(), m, way, until.AddDate(0, 0, -2), until, func(r reading.Reading, probes []reading.Probe) error {
			if !yield(paths.Minute{Reading: r, Probes: probes}) {
				return assert.AnError
			}
			return nil
		})
	}))
	require.NoError(t, past.Judge(t.Context()))
	_, err = c.Paths.TakeBaseline(t.Context(), w.Paths[0], 24*time.Hour, false)
	require.NoError(t, err)
	n, err := live.New(m).At("desk.northquay.example")
	require.NoError(t, err)
	require.NoError(t, p.AddAgent(t.Context(), quay, n))

	var told paths.OpenEpisode
	if !assert.Eventually(t, func() bool {
		v, err := c.View(w.Paths[0])
		require.NoError(t, err)
		if len(v.Open) > 0 && len(v.Open[0].Seen) > 0 {
			told = v.Open[0]
		}
		return len(told.Seen) > 0
	}, time.Until(end.Add(time.Minute)), 100*time.Millisecond) {
		v, err := c.View(w.Paths[0])
		require.NoError(t, err)
		t.Logf("%+v", v.Open)
		t.FailNow()
	}
	assert.WithinRange(t, told.ToldAt, begin, end, "while it lasted")
	assert.InDelta(t, 0, told.From.Sub(begin).Seconds(), 40)
	assert.Contains(t, told.Seen[0].Sentence, "core2.transit.example", "the hop behind the link")
	list, err := c.Store.EvidenceOf(t.Context(), told.ID)
	require.NoError(t, err)
	for _, e := range list {
		require.NotNil(t, e.RunID, "%s: %s", e.What, e.Says)
		r, err := c.Store.Run(t.Context(), *e.RunID)
		require.NoError(t, err)
		assert.WithinRange(t, r.StartedAt, begin, end, e.What)
	}
	assert.GreaterOrEqual(t, len(list), 3)
	t.Logf("told %v after it began: %s", told.ToldAt.Sub(begin), told.Seen[0].Sentence)
}
