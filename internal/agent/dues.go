package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/schedule"
	"woodlark.example/internal/whole"
)

// dues remembers on disk which periodic run was begun last, so that each that is due is
// carried out once, whatever is killed in between. Each line of its file is a run that
// began or ended; what counts of a key is the last.
type dues struct {
	file string
	log  *slog.Logger

	mu    sync.Mutex
	by    map[string]due
	lines int
	out   *os.File
	fails bool
}

// due is a run that was begun: at which multiple of its interval, and whether it ended.
type due struct {
	Key   string    `json:"key"` // of the watch, or of watch and path
	At    time.Time `json:"at"`
	ID    ident.ID  `json:"id"` // of the run
	Began time.Time `json:"began"`
	Over  bool      `json:"over"`
}

// mostLines is how many lines the file has beyond those that count before it is written
// anew.
const mostLines = 10_000

// openDues reads what was begun last. A line that was cut off by a kill is the last one.
func openDues(file string, log *slog.Logger) *dues {
	d := &dues{file: file, log: log, by: map[string]due{}}
	data, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		log.Error("which runs were begun last cannot be read", "error", err)
	}
	for line := range bytes.Lines(data) {
		var x due
		if json.Unmarshal(line, &x) == nil && x.Key != "" {
			d.by[x.Key] = x
		}
		d.lines++
	}
	return d
}

func (d *dues) last(key string) (due, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	x, ok := d.by[key]
	return x, ok
}

// set notes a run before it begins, and when it has ended.
func (d *dues) set(x due) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.by[x.Key] = x
	err := d.append(x)
	if err != nil && !d.fails {
		d.log.Error("which run was begun last cannot be written down; should this program be killed now, it may be begun twice", "error", err)
	}
	d.fails = err != nil
}

// setLater notes the end of a run once what came of it is surely on disk. The function that
// it returns does so at once, if it is not done yet.
func (d *dues) setLater(x due) (now func()) {
	once := sync.OnceFunc(func() { d.set(x) })
	timer := time.AfterFunc(spoolTime, once)
	return func() {
		timer.Stop()
		once()
	}
}

// spoolTime is how long it may take until a result is a file of the spool.
const spoolTime = 3 * gather

func (d *dues) append(x due) (err error) {
	if d.out == nil || d.lines > len(d.by)+mostLines {
		if err := d.anew(); err != nil {
			return err
		}
	}
	line, err := json.Marshal(x)
	if err != nil {
		return err
	}
	// A line of its own, also behind one that a full disk cut off.
	if _, err = d.out.Write(append(append([]byte{'\n'}, line...), '\n')); err != nil {
		return err
	}
	d.lines += 2
	return nil
}

// anew writes the file with what counts, without what is of long ago.
func (d *dues) anew() error {
	var b bytes.Buffer
	for key, x := range d.by {
		if time.Since(x.Began) > mostRemembered {
			delete(d.by, key)
			continue
		}
		line, err := json.Marshal(x)
		if err != nil {
			return err
		}
		b.Write(append(line, '\n'))
	}
	if err := whole.Write(d.file, b.Bytes()); err != nil {
		return err
	}
	if d.out != nil {
		_ = d.out.Close()
	}
	var err error
	d.out, err = os.OpenFile(d.file, os.O_WRONLY|os.O_APPEND, 0o600)
	d.lines = len(d.by)
	return err
}

const mostRemembered = 40 * 24 * time.Hour

func (d *dues) close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.out != nil {
		_ = d.out.Close()
		d.out = nil
	}
}

// mostMissed is how many runs that were missed are told of one by one; what was missed
// before them is told as one.
const mostMissed = 100

// periodic is a measurement that is made at its times.
type periodic struct {
	key    string
	when   *schedule.Schedule
	do     func(ctx context.Context, x due)
	missed func(from, to time.Time, reason string)
	// broken tells of one that was begun and never ended.
	broken func(x due)
}

const (
	wasBusy   = "the one before it was still going on, or this host was asleep"
	wasDown   = "this program was not running"
	wasKilled = "this program was stopped in the middle"
)

// atTimes carries a measurement out at its times until ctx ends. The first is made at once,
// where an interval alone says when, unless it goes on from before this program was started:
// then what was begun is not begun again, and what was due meanwhile was missed.
func (a *Agent) atTimes(ctx context.Context, p periodic) {
	var at time.Time // of the run that is due; zero when none is any more
	first := false
	last, known := a.dues.last(p.key)
	if known && !last.Over {
		last.Over = true
		a.dues.set(last)
		p.broken(last)
	}
	now := time.Now()
	switch goesOn := known && a.goesOn(p.key) && !last.At.After(now); {
	case goesOn:
		at = p.skip(last.At, now, wasDown)
	case p.when.AtOnce(now):
		at, first = now, true
	default:
		at = p.when.Next(now)
	}
	for !at.IsZero() && sleepUntil(ctx, at) {
		x := due{Key: p.key, At: at, ID: ident.New(), Began: time.Now()}
		a.dues.set(x)
		p.do(ctx, x)
		x.Over = true
		ended := a.dues.setLater(x)
		if first { // its time was nobody's plan: it is in nobody's way
			at, first = p.when.Next(time.Now()), false
		} else {
			at = p.skip(at, time.Now(), wasBusy)
		}
		if at.IsZero() {
			ended()
			break
		}
		goesOn := sleepUntil(ctx, at)
		ended()
		if !goesOn {
			return
		}
	}
	<-ctx.Done() // what has no times any more is not begun anew
}

// goesOn reports, once, whether a task was carried out before this program was started.
func (a *Agent) goesOn(key string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	is := a.before[key]
	delete(a.before, key)
	return is
}

// skip tells of the runs behind a time whose times have passed, and returns when the next one
// is due; zero when none is any more.
func (p periodic) skip(at, now time.Time, reason string) time.Time {
	var passed []time.Time // the newest
	var first time.Time    // of those before them
	next := p.when.Next(at)
	for ; !next.IsZero() && !next.After(now); next = p.when.Next(next) {
		if len(passed) == mostMissed {
			if first.IsZero() {
				first = passed[0]
			}
			passed = passed[1:]
		}
		passed = append(passed, next)
	}
	if !first.IsZero() {
		p.missed(first, passed[0], reason)
	}
	for _, x := range passed {
		p.missed(x, x, reason)
	}
	return next
}

func sleepUntil(ctx context.Context, at time.Time) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(time.Until(at)):
		return true
	}
}

// keepPlan writes down what is to be done, for a start at which the service is away.
func (a *Agent) keepPlan() {
	a.mu.Lock()
	p := a.given
	a.mu.Unlock()
	data, err := json.Marshal(p)
	if err != nil || string(data) == a.keptPlan {
		return
	}
	if err := writeWhole(a.planFile(), p); err != nil {
		a.log.Error("the plan could not be kept for the next start", "error", err)
		return
	}
	a.keptPlan = string(data)
}

func (a *Agent) planFile() string { return filepath.Join(a.options.Dir, "plan.json") }
