package controller_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/controller"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// loader is a hand whose load runs last until they are let go.
type loader struct {
	hand
	began chan plan.TwoEndedOrder
	goes  chan struct{}
	mu    *sync.Mutex
	now   *int
	most  *int
}

func (l *loader) TwoEnded(ctx context.Context, o plan.TwoEndedOrder, heard func(plan.TwoGoing)) plan.TwoEnded {
	l.mu.Lock()
	*l.now++
	*l.most = max(*l.most, *l.now)
	l.mu.Unlock()
	l.began <- o
	select {
	case <-l.goes:
	case <-ctx.Done():
	}
	l.mu.Lock()
	*l.now--
	l.mu.Unlock()
	x := l.hand.TwoEnded(ctx, o, heard)
	if ctx.Err() != nil {
		x.Outcome, x.Reason = plan.Cancelled, "stopped"
	}
	return x
}

func harbour(t *testing.T, sites map[string]string) (*controller.Controller, *loader) {
	c, err := controller.New(t.Context(), controller.Options{Store: storetest.New(t), Zone: time.UTC})
	require.NoError(t, err)
	l := &loader{began: make(chan plan.TwoEndedOrder, 10), goes: make(chan struct{}), mu: &sync.Mutex{}, now: new(int), most: new(int)}
	for name, site := range sites {
		require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: name, Site: site, Kind: "builtin"}, func(ident.ID) (plan.Hand, error) { return l, nil }))
	}
	return c, l
}

func loadOf(from, to string) controller.TwoEndedSpec {
	return controller.TwoEndedSpec{Kind: plan.Throughput, From: from, To: to, Request: plan.TwoRequest{For: time.Second}}
}

func ended(t *testing.T, c *controller.Controller, id ident.ID) store.TwoEnded {
	t.Helper()
	var x store.TwoEnded
	require.Eventually(t, func() bool {
		var err error
		x, err = c.Store().TwoEndedByID(t.Context(), id)
		return err == nil && x.Outcome != plan.Running
	}, 20*time.Second, 5*time.Millisecond)
	return x
}

// TestLoadRunsWaitForEachOther: at an agent, and on the access of a site.
func TestLoadRunsWaitForEachOther(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "desk": "Northquay", "holm": "Holm", "pier": "", "dock": ""})
	first, err := c.TwoEnded(t.Context(), loadOf("quay", "holm"))
	require.NoError(t, err)
	o := <-l.began
	assert.Equal(t, "203.0.113.26:7474", o.Address, "where the far end said that it listens")
	assert.Len(t, o.Key, 32, "a key for this run alone")
	var waiting []ident.ID
	for _, s := range []controller.TwoEndedSpec{loadOf("quay", "pier"), loadOf("pier", "holm"), loadOf("desk", "dock")} {
		x, err := c.TwoEnded(t.Context(), s)
		require.NoError(t, err)
		waiting = append(waiting, x.ID)
	}
	for _, id := range waiting {
		now, _, going := c.TwoEndedProgress(id)
		assert.True(t, going)
		assert.Equal(t, "waiting for its turn", now.Says)
	}
	other, err := c.TwoEnded(t.Context(), loadOf("pier", "dock"))
	require.NoError(t, err)
	<-l.began // nothing is in its way
	stream := loadOf("quay", "holm")
	stream.Kind = plan.Stream
	beside, err := c.TwoEnded(t.Context(), stream)
	require.NoError(t, err)
	<-l.began // a stream is no load
	for range 6 {
		select {
		case l.goes <- struct{}{}:
		case <-time.After(20 * time.Second):
			t.Fatal("nothing waits to be let go")
		}
	}
	for _, id := range append(waiting, first.ID, other.ID, beside.ID) {
		x := ended(t, c, id)
		assert.Equal(t, plan.Done, x.Outcome, x.Reason)
		assert.InDelta(t, 8e6, *x.ThereBps, 1)
	}
	assert.LessOrEqual(t, *l.most, 3, "two load runs that share nothing, and the stream")
}

func TestWhatALoadRunDisturbsIsMarked(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "desk": "Northquay", "holm": "Holm", "pier": "Pier"})
	var paths []ident.ID
	for _, from := range []string{"quay", "desk", "pier"} {
		paths = append(paths, addWatch(t, c, from, controller.Spec{From: []string{from}, To: []string{"192.0.2.9"}}).Paths[0])
	}
	x, err := c.TwoEnded(t.Context(), loadOf("quay", "holm"))
	require.NoError(t, err)
	<-l.began
	at := time.Now().Truncate(time.Minute)
	var list []plan.Record
	for i, from := range []string{"quay", "desk", "pier"} {
		one := []plan.Record{minute(paths[i], at, 10*time.Millisecond, 0)}
		require.NoError(t, c.Upload(t.Context(), plan.Upload{Agent: named(c, from), Readings: one}))
		list = append(list, one...)
	}
	l.goes <- struct{}{}
	ended(t, c, x.ID)
	for i, disturbed := range []bool{true, true, false} {
		assert.Equal(t, disturbed, list[i].Flags&plan.Disturbed != 0, "%d", i)
		loads, err := c.LoadsBeside(t.Context(), paths[i], at.Add(-time.Hour), at.Add(time.Hour))
		require.NoError(t, err)
		assert.Equal(t, disturbed, len(loads) == 1, "%d", i)
	}
}

func TestTwoEndsThatCannotBe(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "", "holm": ""})
	for _, s := range []struct {
		name string
		spec controller.TwoEndedSpec
		says string
	}{
		{"one end", loadOf("quay", "quay"), "is both ends"},
		{"nobody", loadOf("gull", "quay"), "there is no agent"},
		{"no key", loadOf("quay", "192.0.2.7:7474"), "a responder without a service needs its key"},
		{"too long", controller.TwoEndedSpec{Kind: plan.Stream, From: "quay", To: "holm", Request: plan.TwoRequest{For: 2 * time.Hour}}, "is not between 0 and 1h"},
		{"another kind", controller.TwoEndedSpec{Kind: "gulls", From: "quay", To: "holm"}, "no measurement"},
	} {
		t.Run(s.name, func(t *testing.T) {
			_, err := c.TwoEnded(t.Context(), s.spec)
			assert.ErrorIs(t, err, controller.ErrInvalid)
			assert.ErrorContains(t, err, s.says)
		})
	}
	spent := loadOf("quay", "holm")
	x, err := c.TwoEnded(t.Context(), spent)
	require.NoError(t, err)
	<-l.began
	l.goes <- struct{}{}
	ended(t, c, x.ID)
	spent.Budget = 500 // the run before says that it sent 1,000 bytes
	x, err = c.TwoEnded(t.Context(), spent)
	require.NoError(t, err)
	over := ended(t, c, x.ID)
	assert.Equal(t, plan.Failed, over.Outcome)
	assert.Contains(t, over.Reason, "within a day")
	x, err = c.TwoEnded(t.Context(), loadOf("quay", "holm"))
	require.NoError(t, err)
	<-l.began
	assert.True(t, c.StopTwoEnded(x.ID))
	assert.Equal(t, plan.Cancelled, ended(t, c, x.ID).Outcome)
	assert.False(t, c.StopTwoEnded(x.ID))
}

func TestInvites(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": ""})
	code, i, err := c.Invite(t.Context(), "", "Holm", "", time.Hour)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(time.Hour), i.EndsAt, time.Minute)
	_, err = c.Join(t.Context(), remote.JoinRequest{Code: "gull", Name: "x"}, "")
	require.ErrorIs(t, err, store.ErrInvite)
	_, err = c.Join(t.Context(), remote.JoinRequest{Code: code, Name: "quay"}, "")
	require.ErrorContains(t, err, "there is an agent named")
	a, err := c.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier"}, "192.0.2.7")
	require.NoError(t, err, "an invite that did not let in is not used up")
	assert.Equal(t, "Holm", a.Site)
	_, err = c.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier2"}, "")
	require.ErrorContains(t, err, "it was used on")
	_, hand, ok := c.ByKey(a.Key)
	require.True(t, ok)
	_, _, ok = c.ByKey("another")
	assert.False(t, ok)
	require.NoError(t, c.NoteHealth(t.Context(), a.ID, plan.Health{Version: "9", HeldBack: 3}))
	assert.Equal(t, 3, hand.HeldBack())
	line, ctx, ok := hand.Connect(t.Context())
	require.True(t, ok)
	assert.NotNil(t, line)
	require.Error(t, c.RemoveAgent(t.Context(), "quay"), "it is inside the service")
	require.NoError(t, c.RemoveAgent(t.Context(), "pier"))
	<-ctx.Done()
	_, _, ok = c.ByKey(a.Key)
	assert.False(t, ok, "locked out at once")
	_, _, ok = hand.Connect(t.Context())
	assert.False(t, ok)
	for _, lasts := range []time.Duration{time.Second, 90 * 24 * time.Hour} {
		_, _, err = c.Invite(t.Context(), "", "", "", lasts)
		assert.ErrorIs(t, err, controller.ErrInvalid)
	}
	again, err := controller.New(t.Context(), controller.Options{Store: c.Store(), Zone: time.UTC})
	require.NoError(t, err)
	_, _, ok = again.ByKey(a.Key)
	assert.False(t, ok, "and stays so over a restart")
}

// TestAResultThatComesLate: the service was stopped while it waited for a result, which
// the agent uploads when it is there again; only where nothing else is known.
func TestAResultThatComesLate(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "holm": "Holm"})
	near := c.Agents()[slices.IndexFunc(c.Agents(), func(a store.Agent) bool { return a.Name == "quay" })].ID
	bps := 5e6
	row := func(outcome plan.Outcome) ident.ID {
		x, err := store.TwoEndedOf(near, plan.TwoEnded{ID: ident.New(), Target: "holm", Kind: plan.Throughput, Started: time.Now().Add(-time.Minute), Ended: time.Now(), Outcome: outcome, Reason: "the service was stopped in the middle"})
		require.NoError(t, err)
		require.NoError(t, c.Store().SaveTwoEnded(t.Context(), x))
		return x.ID
	}
	late := func(agent, id ident.ID) {
		x := plan.TwoEnded{ID: id, Kind: plan.Throughput, Started: time.Now().Add(-time.Minute), Ended: time.Now(), Outcome: plan.Done, ThereBps: &bps, SentBytes: 1000, Report: []byte(`{"findings": []}`)}
		for range 2 { // an upload may come twice
			require.NoError(t, c.Upload(t.Context(), plan.Upload{Agent: agent, TwoEnded: []plan.TwoEnded{x}}))
		}
	}
	stopped, cancelled, foreign := row(plan.Failed), row(plan.Cancelled), row(plan.Failed)
	late(near, stopped)
	late(near, cancelled)
	late(ident.New(), foreign)
	late(near, ident.New()) // nobody knows of it
	for id, want := range map[ident.ID]plan.Outcome{stopped: plan.Done, cancelled: plan.Cancelled, foreign: plan.Failed} {
		x, err := c.Store().TwoEndedByID(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, want, x.Outcome)
		assert.Equal(t, want == plan.Done, len(x.Body) > 0)
		assert.Equal(t, "holm", x.Target)
	}
	// One that still goes on is told by its answer.
	x, err := c.TwoEnded(t.Context(), loadOf("quay", "holm"))
	require.NoError(t, err)
	<-l.began
	late(near, x.ID)
	going, err := c.Store().TwoEndedByID(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Running, going.Outcome)
	l.goes <- struct{}{}
	ended(t, c, x.ID)
}
