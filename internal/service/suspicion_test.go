package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// scout is a worker whose probes find what is said, and which notes what it is asked for.
type scout struct {
	worker
	c     *service.Service
	id    ident.ID
	mu    sync.Mutex
	lost  func(target string) int // of the probes of a burst
	asked []protocol.RunOrder
}

func (s *scout) Do(ctx context.Context, o protocol.RunOrder, _ func(kind.Progress)) (made []protocol.Made, err error) {
	s.mu.Lock()
	s.asked = append(s.asked, o)
	lost := s.lost(o.Lanes[0].Lane.Target)
	s.mu.Unlock()
	k, err := kind.Find(o.Kind)
	if err != nil {
		return nil, err
	}
	for _, l := range o.Lanes {
		m := protocol.Made{Run: l.Run, Watch: o.Watch, Path: l.Path, Kind: o.Kind, Version: o.Version, Lane: l.Lane, Started: time.Now(), Ended: time.Now(), Outcome: protocol.Done, OnDemand: true}
		body := fmt.Sprintf(`{"started_at": %q, "span_s": 10, "sent": 50, "answered": %d, "lost": %d}`, time.Now().UTC().Format(time.RFC3339), 50-lost, lost)
		if lost < 50 {
			body = body[:len(body)-1] + `, "rtt_median_ms": 10.02, "jitter_ms": 0.01}`
		}
		if !k.Paths {
			body = `{"hops": [], "steps": []}`
		}
		m.Body = json.RawMessage(body)
		made = append(made, m)
	}
	if o.Return {
		return made, nil
	}
	return nil, s.c.Upload(ctx, protocol.Upload{Agent: s.id, Made: made})
}

func (s *scout) orders(is func(protocol.RunOrder) bool) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range s.asked {
		if is(o) {
			n++
		}
	}
	return n
}

func newScout(t *testing.T, lost func(string) int) (*service.Service, *scout) {
	c, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC})
	require.NoError(t, err)
	c.Suspicion.Pause = 20 * time.Millisecond
	s := &scout{c: c, lost: lost}
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated", Address: "192.0.2.250"}, func(id ident.ID) (protocol.Worker, error) { s.id = id; return s, nil }))
	ctx, stop := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { c.Suspicion.Run(ctx) })
	t.Cleanup(func() { stop(); wg.Wait(); c.Runs.End() })
	return c, s
}

func bursts(o protocol.RunOrder) bool { return o.Return }

// TestASuspectPathIsProbedMore: a minute that is half bad does not suffice to tell; more probes
// of the next seconds do, and evidence is taken at once.
func TestASuspectPathIsProbedMore(t *testing.T) {
	c, s := newScout(t, func(string) int { return 50 })
	w := addWatch(t, c, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.1"}})
	end := time.Now().Truncate(time.Minute)
	u := protocol.Upload{Agent: quay(c)}
	for ago := 300; ago > 1; ago-- {
		u.Readings = append(u.Readings, minute(w.Paths[0], end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, 0))
	}
	require.NoError(t, c.Upload(t.Context(), u))
	_, err := c.Paths.TakeBaseline(t.Context(), w.Paths[0], 6*time.Hour, false)
	require.NoError(t, err)
	assert.Zero(t, s.orders(bursts), "nothing looks wrong")

	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: []protocol.Record{minute(w.Paths[0], end.Add(-time.Minute), 10*time.Millisecond, 60)}}))
	v, err := c.View(w.Paths[0])
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err = c.View(w.Paths[0])
		require.NoError(t, err)
		return len(v.Open) == 1
	}, 30*time.Second, 5*time.Millisecond, "it is told before the next minute is over")
	assert.Equal(t, guard.Lost, v.Open[0].Kind)
	assert.GreaterOrEqual(t, s.orders(bursts), 1)
	var list []store.Evidence
	require.Eventually(t, func() bool {
		list, err = c.Store.EvidenceOf(t.Context(), v.Open[0].ID)
		require.NoError(t, err)
		return len(list) >= 3
	}, time.Minute, 5*time.Millisecond)
	what := map[string]store.Evidence{}
	for _, e := range list {
		assert.Equal(t, "opening", e.Phase)
		what[e.What] = e
	}
	for _, name := range []string{"route", "by tcp:443", "near to far"} {
		e, is := what[name]
		if assert.True(t, is, name) && assert.NotNil(t, e.RunID, "%s: %s", name, e.Says) {
			_, err := c.Store.Run(t.Context(), *e.RunID)
			assert.NoError(t, err, name)
		}
	}
	require.Positive(t, s.orders(func(o protocol.RunOrder) bool { return !o.Return && o.Extra }))

	// It is over, and is looked at once more.
	for ago := range 6 {
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: []protocol.Record{minute(w.Paths[0], end.Add(time.Duration(ago)*time.Minute), 10*time.Millisecond, 0)}}))
	}
	require.Eventually(t, func() bool {
		list, err = c.Store.EvidenceOf(t.Context(), v.Open[0].ID)
		require.NoError(t, err)
		return len(list) >= 6 && list[len(list)-1].Phase == "closing"
	}, time.Minute, 5*time.Millisecond)
}

// TestSuspicionHoldsItsBudget: of many paths that look wrong at once each is probed for no more
// packets than its watch allows; a watch that allows none is left alone.
func TestSuspicionHoldsItsBudget(t *testing.T) {
	c, s := newScout(t, func(string) int { return 3 }) // never enough to be told
	const n = 500
	spec := watches.Spec{From: []string{"quay"}, Suspicion: 120}
	for i := range n {
		spec.To = append(spec.To, fmt.Sprintf("192.0.%d.%d", 2+i/250, 1+i%250))
	}
	w := addWatch(t, c, "w", spec)
	none := addWatch(t, c, "none", watches.Spec{From: []string{"quay"}, To: []string{"198.51.100.1"}, Suspicion: -1})
	end := time.Now().Truncate(time.Minute)
	upload := func(from, to int, lost int) {
		for ago := from; ago > to; ago-- {
			u := protocol.Upload{Agent: quay(c)}
			for _, id := range append(w.Paths, none.Paths...) {
				u.Readings = append(u.Readings, minute(id, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, lost))
			}
			require.NoError(t, c.Upload(t.Context(), u))
		}
	}
	upload(40, 1, 0)
	for _, id := range append(w.Paths, none.Paths...) {
		_, err := c.Paths.TakeBaseline(t.Context(), id, time.Hour, true)
		require.NoError(t, err)
	}
	upload(1, 0, 60)
	require.Eventually(t, func() bool { return s.orders(bursts) >= n }, 60*time.Second, 20*time.Millisecond, "each of them")
	require.Eventually(t, func() bool { return s.orders(bursts) == 2*n || c.Suspicion.Busy() == 0 }, 120*time.Second, 20*time.Millisecond)
	by := map[string]int{}
	s.mu.Lock()
	for _, o := range s.asked {
		if o.Return {
			assert.True(t, o.Extra)
			by[o.Lanes[0].Lane.Target] += 50
		}
	}
	s.mu.Unlock()
	assert.Zero(t, by["198.51.100.1"], "whose watch allows none")
	for target, packets := range by {
		assert.LessOrEqual(t, 2*packets, 240, "%s: 120 packets a day both ways", target)
	}
}
