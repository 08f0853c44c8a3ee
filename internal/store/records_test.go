package store_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/baseline"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
	"woodlark.example/internal/store/storetest"
	"woodlark.example/wire"
)

func TestAgentsAndPathsAreMadeOnce(t *testing.T) {
	s := storetest.New(t)
	a, err := s.EnsureAgent(t.Context(), store.Agent{Name: "quay", Site: "Northquay", Kind: "simulated"})
	require.NoError(t, err)
	again, err := s.EnsureAgent(t.Context(), store.Agent{Name: "quay", Site: "Holm", Kind: "simulated", Version: "2"})
	require.NoError(t, err)
	assert.Equal(t, a.ID, again.ID)
	assert.Equal(t, "Holm", again.Site)
	require.NoError(t, s.SeenAgents(t.Context(), []ident.ID{a.ID}, noon))
	agents, err := s.Agents(t.Context())
	require.NoError(t, err)
	require.Len(t, agents, 1)
	assert.Equal(t, noon, *agents[0].SeenAt)

	p, err := ensurePath(t, s, store.Ends{Agent: a.ID, Target: "app.ticketing.example", Family: wire.IPv4, Via: "icmp"}, "Ticketing")
	require.NoError(t, err)
	same, err := ensurePath(t, s, store.Ends{Agent: a.ID, Target: "app.ticketing.example", Family: wire.IPv4, Via: "icmp"}, "")
	require.NoError(t, err)
	assert.Equal(t, p.ID, same.ID)
	other, err := ensurePath(t, s, store.Ends{Agent: a.ID, Target: "app.ticketing.example", Family: wire.IPv6, Via: "icmp"}, "")
	require.NoError(t, err)
	assert.NotEqual(t, p.ID, other.ID, "the other family is another path")
	paths, err := s.Paths(t.Context())
	require.NoError(t, err)
	assert.Len(t, paths, 2)
}

func TestRunsAreFilteredAndPaged(t *testing.T) {
	s := storetest.New(t)
	watch, path := ident.New(), ident.New()
	var u protocol.Upload
	for i := range 10 {
		r := protocol.Run{ID: ident.New(), Path: path, Started: noon.Add(time.Duration(i) * time.Minute), Ended: noon.Add(time.Duration(i)*time.Minute + time.Second), Outcome: protocol.Done}
		if i%2 == 1 {
			r.Watch, r.Outcome, r.Reason = watch, protocol.Failed, strings.Repeat("ö", 400)
		}
		u.Runs = append(u.Runs, r)
	}
	require.NoError(t, s.SaveUpload(t.Context(), u))
	for name, c := range map[string]struct {
		f    store.RunFilter
		want int
	}{
		"all":     {store.RunFilter{}, 10},
		"watch":   {store.RunFilter{Watches: []ident.ID{watch}}, 5},
		"failed":  {store.RunFilter{Outcome: protocol.Failed}, 5},
		"path":    {store.RunFilter{Path: ident.New()}, 0},
		"page":    {store.RunFilter{Page: store.Page{Limit: 3}}, 3},
		"further": {store.RunFilter{Page: store.Page{After: noon.Add(2 * time.Minute)}}, 2},
	} {
		runs, err := s.Runs(t.Context(), c.f)
		require.NoError(t, err)
		assert.Len(t, runs, c.want, name)
		for i := 1; i < len(runs); i++ {
			assert.True(t, runs[i].StartedAt.Before(runs[i-1].StartedAt), "newest first")
		}
	}
	failed, err := s.Runs(t.Context(), store.RunFilter{Outcome: protocol.Failed})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(failed[0].Reason, "…"), "a long reason is cut at a character")
	assert.LessOrEqual(t, len(failed[0].Reason), 500)

	// A run that goes on is brought up to date by its identifier.
	running := protocol.Run{ID: ident.New(), Path: path, Started: noon, Outcome: protocol.Running}
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Runs: []protocol.Run{running}}))
	require.NoError(t, s.EndRunning(t.Context()))
	r, err := s.Run(t.Context(), running.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Failed, r.Outcome)
	assert.NotNil(t, r.EndedAt)
	_, err = s.Run(t.Context(), ident.New())
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestPagesLoseNothing: many records of one time come in pages, each once.
func TestPagesLoseNothing(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	var u protocol.Upload
	for i := range 24 {
		u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Path: path, Started: noon.Add(time.Duration(i/9) * time.Minute), Outcome: protocol.Done})
	}
	require.NoError(t, s.SaveUpload(t.Context(), u))
	for _, limit := range []int{1, 3, 5, 24} {
		seen := map[ident.ID]bool{}
		page := store.Page{Limit: limit}
		for {
			runs, err := s.Runs(t.Context(), store.RunFilter{Path: path, Page: page})
			require.NoError(t, err)
			for _, r := range runs {
				assert.False(t, seen[r.ID], "twice")
				seen[r.ID] = true
			}
			if len(runs) < limit {
				break
			}
			page.After, page.AfterID = runs[len(runs)-1].StartedAt, runs[len(runs)-1].ID
		}
		assert.Len(t, seen, 24, "in pages of %d", limit)
	}
}

func TestEpisodesThatTouchATime(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	at := func(h int) time.Time { return noon.Add(time.Duration(h) * time.Hour) }
	to := at(2)
	over := store.Episode{ID: ident.New(), PathID: path, Kind: "degraded", FromAt: at(1), ToAt: &to, Excesses: "[]"}
	open := store.Episode{ID: ident.New(), PathID: path, Kind: "lost", FromAt: at(4), Excesses: "[]"}
	require.NoError(t, s.SaveEpisodes(t.Context(), []store.Episode{over, open}))
	for _, c := range []struct{ from, to, want int }{{0, 1, 0}, {0, 2, 1}, {2, 4, 0}, {1, 9, 2}, {5, 6, 1}, {100, 101, 1}} {
		list, err := s.Episodes(t.Context(), path, at(c.from), at(c.to))
		require.NoError(t, err)
		assert.Len(t, list, c.want, "%d to %d", c.from, c.to)
	}
	closed := at(5)
	open.ToAt = &closed
	require.NoError(t, s.SaveEpisodes(t.Context(), []store.Episode{open}))
	list, err := s.Episodes(t.Context(), ident.ID{}, at(0), at(9))
	require.NoError(t, err)
	require.Len(t, list, 2, "the same episode, closed")
	assert.Equal(t, closed, *list[1].ToAt)
}

func TestOnlyTheNewestRollingBaselineIsKept(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	save := func(hour int, pinned bool) {
		require.NoError(t, s.SaveBaseline(t.Context(), store.Baseline{ID: ident.New(), PathID: path, TakenAt: noon.Add(time.Duration(hour) * time.Hour), Pinned: pinned, Body: "{}"}))
	}
	save(0, false)
	save(1, true)
	save(2, false)
	save(3, false)
	list, err := s.Baselines(t.Context(), path, true)
	require.NoError(t, err)
	require.Len(t, list, 2, "the pinned one and the newest")
	assert.False(t, list[0].Pinned)
	assert.Equal(t, "{}", list[0].Body)
	require.NoError(t, s.PinBaseline(t.Context(), path, ident.ID{}, false))
	require.NoError(t, s.PinBaseline(t.Context(), path, list[0].ID, true))
	list, err = s.Baselines(t.Context(), ident.ID{}, false)
	require.NoError(t, err)
	assert.True(t, list[0].Pinned, "that one is pinned")
	assert.False(t, list[1].Pinned)
	assert.Empty(t, list[0].Body)
	require.ErrorIs(t, s.PinBaseline(t.Context(), ident.New(), ident.New(), true), store.ErrNotFound)
}

func TestHistoryAndBounds(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	first, last, err := s.Bounds(t.Context(), path)
	require.NoError(t, err)
	assert.True(t, first.IsZero() && last.IsZero())
	answered, err := s.Answered(t.Context(), path)
	require.NoError(t, err)
	assert.False(t, answered)
	u := protocol.Upload{Readings: []protocol.Record{minute(path, noon, 5*time.Millisecond, 1), minute(path, noon.Add(time.Minute), 5*time.Millisecond, 30)}}
	require.NoError(t, s.SaveUpload(t.Context(), u))
	h, err := s.History(t.Context(), path, noon, noon.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, 2, h.Len())
	answered, err = s.Answered(t.Context(), path)
	require.NoError(t, err)
	assert.True(t, answered)
	first, last, err = s.Bounds(t.Context(), path)
	require.NoError(t, err)
	assert.Equal(t, noon, first)
	assert.Equal(t, noon.Add(time.Minute), last)
	newest, err := s.LastReadings(t.Context(), path, 1, noon.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, newest, 1)
	assert.Equal(t, noon.Add(time.Minute), newest[0].Reading.At)
}

// TestLastPoints are the newest, whenever they are of, in order of time, and as their readings say.
func TestLastPoints(t *testing.T) {
	s := storetest.New(t)
	path, until := ident.New(), noon.Add(10*time.Minute)
	var u protocol.Upload
	for _, ago := range []time.Duration{500 * time.Hour, 72 * time.Hour, time.Hour, 2 * time.Minute, time.Minute, -time.Hour} {
		u.Readings = append(u.Readings, minute(path, noon.Add(-ago), 5*time.Millisecond, int(ago.Minutes())%60))
	}
	marked := minute(path, noon.Add(-30*time.Second), 5*time.Millisecond, 0)
	marked.Flags = protocol.OnDemand
	u.Readings = append(u.Readings, marked)
	require.NoError(t, s.SaveUpload(t.Context(), u))
	for n, want := range map[int][]int{1: {4}, 3: {2, 3, 4}, 4: {1, 2, 3, 4}, 9: {0, 1, 2, 3, 4}} {
		points, err := s.LastPoints(t.Context(), path, n, until)
		require.NoError(t, err)
		readings, err := s.LastReadings(t.Context(), path, n, until)
		require.NoError(t, err)
		require.Len(t, points, len(want), "%d", n)
		require.Len(t, readings, len(want), "%d", n)
		for i, k := range want {
			assert.Equal(t, u.Readings[k].Reading.At, readings[i].Reading.At)
			assert.Equal(t, baseline.PointOf(readings[i].Reading), points[i])
		}
	}
	points, err := s.LastPoints(t.Context(), ident.New(), 5, until)
	require.NoError(t, err)
	assert.Empty(t, points)
}

func TestADatabaseThatIsGoneIsAway(t *testing.T) {
	s := storetest.New(t)
	require.NoError(t, s.Ping(t.Context()))
	require.NoError(t, s.Close())
	require.Error(t, s.Ping(t.Context()))
	_, err := store.Open(t.Context(), store.Options{DSN: "root@unix(/nowhere/db.sock)/x"})
	require.Error(t, err)
}

func TestAWrongClockDoesNotMakeAThousandPartitions(t *testing.T) {
	s := storetest.New(t)
	path := ident.New()
	now := time.Now().UTC().Truncate(time.Minute)
	// A host without a clock of its own starts in 1970; another is far ahead.
	times := []time.Time{time.Unix(0, 0).UTC(), now, now.AddDate(40, 0, 0)}
	var u protocol.Upload
	for _, at := range times {
		u.Readings = append(u.Readings, minute(path, at, time.Millisecond, 0))
	}
	require.NoError(t, s.SaveUpload(t.Context(), u), "it is kept, and does not block what comes behind it")
	all, err := s.Readings(t.Context(), path, times[0], times[2].Add(time.Hour), 0, false)
	require.NoError(t, err)
	assert.Len(t, all, 3)
	// Days that come after still get a partition of their own, to be dropped by.
	require.NoError(t, s.CoverDays(t.Context(), now, now.AddDate(0, 0, 3)))
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Readings: []protocol.Record{minute(path, now.AddDate(0, 0, 3), time.Millisecond, 0)}}))
	_, err = s.DropBefore(t.Context(), now.AddDate(0, 0, 2))
	require.NoError(t, err)
	all, err = s.Readings(t.Context(), path, times[0], times[2].Add(time.Hour), 0, false)
	require.NoError(t, err)
	assert.Len(t, all, 2, "the day after tomorrow's and the one far ahead stay")
}

// TestWhatIsDoneStaysDone: an agent that was killed behind the end of a run may say later
// that it was broken off.
func TestWhatIsDoneStaysDone(t *testing.T) {
	s := storetest.New(t)
	path, agent := ident.New(), ident.New()
	run := protocol.Run{ID: ident.New(), Path: path, Started: noon, Ended: noon.Add(time.Second), Address: "192.0.2.1", Outcome: protocol.Done}
	broken := run
	broken.Outcome, broken.Reason, broken.Address = protocol.Failed, "stopped in the middle", ""
	other := broken
	other.ID = ident.New()
	sweep := protocol.Sweep{ID: ident.New(), Started: noon, Ended: noon, Outcome: protocol.Done}
	late := sweep
	late.Outcome, late.Reason = protocol.Failed, "stopped in the middle"
	for _, u := range []protocol.Upload{{Agent: agent, Runs: []protocol.Run{run, other}, Sweeps: []protocol.Sweep{sweep}}, {Agent: agent, Runs: []protocol.Run{broken}, Sweeps: []protocol.Sweep{late}}} {
		require.NoError(t, s.SaveUpload(t.Context(), u))
	}
	got, err := s.Run(t.Context(), run.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, got.Outcome)
	assert.Empty(t, got.Reason)
	assert.Equal(t, "192.0.2.1", got.Address)
	kept, err := s.Sweep(t.Context(), sweep.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, kept.Outcome)
	// The other way round what came of it counts.
	other.Outcome, other.Reason, other.Address = protocol.Done, "", "192.0.2.2"
	require.NoError(t, s.SaveUpload(t.Context(), protocol.Upload{Agent: agent, Runs: []protocol.Run{other}}))
	got, err = s.Run(t.Context(), other.ID)
	require.NoError(t, err)
	assert.Equal(t, protocol.Done, got.Outcome)
	assert.Empty(t, got.Reason)
	assert.Equal(t, "192.0.2.2", got.Address)
}

func ensurePath(t *testing.T, s *store.Store, e store.Ends, site string) (store.Path, error) {
	list, err := s.EnsurePaths(t.Context(), []store.Ends{e}, func(string) string { return site })
	if err != nil {
		return store.Path{}, err
	}
	return list[0], nil
}

func TestManyPathsAreMadeAtOnceAndOnce(t *testing.T) {
	s := storetest.New(t)
	agents := []ident.ID{ident.New(), ident.New()}
	var list []store.Ends
	for i := range 1200 { // more than a batch
		list = append(list, store.Ends{Agent: agents[i%2], Target: fmt.Sprintf("host%d.example", i/4), Family: wire.IPv4, Via: []string{"icmp", "tcp:443"}[i/2%2]})
	}
	list = append(list, list[0])
	siteOf := func(target string) string { return "at " + target }
	made, err := s.EnsurePaths(t.Context(), list, siteOf)
	require.NoError(t, err)
	require.Len(t, made, 1201)
	assert.Equal(t, made[0], made[1200], "what is asked for twice is one")
	for i, p := range made {
		require.Equal(t, list[i], p.Ends())
		require.Equal(t, "at "+p.Target, p.Site)
	}
	again, err := s.EnsurePaths(t.Context(), list[:10], siteOf)
	require.NoError(t, err)
	for i, p := range again {
		assert.Equal(t, made[i].ID, p.ID)
	}
	all, err := s.Paths(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1200)
}
