package service_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestWhatOfAStreamIsJudged(t *testing.T) {
	read := func(text string) (baseline.Point, bool) {
		k, err := kind.Find("stream")
		require.NoError(t, err)
		r, err := k.ReadResult(1, json.RawMessage(text))
		require.NoError(t, err)
		return r.(kind.Judged).Point(time.Now(), 10*time.Second)
	}
	p, ok := read(`{"clock":{"in_step":true},"directions":[{"there":true,"jitter_ms":0.4,"delay_median_ms":8.1,"quality":{"mos":4.2}},{"there":false,"jitter_ms":1.5,"delay_median_ms":9.2,"sent":500,"lost":3}]}`)
	require.True(t, ok)
	for m, want := range map[baseline.Measure]float64{baseline.MOS: 4.2, baseline.JitterThere: 0.4, baseline.JitterBack: 1.5, baseline.DelayThere: 8.1, baseline.DelayBack: 9.2, baseline.LossBack: 0.006} {
		v, has := p.Value(m)
		assert.True(t, has, m)
		assert.InDelta(t, want, v, 1e-6, m)
	}
	lost, of := p.Counts(baseline.LossBack)
	assert.Equal(t, [2]int{3, 500}, [2]int{lost, of}, "by its own packets")
	_, has := p.Value(baseline.LossThere)
	assert.False(t, has, "in which direction they were lost is not known there")
	p, _ = read(`{"clock":{"in_step":false},"directions":[{"there":true,"delay_median_ms":8.1}]}`)
	_, has = p.Value(baseline.DelayThere)
	assert.False(t, has, "by clocks that are not in step no delay of one way is known")
	_, ok = read(`{"directions":[]}`)
	assert.False(t, ok)
}

// TestAPathIsJudgedByItsThroughputToo: runs of a watch every quarter of an hour between two
// agents; from some time on they carry half, while the path's own probes are as ever.
func TestAPathIsJudgedByItsThroughputToo(t *testing.T) {
	s := storetest.New(t)
	c, err := service.New(t.Context(), service.Options{Store: s, Zone: time.UTC})
	require.NoError(t, err)
	for name, address := range map[string]string{"quay": "192.0.2.1", "holm": "192.0.2.9"} {
		require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: name, Kind: "simulated", Address: address}, nil))
	}
	w, err := c.Watches.Save(t.Context(), ident.ID{}, "w", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}, false)
	require.NoError(t, err)
	end := time.Now().Truncate(time.Minute)
	past := 20 * time.Hour
	require.NoError(t, c.Paths.Import(t.Context(), w.Paths[0], func(yield func(paths.Minute) bool) {
		for at := end.Add(-past); at.Before(end); at = at.Add(time.Minute) {
			probes := make([]reading.Probe, 60)
			for i := range probes {
				probes[i] = reading.Probe{Number: i, DueAt: at.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: 10*time.Millisecond + time.Duration(i%7)*20*time.Microsecond}
			}
			if !yield(paths.Minute{Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Probes: probes}) {
				return
			}
		}
	}))
	quay, err := c.Fleet.Named("quay")
	require.NoError(t, err)
	holm, err := c.Fleet.Named("holm")
	require.NoError(t, err)
	run := func(at time.Time, bps float64) {
		k, err := kind.Find("throughput")
		require.NoError(t, err)
		found, err := k.ReadResult(1, fmt.Appendf(nil, `{"directions": [{"there": true, "trimmed_mean_bps": %g}]}`, bps))
		require.NoError(t, err)
		body, err := json.Marshal(found)
		require.NoError(t, err)
		x := protocol.Made{Run: ident.New(), Watch: ident.New(), FarID: holm.ID, Lane: kind.Lane{Target: "holm"}, Kind: k.Name, Started: at, Ended: at.Add(10 * time.Second), Outcome: protocol.Done, Version: k.Version, Body: body}
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay.ID, Made: []protocol.Made{x}}))
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay.ID, Made: []protocol.Made{x}}), "what comes twice counts once in what is kept")
	}
	for i := range 60 {
		run(end.Add(-past).Add(time.Duration(i)*15*time.Minute), 100e6+float64(i%5)*1e6)
	}
	_, err = c.Paths.TakeBaseline(t.Context(), w.Paths[0], past, false)
	require.NoError(t, err)
	for i := range 12 {
		run(end.Add(-3*time.Hour).Add(time.Duration(i)*15*time.Minute), 50e6)
	}
	v, err := c.View(w.Paths[0])
	require.NoError(t, err)
	assert.Equal(t, guard.StateDegraded, v.Verdict.State)
	require.Len(t, v.Open, 1)
	x, ok := v.Open[0].Excess(baseline.ThroughputThere)
	require.True(t, ok)
	assert.InDelta(t, 102e6, x.Normal, 3e6)
	assert.InDelta(t, 50e6, x.Now, 1e6)
	assert.WithinDuration(t, end.Add(-3*time.Hour), v.Open[0].From, 16*time.Minute)
	assert.Contains(t, v.Findings[0].Sentence, "Throughput there 50.0 Mbit/s instead of 10")
	h, err := s.History(t.Context(), w.Paths[0], end.Add(-past), end)
	require.NoError(t, err)
	assert.Equal(t, 20*60+72, h.Len(), "each figure once, among the readings")
}
