package service_test

import (
	"context"
	"encoding/json"
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/guard"
	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
)

func TestMain(m *testing.M) { os.Exit(storetest.Main(m)) }

// worker is an agent that does nothing but remember its plan, and what it was asked for.
type worker struct {
	tasks    []protocol.Task
	standing []protocol.Standing
	asked    chan protocol.RunOrder
}

func (h *worker) SetPlan(p protocol.Plan)                { h.tasks, h.standing = p.Tasks, p.Standing }
func (h *worker) HeldBack() int                          { return 0 }
func (h *worker) Standing() (json.RawMessage, error)     { return json.RawMessage(`{"host": "quay"}`), nil }
func (h *worker) Expect(protocol.Ticket) (string, error) { return "203.0.113.26:7474", nil }
func (h *worker) Locate(_ context.Context, o protocol.LocateOrder) (list []kind.Lane, err error) {
	for i, t := range o.Targets {
		list = append(list, kind.Lane{Target: t, Family: 6, Via: "icmp", Address: netip.AddrFrom16([16]byte{0x20, 1, 0xd, 0xb8, 15: byte(i + 1)})})
	}
	return list, nil
}

func (h *worker) Do(ctx context.Context, o protocol.RunOrder, _ func(kind.Progress)) ([]protocol.Made, error) {
	h.asked <- o
	<-ctx.Done()
	return nil, ctx.Err()
}

// how reads how a kind measures.
func how(t *testing.T, name, text string) kind.Spec {
	t.Helper()
	k, err := kind.Find(name)
	require.NoError(t, err)
	s, err := k.Decode(kind.Standing, []byte(text))
	require.NoError(t, err)
	return s
}

// asking is a request for a run.
func asking(t *testing.T, name, from, text string, to ...string) runs.Request {
	t.Helper()
	k, err := kind.Find(name)
	require.NoError(t, err)
	return runs.Request{Kind: k, From: from, Targets: to, How: how(t, name, text)}
}

func open(t *testing.T, s *store.Store) (*service.Service, *worker) {
	return openAt(t, s, nil)
}

// openAt is open by another clock.
func openAt(t *testing.T, s *store.Store, now func() time.Time) (*service.Service, *worker) {
	c, err := service.New(t.Context(), service.Options{Store: s, Zone: time.UTC, Now: now})
	require.NoError(t, err)
	h := &worker{asked: make(chan protocol.RunOrder, 10)}
	require.NoError(t, c.AddAgent(t.Context(), store.Agent{Name: "quay", Kind: "simulated"}, func(ident.ID) (protocol.Worker, error) { return h, nil }))
	return c, h
}

// minute is a reading of a path: so many of sixty probes lost, the others
// answered after about so long.
func minute(path ident.ID, at time.Time, rtt time.Duration, lost int) protocol.Record {
	var probes []reading.Probe
	for i := range 60 {
		p := reading.Probe{DueAt: at.Add(time.Duration(i) * time.Second), Outcome: reading.Answered, RTT: rtt + time.Duration(i%5)*10*time.Microsecond, Stamp: reading.StampKernel}
		if i < lost {
			p = reading.Probe{DueAt: p.DueAt}
		}
		probes = append(probes, p)
	}
	return protocol.Record{Path: path, Reading: reading.Of(at, time.Minute, 60, time.Second, probes), Packed: reading.Pack(at, probes)}
}

func addWatch(t *testing.T, c *service.Service, name string, spec watches.Spec) watches.Watch {
	w, err := c.Watches.Save(t.Context(), ident.ID{}, name, spec, false)
	require.NoError(t, err)
	return w
}

func TestPlans(t *testing.T) {
	c, h := open(t, storetest.New(t))
	spec := watches.Spec{From: []string{"quay"}, To: []string{"127.0.0.1", "terminal.holm.example"}, How: how(t, "ping", `{"family": "both"}`)}
	w := addWatch(t, c, "one", spec)
	assert.Len(t, w.Paths, 3, "an address has one family, a name two")
	assert.Len(t, h.tasks, 3)
	addWatch(t, c, "two", spec)
	assert.Len(t, h.tasks, 3, "two continuous watches of a path share one measurement")
	spec.Every = time.Minute
	addWatch(t, c, "three", spec)
	assert.Len(t, h.tasks, 3)
	require.Len(t, h.standing, 1)
	assert.Len(t, h.standing[0].Order.Lanes, 3)
	assert.Equal(t, w.Paths[0], h.standing[0].Order.Lanes[0].Path)
	_, err := c.Watches.SetPaused(t.Context(), w, true)
	require.NoError(t, err)
	assert.Len(t, h.tasks, 3, "the other watch goes on")
	require.NoError(t, c.Watches.Remove(t.Context(), w))
	_, err = c.Watches.Find("one")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = c.Watches.Save(t.Context(), ident.ID{}, "two", spec, false)
	require.ErrorIs(t, err, store.ErrTaken)
}

func TestAnEpisodeFromUploadToReportAndOverARestart(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}).Paths[0]
	end := time.Now().Truncate(time.Minute)
	at := func(ago int) time.Time { return end.Add(-time.Duration(ago) * time.Minute) }
	var quiet []protocol.Record
	for ago := 300; ago > 60; ago-- {
		quiet = append(quiet, minute(path, at(ago), 10*time.Millisecond, 0))
	}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: quiet}))
	v, err := c.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateUnmeasured, v.Verdict.State, "the last reading is an hour old")
	kept, err := c.Paths.TakeBaseline(t.Context(), path, 10*time.Hour, false)
	require.NoError(t, err)
	assert.Equal(t, 240, kept.Readings)

	heard, stop := c.Events.Listen()
	defer stop()
	var slow []protocol.Record
	for ago := 60; ago > 0; ago-- {
		slow = append(slow, minute(path, at(ago), 25*time.Millisecond, 0))
	}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: slow}))
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: slow}), "handed over twice")
	v, err = c.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateDegraded, v.Verdict.State)
	assert.Equal(t, at(60).UTC(), v.Verdict.Since.UTC())
	told := map[events.Kind]int{}
	for len(heard) > 0 {
		told[(<-heard).Kind]++
	}
	assert.Equal(t, 1, told[events.StateChanged])
	episodes, err := s.Episodes(t.Context(), path, at(300), end)
	require.NoError(t, err)
	require.Len(t, episodes, 1)
	assert.Nil(t, episodes[0].ToAt)

	again, _ := openAt(t, s, func() time.Time { return time.Now().Add(30 * time.Minute) })
	back, err := again.View(path)
	require.NoError(t, err)
	assert.Equal(t, v.Verdict.State, back.Verdict.State)
	assert.Equal(t, v.Verdict.Since.UTC(), back.Verdict.Since.UTC())
	assert.Equal(t, v.Findings[0].Code, back.Findings[0].Code)
	assert.Equal(t, v.Baseline.Readings, back.Baseline.Readings)
	var fast []protocol.Record
	for ago := 0; ago > -25; ago-- {
		fast = append(fast, minute(path, at(ago), 10*time.Millisecond, 0))
	}
	require.NoError(t, again.Upload(t.Context(), protocol.Upload{Agent: quay(again), Readings: fast}))
	episodes, err = s.Episodes(t.Context(), path, at(300), end.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, episodes, 1, "the restarted service closes the same episode")
	require.NotNil(t, episodes[0].ToAt)
	assert.Equal(t, end.UTC(), episodes[0].ToAt.UTC())
}

func TestPinnedBaselines(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}).Paths[0]
	_, err := c.Paths.TakeBaseline(t.Context(), path, time.Hour, true)
	require.ErrorIs(t, err, kind.ErrInvalid, "nothing to take it from")
	end := time.Now().Truncate(time.Minute)
	var list []protocol.Record
	for ago := 40; ago > 0; ago-- {
		list = append(list, minute(path, end.Add(-time.Duration(ago)*time.Minute), 10*time.Millisecond, 0))
	}
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: list}))
	_, err = c.Paths.TakeBaseline(t.Context(), path, time.Hour, true)
	require.NoError(t, err)
	again, _ := open(t, s)
	v, err := again.View(path)
	require.NoError(t, err)
	assert.True(t, v.Pinned)
	require.NoError(t, again.Paths.PinBaseline(t.Context(), path, false))
	v, _ = again.View(path)
	assert.False(t, v.Pinned)
}

func TestTimeWithoutTheServiceIsRecorded(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}).Paths[0]
	last := time.Now().Add(-20 * time.Minute).Truncate(time.Minute)
	require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: []protocol.Record{minute(path, last, time.Millisecond, 0)}}))
	_, _ = open(t, s)
	runs, err := s.Runs(t.Context(), store.RunFilter{Path: path, Outcome: protocol.Missed})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, "the service was not running", runs[0].Reason)
	assert.Equal(t, last.Add(time.Minute).UTC(), runs[0].StartedAt.UTC())
}

func TestWhatIsNotJudged(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}).Paths[0]
	now := time.Now().Truncate(time.Minute)
	upload := func(r protocol.Record) {
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: []protocol.Record{r}}))
	}
	last := func() time.Time {
		v, err := c.View(path)
		require.NoError(t, err)
		return v.Last.Reading.At
	}
	upload(minute(path, now.Add(-2*time.Minute), time.Millisecond, 0))
	demanded := minute(path, now.Add(-30*time.Second), time.Second, 60)
	demanded.Run, demanded.Flags = ident.New(), protocol.OnDemand
	upload(demanded)
	assert.Equal(t, now.Add(-2*time.Minute), last(), "what somebody asked for does not stand for the watch")
	periodic := minute(path, now.Add(-20*time.Second), time.Second, 60)
	periodic.Run, periodic.Watch = ident.New(), ident.New()
	upload(periodic)
	upload(minute(path, now.Add(-time.Minute), time.Millisecond, 0))
	assert.Equal(t, now.Add(-time.Minute), last(), "the minute that was going on meanwhile is judged")
	v, err := c.View(path)
	require.NoError(t, err)
	assert.Equal(t, guard.StateSteady, v.Verdict.State)
	learnt, err := s.History(t.Context(), path, now.Add(-time.Hour), now)
	require.NoError(t, err)
	assert.Equal(t, 3, learnt.Len(), "baselines rest on what watches measured")
	all, err := s.Readings(t.Context(), path, now.Add(-time.Hour), now, 0, false)
	require.NoError(t, err)
	assert.Len(t, all, 4, "all is kept")

	// A path that only was asked for shows that.
	other := addWatch(t, c, "oxwater", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.10"}}).Paths[0]
	demanded.Path = other
	upload(demanded)
	v, err = c.View(other)
	require.NoError(t, err)
	assert.NotNil(t, v.Last)
	assert.Equal(t, guard.StateUnmeasured, v.Verdict.State)
}

func TestAPathIsJudgedOnAfterTheClockWasSetBack(t *testing.T) {
	s := storetest.New(t)
	c, _ := open(t, s)
	path := addWatch(t, c, "holm", watches.Spec{From: []string{"quay"}, To: []string{"192.0.2.9"}}).Paths[0]
	now := time.Now().Truncate(time.Minute)
	upload := func(r protocol.Record) {
		require.NoError(t, c.Upload(t.Context(), protocol.Upload{Agent: quay(c), Readings: []protocol.Record{r}}))
	}
	upload(minute(path, now.Add(time.Hour), time.Millisecond, 0)) // the clock was an hour ahead
	jumped := minute(path, now.Add(-2*time.Minute), 2*time.Millisecond, 0)
	jumped.Flags = protocol.Jumped
	upload(jumped)
	upload(minute(path, now.Add(-time.Minute), 3*time.Millisecond, 0))
	v, err := c.View(path)
	require.NoError(t, err)
	assert.Equal(t, now.Add(-time.Minute), v.Last.Reading.At, "not only once the clock has caught up")

	again, _ := open(t, s)
	v, err = again.View(path)
	require.NoError(t, err)
	assert.Equal(t, now.Add(-time.Minute).UTC(), v.Last.Reading.At.UTC(), "a reading of the future does not stand for now after a restart either")
}

// quay is the agent of that name.
func quay(c *service.Service) ident.ID { return named(c, "quay") }

func named(c *service.Service, name string) ident.ID {
	for _, a := range c.Fleet.Agents() {
		if a.Name == name {
			return a.ID
		}
	}
	return ident.ID{}
}
