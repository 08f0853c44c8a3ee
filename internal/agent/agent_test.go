package agent

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
	"woodlark.example/wire"
)

// desk is a service that can be away.
type desk struct {
	mu       sync.Mutex
	away     bool
	refused  int
	readings []protocol.Record
	runs     map[ident.ID]protocol.Run
	made     map[ident.ID]protocol.Made
}

var errAway = errors.New("away")

func (d *desk) Upload(_ context.Context, u protocol.Upload) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.away {
		d.refused++
		return errAway
	}
	d.readings = append(d.readings, u.Readings...)
	if d.runs == nil {
		d.runs, d.made = map[ident.ID]protocol.Run{}, map[ident.ID]protocol.Made{}
	}
	for _, m := range u.Made {
		d.made[m.Run] = m
	}
	for _, r := range u.Runs {
		d.runs[r.ID] = r
	}
	return nil
}

func (d *desk) has(holds func(*desk) bool) func() bool {
	return func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return holds(d)
	}
}

const harbour = `
world: harbour
nodes:
  - {name: here, addresses: [192.0.2.1]}
  - {name: there, addresses: [192.0.2.2]}
links:
  - {between: [here, there], delay: 1ms}
`

func startAgent(t *testing.T, dir string, d *desk) (*Agent, func()) {
	m, err := world.Read([]byte(harbour), world.Options{})
	require.NoError(t, err)
	here, err := live.New(m).At("here")
	require.NoError(t, err)
	a, err := New(Options{ID: ident.New(), Name: "here", Network: here, Service: d, Dir: dir})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		assert.NoError(t, a.Run(ctx))
	}()
	var once sync.Once
	stop := func() { once.Do(func() { cancel(); <-ended }) }
	t.Cleanup(stop)
	return a, stop
}

func often(target string) protocol.Task {
	return protocol.Task{Watch: ident.New(), Path: ident.New(), Target: target, Family: wire.IPv4, Every: 200 * time.Millisecond, Probes: 3, Interval: 5 * time.Millisecond}
}

func TestReadingsAreHeldBackWhileTheServiceIsAway(t *testing.T) {
	d := &desk{away: true}
	a, stop := startAgent(t, t.TempDir(), d)
	a.SetPlan(protocol.Plan{Tasks: []protocol.Task{often("there")}})
	require.Eventually(t, d.has(func(d *desk) bool { return d.refused >= 2 && a.HeldBack() >= 3 }), time.Minute, 20*time.Millisecond)
	d.mu.Lock()
	d.away = false
	d.mu.Unlock()
	require.Eventually(t, d.has(func(d *desk) bool { return len(d.readings) >= 4 }), time.Minute, 20*time.Millisecond)
	stop()
	seen := map[ident.ID]bool{}
	for _, r := range d.readings {
		assert.False(t, seen[r.Run], "nothing is handed over twice")
		seen[r.Run] = true
		assert.Equal(t, 3, r.Reading.Answered)
		assert.Contains(t, []protocol.Outcome{protocol.Done, protocol.Cancelled}, d.runs[r.Run].Outcome)
	}
	assert.Zero(t, a.HeldBack())
}

func TestASpoolOutlivesItsAgent(t *testing.T) {
	dir := t.TempDir()
	d := &desk{away: true}
	a, stop := startAgent(t, dir, d)
	a.SetPlan(protocol.Plan{Tasks: []protocol.Task{often("192.0.2.2")}})
	require.Eventually(t, func() bool { return a.HeldBack() >= 2 }, time.Minute, 20*time.Millisecond)
	stop()
	files, err := filepath.Glob(filepath.Join(dir, "spool", "*.json"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "spool", "00000000-damaged.json"), []byte("{"), 0o600))
	d.mu.Lock()
	d.away = false
	d.mu.Unlock()
	_, _ = startAgent(t, dir, d)
	require.Eventually(t, d.has(func(d *desk) bool { return len(d.readings) >= 2 }), time.Minute, 20*time.Millisecond)
	kept, err := filepath.Glob(filepath.Join(dir, "aside", "*-00000000-damaged.json"))
	require.NoError(t, err)
	assert.Len(t, kept, 1, "what cannot be read is set aside, not in the way")
}

func TestNothingIsLostWhenTheSpoolCannotBeWritten(t *testing.T) {
	dir := t.TempDir()
	// A file where the spool's folder should be stands for a disk that takes
	// nothing: every write fails.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "spool"), nil, 0o600))
	d := &desk{away: true}
	a, _ := startAgent(t, dir, d)
	a.SetPlan(protocol.Plan{Tasks: []protocol.Task{often("there")}})
	require.Eventually(t, func() bool { return a.HeldBack() >= 2 }, time.Minute, 20*time.Millisecond)
	d.mu.Lock()
	d.away = false
	d.mu.Unlock()
	require.Eventually(t, d.has(func(d *desk) bool { return len(d.readings) >= 3 }), time.Minute, 20*time.Millisecond)
}

func TestANameThatDoesNotResolveIsOneFailedRun(t *testing.T) {
	d := &desk{}
	a, _ := startAgent(t, t.TempDir(), d)
	task := often("nowhere")
	a.SetPlan(protocol.Plan{Tasks: []protocol.Task{task}})
	require.Eventually(t, d.has(func(d *desk) bool {
		for _, r := range d.runs {
			return r.Outcome == protocol.Failed && r.Ended.Sub(r.Started) > 300*time.Millisecond
		}
		return false
	}), time.Minute, 20*time.Millisecond, "it grows")
	d.mu.Lock()
	defer d.mu.Unlock()
	assert.Len(t, d.runs, 1)
	assert.Empty(t, d.readings)
}

func TestTheMinuteInProgressIsTakenUpAgain(t *testing.T) {
	dir := t.TempDir()
	d := &desk{}
	a, err := New(Options{Dir: dir, Service: d, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	probe := func(at time.Time) []reading.Probe {
		return []reading.Probe{{DueAt: at, Outcome: reading.Answered, RTT: time.Millisecond}}
	}
	now, before := time.Now().Truncate(time.Minute), time.Now().Truncate(time.Minute).Add(-5*time.Minute)
	entries := []journalEntry{
		{Path: ident.New(), At: now, Interval: time.Second, Packed: reading.Pack(now, probe(now))},
		{Path: ident.New(), At: before, Interval: time.Second, Packed: reading.Pack(before, probe(before))},
	}
	require.NoError(t, writeWhole(a.journalFile(), entries))
	again, err := New(Options{Dir: dir, Service: d})
	require.NoError(t, err)
	if time.Now().Truncate(time.Minute).Equal(now) { // else the minute ended in between
		assert.Contains(t, again.resumed, entries[0].Path, "this minute goes on")
		require.Len(t, again.spool.ready, 1)
		assert.Equal(t, protocol.Cut, again.spool.ready[0].Flags, "an older one is closed as it is")
		assert.Equal(t, 1, again.spool.ready[0].Reading.Sent)
		assert.Equal(t, 60, again.spool.ready[0].Reading.Expected)
	}
	assert.FileExists(t, again.journalFile(), "until it is written anew: should this one be killed, too")
}

func TestOrders(t *testing.T) {
	d := &desk{}
	a, _ := startAgent(t, t.TempDir(), d)
	lane := func(to string) protocol.RunLane {
		return protocol.RunLane{Run: ident.New(), Path: ident.New(), Lane: kind.Lane{Target: to, Family: wire.IPv4, Via: "icmp"}}
	}
	good, bad := lane("there"), lane("nowhere")
	heard := 0
	o := protocol.RunOrder{Kind: "ping", Version: 1, Spec: []byte(`{"probes": 5, "interval": "2ms"}`), Targets: []string{"there", "nowhere"}, Lanes: []protocol.RunLane{good, bad}}
	_, err := a.Do(t.Context(), o, func(kind.Progress) { heard++ })
	require.NoError(t, err)
	assert.Equal(t, 5, heard)
	require.Eventually(t, d.has(func(d *desk) bool { return len(d.made) == 2 }), time.Minute, 10*time.Millisecond)
	assert.Equal(t, protocol.Done, d.made[good.Run].Outcome)
	assert.Equal(t, "192.0.2.2", d.made[good.Run].Address)
	assert.Equal(t, protocol.Failed, d.made[bad.Run].Outcome)
	assert.Contains(t, d.made[bad.Run].Reason, "does not resolve")
	for text, o := range map[string]protocol.RunOrder{"unknown kind of measurement \"dowse\"": {Kind: "dowse"}, "unknown version 9": {Kind: "ping", Version: 9}, "unknown field \"gulls\"": {Kind: "ping", Version: 1, Spec: []byte(`{"gulls": 3}`)}} {
		_, err := a.Do(t.Context(), o, nil)
		assert.ErrorContains(t, err, text)
	}
	require.Len(t, d.readings, 1)
	assert.Equal(t, 5, d.readings[0].Reading.Answered)
}

func TestAJournalWhoseWatchIsGoneIsNotLost(t *testing.T) {
	dir := t.TempDir()
	d := &desk{}
	a, err := New(Options{Dir: dir, Service: d})
	require.NoError(t, err)
	now := time.Now().Truncate(time.Minute)
	packed := reading.Pack(now, []reading.Probe{{DueAt: now, Outcome: reading.Answered, RTT: time.Millisecond}})
	require.NoError(t, writeWhole(a.journalFile(), []journalEntry{{Path: ident.New(), At: now, Interval: time.Second, Packed: packed}}))
	again, _ := startAgent(t, dir, d)
	again.SetPlan(protocol.Plan{})
	require.Eventually(t, d.has(func(d *desk) bool { return len(d.readings) == 1 }), time.Minute, 10*time.Millisecond)
	assert.Equal(t, protocol.Cut, d.readings[0].Flags)
}

// TestTasksKeepToTheirTimes: nothing is measured outside the hours of a task, and it ends by
// itself when its time is over; of two times either will do.
func TestTasksKeepToTheirTimes(t *testing.T) {
	d := &desk{}
	a, _ := startAgent(t, t.TempDir(), d)
	now := time.Now()
	task := func(times ...schedule.Times) protocol.Task {
		x := often("there")
		x.Every, x.Interval, x.Times = 0, 20*time.Millisecond, times
		return x
	}
	closed := schedule.Times{StartAt: now.Add(time.Hour)}
	short := schedule.Times{EndAt: now.Add(700 * time.Millisecond)}
	shut, ends, either := task(closed), task(short), task(closed, schedule.Times{EndAt: now.Add(time.Hour)})
	cron := protocol.Standing{Times: schedule.Times{Cron: "0 0 1 1 *"}, Order: protocol.RunOrder{Kind: "ping", Version: 1, Spec: []byte(`{"probes": 1}`), Watch: ident.New(), Lanes: []protocol.RunLane{{Path: ident.New(), Lane: kind.Lane{Target: "there", Family: 4, Via: "icmp"}}}}}
	often := cron
	often.Times, often.Every, often.Seed, often.Order.Watch = schedule.Times{Poisson: true}, 30*time.Millisecond, 7, ident.New()
	a.SetPlan(protocol.Plan{Tasks: []protocol.Task{shut, ends, either}, Standing: []protocol.Standing{cron, often}})
	measures := func() map[ident.ID]bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		list := map[ident.ID]bool{}
		for key := range a.tasks {
			list[key.path] = true
		}
		return list
	}
	require.Eventually(t, func() bool { m := measures(); return m[ends.Path] && m[either.Path] }, time.Minute, time.Millisecond)
	assert.False(t, measures()[shut.Path])
	require.Eventually(t, func() bool { return !measures()[ends.Path] }, time.Minute, 5*time.Millisecond, "its end came")
	assert.True(t, measures()[either.Path])
	assert.False(t, time.Now().Before(short.EndAt))
	require.Eventually(t, d.has(func(d *desk) bool {
		n := 0
		for _, m := range d.made {
			assert.NotEqual(t, cron.Order.Watch, m.Watch, "a time of a clock is waited for")
			if m.Watch == often.Order.Watch {
				n++
			}
		}
		return n >= 5
	}), time.Minute, 10*time.Millisecond, "at random times")
}
