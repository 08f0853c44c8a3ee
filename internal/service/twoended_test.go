package service_test

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

// loader is a worker whose load runs last until they are let go.
type loader struct {
	worker
	c     *service.Service
	began chan protocol.RunOrder
	goes  chan struct{}
	mu    *sync.Mutex
	now   *int
	most  *int
}

func (l *loader) Do(ctx context.Context, o protocol.RunOrder, heard func(kind.Progress)) ([]protocol.Made, error) {
	l.mu.Lock()
	*l.now++
	*l.most = max(*l.most, *l.now)
	l.mu.Unlock()
	l.began <- o
	outcome, reason := protocol.Done, ""
	select {
	case <-l.goes:
	case <-ctx.Done():
		outcome, reason = protocol.Cancelled, "stopped"
	}
	l.mu.Lock()
	*l.now--
	l.mu.Unlock()
	bps := 8e6
	r, err := l.c.Store.Run(context.Background(), o.Lanes[0].Run)
	if err != nil {
		return nil, err
	}
	return nil, l.c.Upload(context.Background(), protocol.Upload{Agent: r.AgentID, Made: []protocol.Made{{Run: r.ID, Watch: o.Watch, FarID: o.FarID, Kind: o.Kind, Version: 1, Lane: o.Lanes[0].Lane, Started: time.Now(), Ended: time.Now(),
		Outcome: outcome, Reason: reason, Figures: kind.Figures{ThereBps: &bps, SentBytes: 1000}, Body: []byte(`{"directions": [], "findings": []}`)}}})
}

func harbour(t *testing.T, sites map[string]string) (*service.Service, *loader) {
	c, err := service.New(t.Context(), service.Options{Store: storetest.New(t), Zone: time.UTC})
	require.NoError(t, err)
	l := &loader{c: c, began: make(chan protocol.RunOrder, 10), goes: make(chan struct{}), mu: &sync.Mutex{}, now: new(int), most: new(int)}
	for name, site := range sites {
		require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: name, Site: site, Kind: "builtin"}, func(ident.ID) (protocol.Worker, error) { return l, nil }))
	}
	return c, l
}

func loadOf(t *testing.T, from, to string) runs.Request {
	return asking(t, "throughput", from, `{"for": "1s"}`, to)
}

// started is the run of a request.
func started(t *testing.T, c *service.Service, r runs.Request) store.Run {
	t.Helper()
	list, err := c.Runs.Start(t.Context(), r)
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

func ended(t *testing.T, c *service.Service, id ident.ID) store.TwoEnded {
	t.Helper()
	var x store.TwoEnded
	require.Eventually(t, func() bool {
		var err error
		x, err = c.Store.TwoEndedByID(t.Context(), id)
		return err == nil && x.Outcome != protocol.Running
	}, time.Minute, 5*time.Millisecond)
	return x
}

// TestLoadRunsWaitForEachOther: at an agent, and on the access of a site.
func TestLoadRunsWaitForEachOther(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "desk": "Northquay", "holm": "Holm", "pier": "", "dock": ""})
	first := started(t, c, loadOf(t, "quay", "holm"))
	o := <-l.began
	assert.Equal(t, "203.0.113.26:7474", o.Far.Address, "where the far end said that it listens")
	assert.Len(t, o.Far.Key, 32, "a key for this run alone")
	var waiting []ident.ID
	for _, r := range []runs.Request{loadOf(t, "quay", "pier"), loadOf(t, "pier", "holm"), loadOf(t, "desk", "dock")} {
		waiting = append(waiting, started(t, c, r).ID)
	}
	for _, id := range waiting {
		now, going := c.Runs.SoFar(id)
		assert.True(t, going)
		assert.Equal(t, "waiting for its turn", now.Says)
	}
	other := started(t, c, loadOf(t, "pier", "dock"))
	<-l.began // nothing is in its way
	beside := started(t, c, asking(t, "stream", "quay", `{"for": "1s"}`, "holm"))
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
		assert.Equal(t, protocol.Done, x.Outcome, x.Reason)
		assert.InDelta(t, 8e6, *x.ThereBps, 1)
	}
	assert.LessOrEqual(t, *l.most, 3, "two load runs that share nothing, and the stream")
}

func TestWhatALoadRunDisturbsIsMarked(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "desk": "Northquay", "holm": "Holm", "pier": "Pier"})
	var paths []ident.ID
	for _, from := range []string{"quay", "desk", "pier"} {
		paths = append(paths, addWatch(t, c, from, watches.Spec{From: []string{from}, To: []string{"192.0.2.9"}}).Paths[0])
	}
	x := started(t, c, loadOf(t, "quay", "holm"))
	<-l.began
	at := time.Now().Truncate(time.Minute)
	var list []protocol.Record
	for i, from := range []string{"quay", "desk", "pier"} {
		one := []protocol.Record{minute(paths[i], at, 10*time.Millisecond, 0)}
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: named(c, from), Readings: one}))
		list = append(list, one...)
	}
	l.goes <- struct{}{}
	ended(t, c, x.ID)
	for i, disturbed := range []bool{true, true, false} {
		assert.Equal(t, disturbed, list[i].Flags&protocol.Disturbed != 0, "%d", i)
		loads, err := c.LoadsBeside(t.Context(), paths[i], at.Add(-time.Hour), at.Add(time.Hour))
		require.NoError(t, err)
		assert.Equal(t, disturbed, len(loads) == 1, "%d", i)
	}
}

func TestTwoEndsThatCannotBe(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "", "holm": ""})
	for _, s := range []struct {
		name string
		r    runs.Request
		says string
	}{
		{"one end", loadOf(t, "quay", "quay"), "is both ends"},
		{"nobody", loadOf(t, "gull", "quay"), "there is no agent"},
		{"no key", loadOf(t, "quay", "192.0.2.7:7474"), "a responder without a service needs its key"},
		{"too long", asking(t, "stream", "quay", `{"for": "2h"}`, "holm"), "is not between 0 and 1h"},
		{"two targets", loadOf2(t), "name one target; 2 are named"},
	} {
		t.Run(s.name, func(t *testing.T) {
			_, err := c.Runs.Start(t.Context(), s.r)
			assert.ErrorIs(t, err, kind.ErrInvalid)
			assert.ErrorContains(t, err, s.says)
		})
	}
	spent := loadOf(t, "quay", "holm")
	x := started(t, c, spent)
	<-l.began
	l.goes <- struct{}{}
	ended(t, c, x.ID)
	spent.Budget = 500 // the run before says that it sent 1,000 bytes
	over := ended(t, c, started(t, c, spent).ID)
	assert.Equal(t, protocol.Failed, over.Outcome)
	assert.Contains(t, over.Reason, "within a day")
	x = started(t, c, loadOf(t, "quay", "holm"))
	<-l.began
	assert.True(t, c.Runs.Stop(x.ID))
	assert.Equal(t, protocol.Cancelled, ended(t, c, x.ID).Outcome)
	require.Eventually(t, func() bool { return !c.Runs.Stop(x.ID) }, time.Minute, time.Millisecond)
}

func loadOf2(t *testing.T) runs.Request {
	r := loadOf(t, "quay", "holm")
	r.Targets = append(r.Targets, "pier")
	return r
}

// TestRunsEndWithTheService: what goes on is ended, and nothing is begun any more.
func TestRunsEndWithTheService(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "", "holm": ""})
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error, 1)
	go func() { over <- c.Run(ctx) }()
	x := started(t, c, loadOf(t, "quay", "holm"))
	<-l.began
	cancel()
	require.NoError(t, <-over)
	kept, err := c.Store.Run(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Cancelled, kept.Outcome, "who ends waits for what goes on")
	_, err = c.Runs.Start(t.Context(), loadOf(t, "quay", "holm"))
	assert.ErrorContains(t, err, "is being stopped")
}

func TestInvites(t *testing.T) {
	c, _ := harbour(t, map[string]string{"quay": ""})
	code, i, err := c.Fleet.Invite(t.Context(), "", "Holm", "", time.Hour)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(time.Hour), i.EndsAt, time.Minute)
	_, err = c.Fleet.Join(t.Context(), remote.JoinRequest{Code: "gull", Name: "x"}, "")
	require.ErrorIs(t, err, store.ErrInvite)
	_, err = c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "quay"}, "")
	require.ErrorContains(t, err, "there is an agent named")
	a, err := c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier"}, "192.0.2.7")
	require.NoError(t, err, "an invite that did not let in is not used up")
	assert.Equal(t, "Holm", a.Site)
	_, err = c.Fleet.Join(t.Context(), remote.JoinRequest{Code: code, Name: "pier2"}, "")
	require.ErrorContains(t, err, "it was used on")
	_, worker, ok := c.Fleet.ByKey(a.Key)
	require.True(t, ok)
	_, _, ok = c.Fleet.ByKey("another")
	assert.False(t, ok)
	require.NoError(t, c.Fleet.NoteHealth(t.Context(), a.ID, protocol.Health{Version: "9", HeldBack: 3}))
	assert.Equal(t, 3, worker.HeldBack())
	line, ctx, ok := worker.Connect(t.Context())
	require.True(t, ok)
	assert.NotNil(t, line)
	require.Error(t, c.Fleet.Remove(t.Context(), "quay"), "it is inside the service")
	require.NoError(t, c.Fleet.Remove(t.Context(), "pier"))
	<-ctx.Done()
	_, _, ok = c.Fleet.ByKey(a.Key)
	assert.False(t, ok, "locked out at once")
	_, _, ok = worker.Connect(t.Context())
	assert.False(t, ok)
	for _, lasts := range []time.Duration{time.Second, 90 * 24 * time.Hour} {
		_, _, err = c.Fleet.Invite(t.Context(), "", "", "", lasts)
		assert.ErrorIs(t, err, kind.ErrInvalid)
	}
	again, err := service.New(t.Context(), service.Options{Store: c.Store, Zone: time.UTC})
	require.NoError(t, err)
	_, _, ok = again.Fleet.ByKey(a.Key)
	assert.False(t, ok, "and stays so over a restart")
}

// TestAResultThatComesLate: the service was stopped while it waited for a result, which
// the agent hands over when it is there again; nobody else can.
func TestAResultThatComesLate(t *testing.T) {
	c, l := harbour(t, map[string]string{"quay": "Northquay", "holm": "Holm"})
	agent := func(name string) ident.ID {
		return c.Fleet.Agents()[slices.IndexFunc(c.Fleet.Agents(), func(a store.Agent) bool { return a.Name == name })].ID
	}
	x := started(t, c, loadOf(t, "quay", "holm"))
	o := <-l.began
	require.NoError(t, c.Store.EndRunning(t.Context()))
	cut, err := c.Store.Run(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Failed, cut.Outcome)
	bps := 5e6
	late := protocol.Made{Run: x.ID, FarID: o.FarID, Kind: "throughput", Version: 1, Lane: o.Lanes[0].Lane, Started: time.Now().Add(-time.Minute), Ended: time.Now(), Outcome: protocol.Done,
		Figures: kind.Figures{ThereBps: &bps, SentBytes: 1000}, Body: []byte(`{"directions": [], "findings": []}`)}
	require.ErrorIs(t, c.Upload(t.Context(), protocol.Upload{Agent: agent("holm"), Made: []protocol.Made{late}}), protocol.ErrRefused)
	other := late
	other.Kind = "stream"
	require.ErrorIs(t, c.Upload(t.Context(), protocol.Upload{Agent: agent("quay"), Made: []protocol.Made{other}}), protocol.ErrRefused)
	for range 2 { // an upload may come twice
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: agent("quay"), Made: []protocol.Made{late}}))
	}
	kept, err := c.Store.Run(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, kept.Outcome)
	two, err := c.Store.TwoEndedByID(t.Context(), x.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, two.Outcome)
	assert.NotEmpty(t, two.Body)
	l.goes <- struct{}{}
	for text, bad := range map[string]protocol.Made{"unknown kind": {Run: ident.New(), Kind: "dowse", Started: time.Now(), Outcome: protocol.Done}, "unknown version 9": {Run: ident.New(), Kind: "stream", Version: 9, Started: time.Now(), Outcome: protocol.Done, Body: []byte(`{}`)}} {
		err := c.Upload(t.Context(), protocol.Upload{Agent: agent("quay"), Made: []protocol.Made{bad}})
		assert.ErrorIs(t, err, protocol.ErrRefused, text)
		assert.ErrorContains(t, err, text)
	}
}
