package agent

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/schedule"
)

func TestADamagedJournalIsSetAside(t *testing.T) {
	now := time.Now().UTC().Truncate(time.Minute)
	stamp := now.Format(time.RFC3339)
	id := ident.New().String()
	for name, text := range map[string]string{
		"empty":              "",
		"half-written":       `[{"Path":"` + id + `","At":"` + stamp,
		"an interval of 0":   `[{"Path":"` + id + `","At":"` + stamp + `","Interval":0,"Packed":""}]`,
		"below 0":            `[{"Path":"` + id + `","At":"` + stamp + `","Interval":-5,"Packed":""}]`,
		"probes that are no": `[{"Path":"` + id + `","At":"` + stamp + `","Interval":1000000000,"Packed":"////////////"}]`,
		"of another time":    `[{"Path":"` + id + `","At":"0001-01-01T00:00:00Z","Interval":1000000000,"Packed":""}]`,
		"no path":            `[{"At":"` + stamp + `","Interval":1000000000,"Packed":""}]`,
		"another kind":       `{"a":1}`,
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.json"), []byte(text), 0o600))
			a, stop := startAgent(t, dir, &desk{})
			n, why := a.aside.says()
			assert.Equal(t, 1, n)
			assert.NotEmpty(t, why)
			a.SetPlan(protocol.Plan{Tasks: []protocol.Task{often("192.0.2.2")}})
			stop()
			b, err := New(Options{Dir: dir, Service: &desk{}})
			require.NoError(t, err)
			n, _ = b.aside.says()
			assert.Equal(t, 1, n, "what was set aside stays there, and is not taken up again")
		})
	}
}

func TestWithoutAPlanNothingIsCut(t *testing.T) {
	dir := t.TempDir()
	task := often("192.0.2.2")
	task.Every, task.Interval = 0, 100*time.Millisecond
	now := time.Now().Truncate(time.Minute)
	packed := reading.Pack(now, []reading.Probe{{DueAt: now, Outcome: reading.Answered, RTT: time.Millisecond}})
	require.NoError(t, writeWhole(filepath.Join(dir, "journal.json"), []journalEntry{{Watch: task.Watch, Path: task.Path, At: now, Interval: task.Interval, Packed: packed}}))
	a, err := New(Options{Dir: dir, Service: &desk{}, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	a.apply(t.Context())
	if !time.Now().Truncate(time.Minute).Equal(now) {
		return // the minute is over: there is nothing to take up
	}
	assert.Contains(t, a.resumed, task.Path)
	require.NoError(t, a.writeJournal())
	b, err := New(Options{Dir: dir, Service: &desk{}})
	require.NoError(t, err)
	assert.Equal(t, packed, append(b.resumed[task.Path].Packed, func() []byte {
		for _, r := range b.spool.ready {
			return r.Packed
		}
		return nil
	}()...), "a second kill before the plan is there costs nothing")
}

func TestARunThatIsDueIsCarriedOutOnce(t *testing.T) {
	dir := t.TempDir()
	task := often("192.0.2.2")
	task.Every = time.Hour
	key := taskKey{task.Watch, task.Path}.String()
	start := func(d *desk, p ...protocol.Task) (*Agent, func()) {
		a, stop := startAgent(t, dir, d)
		if p != nil {
			a.SetPlan(protocol.Plan{Tasks: p})
		}
		return a, stop
	}
	first := &desk{}
	_, stop := start(first, task)
	require.Eventually(t, first.has(func(d *desk) bool { return len(d.runs) == 1 }), time.Minute, 5*time.Millisecond, "a new one is made at once")
	stop()

	second := &desk{}
	a, stop := start(second) // by the plan that it has kept
	require.Eventually(t, func() bool {
		a.mu.Lock()
		defer a.mu.Unlock()
		return len(a.tasks) == 1 && len(a.before) == 0
	}, time.Minute, 5*time.Millisecond)
	stop()
	assert.Empty(t, second.runs, "it is not due again")

	// Killed in the middle of a run, and two others were due meanwhile.
	began := time.Now().Truncate(time.Hour).Add(-2*time.Hour + task.Phase)
	broken := due{Key: key, At: began, ID: ident.New(), Began: began}
	d := openDues(filepath.Join(dir, "dues.ndjson"), slog.New(slog.DiscardHandler))
	d.set(broken)
	d.close()
	third := &desk{}
	_, stop = start(third)
	require.Eventually(t, third.has(func(d *desk) bool { return len(d.runs) == 3 }), time.Minute, 5*time.Millisecond)
	stop()
	assert.Equal(t, protocol.Failed, third.runs[broken.ID].Outcome)
	assert.Equal(t, wasKilled, third.runs[broken.ID].Reason)
	missed := 0
	for _, r := range third.runs {
		if r.Outcome == protocol.Missed {
			missed++
			assert.Equal(t, wasDown, r.Reason)
			assert.Zero(t, r.Started.Sub(began)%time.Hour)
		}
	}
	assert.Equal(t, 2, missed)
}

func TestTimesOfPeriodicRuns(t *testing.T) {
	when, err := schedule.Times{}.With(time.Hour, 300*time.Millisecond, 0)
	require.NoError(t, err)
	p := periodic{when: when}
	for _, c := range []struct{ at, next time.Duration }{
		{300 * time.Millisecond, time.Hour + 300*time.Millisecond},
		{0, 300 * time.Millisecond},
		{25 * time.Minute, time.Hour + 300*time.Millisecond},
		{time.Hour, time.Hour + 300*time.Millisecond},
	} {
		assert.Equal(t, noon.Add(c.next), p.when.Next(noon.Add(c.at)), "behind %v", c.at)
	}
	var told []time.Time
	p.missed = func(from, _ time.Time, _ string) { told = append(told, from) }
	next := p.skip(noon, noon.Add(3*365*24*time.Hour), wasDown)
	assert.Len(t, told, mostMissed+1, "years are not told hour by hour")
	assert.Equal(t, noon.Add(300*time.Millisecond), told[0])
	assert.True(t, next.After(noon.Add(3*365*24*time.Hour)))
}

// choosy refuses uploads that hold what it does not like.
type choosy struct {
	desk
	bad ident.ID
}

func (c *choosy) Upload(ctx context.Context, u protocol.Upload) error {
	for _, r := range u.Runs {
		if r.ID == c.bad {
			return errors.Join(protocol.ErrRefused, errors.New("this path is gone"))
		}
	}
	return c.desk.Upload(ctx, u)
}

func TestWhatIsNeverTakenIsSetAsideAndTheRestGoesOn(t *testing.T) {
	dir := t.TempDir()
	c := &choosy{bad: ident.New()}
	s := newSpool(Options{Dir: dir, Service: c}, aside{dir: filepath.Join(dir, "aside"), log: slog.New(slog.DiscardHandler)}, slog.New(slog.DiscardHandler))
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "00000000-folder.json"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "00000001-damaged.json"), []byte(`{"Runs":[{`), 0o600))
	for i := range 7 {
		r := protocol.Run{ID: ident.New(), Outcome: protocol.Done}
		if i == 3 {
			r.ID = c.bad
		}
		s.addRun(r)
	}
	s.write()
	require.NoError(t, s.handOver(t.Context()))
	assert.Len(t, c.runs, 6)
	n, why := s.aside.says()
	assert.Equal(t, 3, n, "the folder, the damaged one, and what was refused")
	assert.Contains(t, why, "this path is gone")
	left, err := os.ReadDir(s.dir)
	require.NoError(t, err)
	assert.Empty(t, left)
	for _, name := range s.aside.names() {
		if data, err := os.ReadFile(filepath.Join(s.aside.dir, name)); err == nil && strings.Contains(string(data), c.bad.String()) {
			return
		}
	}
	t.Error("what was refused is kept whole")
}

func TestNothingWaitsForATaskThatNeedsTheLock(t *testing.T) {
	a, stop := startAgent(t, t.TempDir(), &desk{})
	for i := range 300 {
		task := often("192.0.2.2")
		if i%2 == 0 {
			task.Every, task.Interval = 0, time.Second
		}
		a.SetPlan(protocol.Plan{Tasks: []protocol.Task{task}})
	}
	ended := make(chan struct{})
	go func() {
		stop()
		close(ended)
	}()
	require.Eventually(t, func() bool {
		select {
		case <-ended:
			return true
		default:
			return false
		}
	}, time.Minute, 10*time.Millisecond)
}

// FuzzJournal: whatever an earlier agent, or a disk, left behind, this one starts, measures
// and stops.
func FuzzJournal(f *testing.F) {
	now := time.Now().UTC().Truncate(time.Minute)
	entry := `{"Path":"` + ident.New().String() + `","At":"` + now.Format(time.RFC3339) + `","Interval":1000000000,"Packed":"AQ=="}`
	f.Add("["+entry+"]", `{"key":"a b","at":"2026-11-28T00:00:00Z"}`, `{"tasks":[]}`)
	f.Add("[]", "", "{}")
	f.Add(`[{"Interval":-1}]`, "{", `{"tasks":[{"Every":-1,"Interval":0}],"sweeps":[{}],"traces":[{}]}`)
	f.Fuzz(func(t *testing.T, journal, dues, kept string) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.json"), []byte(journal), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "dues.ndjson"), []byte(dues), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "plan.json"), []byte(kept), 0o600))
		a, err := New(Options{Dir: dir, Service: &desk{}, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		for _, task := range a.given.Tasks {
			require.NoError(t, checkTask(task))
		}
		for _, e := range a.resumed {
			e.record(protocol.Cut)
		}
		require.NoError(t, a.writeJournal())
		a.dues.set(due{Key: "x"})
		a.dues.close()
	})
}
