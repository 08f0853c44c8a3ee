package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

const (
	gather      = 500 * time.Millisecond // how long finished readings are gathered
	uploadLimit = 60 * time.Second
	retryLeast  = 500 * time.Millisecond
	retryMost   = 10 * time.Second
	mostAtOnce  = 2000 // readings in one upload
	madeAtOnce  = 500
	madeBytes   = 4 << 20 // of their bodies: a sweep may be large
)

// spool keeps readings on disk until the service has them. Every batch is a
// file before it is handed over.
type spool struct {
	agent   ident.ID
	dir     string
	service protocol.Service
	aside   aside
	log     *slog.Logger
	news    chan struct{}

	mu      sync.Mutex
	minutes []journalEntry // whole minutes whose figures are not computed yet
	ready   []protocol.Record
	runs    []protocol.Run
	made    []protocol.Made
	talks   []protocol.Conversation
	held    int // readings in files
	most    int64
	late    time.Duration // of all probes since it was last asked
	timed   int
	dropped int // readings that the full spool had no room for

	away time.Time // since when the service does not take uploads
}

func newSpool(o Options, x aside, log *slog.Logger) *spool {
	return &spool{agent: o.ID, dir: filepath.Join(o.Dir, "spool"), service: o.Service, aside: x, log: log, news: make(chan struct{}, 1), most: o.Most}
}

func (s *spool) addMinute(e journalEntry) {
	s.mu.Lock()
	for _, p := range e.probes {
		s.late += p.SentLate
		s.timed++
	}
	s.minutes = append(s.minutes, e)
	s.mu.Unlock()
	s.tell()
}

func (s *spool) add(r protocol.Record) {
	s.mu.Lock()
	s.ready = append(s.ready, r)
	s.mu.Unlock()
	s.tell()
}

func (s *spool) addRun(r protocol.Run) {
	s.mu.Lock()
	s.runs = append(s.runs, r)
	s.mu.Unlock()
	s.tell()
}

func (s *spool) addMade(x protocol.Made) {
	s.mu.Lock()
	s.made = append(s.made, x)
	s.mu.Unlock()
	s.tell()
}

func (s *spool) addTalk(x protocol.Conversation) {
	s.mu.Lock()
	s.talks = append(s.talks, x)
	s.mu.Unlock()
	s.tell()
}

// takeAll takes what waits in memory; it is called with mu held.
func (s *spool) takeAll() protocol.Upload {
	u := protocol.Upload{Agent: s.agent, Readings: s.ready, Runs: s.runs, Made: s.made, Conversations: s.talks}
	s.ready, s.runs, s.made, s.talks = nil, nil, nil, nil
	return u
}

// putBack puts what could not be written or uploaded before what came meanwhile.
func (s *spool) putBack(u protocol.Upload) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ready, s.runs = append(u.Readings, s.ready...), append(u.Runs, s.runs...)
	s.made, s.talks = append(u.Made, s.made...), append(u.Conversations, s.talks...)
}

// size is how many things an upload holds.
func size(u protocol.Upload) int {
	return len(u.Readings) + len(u.Runs) + len(u.Sweeps) + len(u.Traces) + len(u.TwoEnded) + len(u.Made) + len(u.Conversations)
}

func (s *spool) tell() {
	select {
	case s.news <- struct{}{}:
	default:
	}
}

func (s *spool) waiting() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.held + len(s.minutes) + len(s.ready)
}

// run writes and hands over until stop is closed; then once more.
func (s *spool) run(stop <-chan struct{}) {
	retry := retryLeast
	var again <-chan time.Time
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		s.log.Error("the spool's folder cannot be made", "error", err)
	}
	again = time.After(0) // what an earlier agent left
	for {
		select {
		case <-stop:
			s.write()
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			_ = s.handOver(ctx)
			return
		case <-s.news:
			select {
			case <-time.After(gather):
			case <-stop:
				s.tell()
				continue
			}
			s.write()
			if !s.away.IsZero() {
				continue // the retry is set already
			}
		case <-again:
			s.write()
		}
		again = nil
		ctx, cancel := context.WithTimeout(context.Background(), uploadLimit)
		err := s.handOver(ctx)
		cancel()
		if err == nil {
			retry = retryLeast
			continue
		}
		again = time.After(retry)
		retry = min(2*retry, retryMost)
	}
}

// write turns what has gathered into files. What cannot be written stays in
// memory.
func (s *spool) write() {
	s.mu.Lock()
	minutes, rest := s.minutes, s.takeAll()
	s.minutes = nil
	s.mu.Unlock()
	for _, m := range minutes {
		rest.Readings = append(rest.Readings, m.record(0))
	}
	for size(rest) > 0 {
		n, k := min(len(rest.Readings), mostAtOnce), min(len(rest.Runs), mostAtOnce)
		m, talks := together(rest.Made), min(len(rest.Conversations), mostAtOnce)
		u := protocol.Upload{Agent: s.agent, Readings: rest.Readings[:n], Runs: rest.Runs[:k], Made: rest.Made[:m], Conversations: rest.Conversations[:talks]}
		if err := writeWhole(filepath.Join(s.dir, ident.New().String()+spoolEnding), u); err != nil {
			s.log.Error("readings cannot be written to the spool; they are kept in memory", "readings", len(rest.Readings), "error", err)
			s.putBack(rest)
			return
		}
		s.mu.Lock()
		s.held += n
		s.mu.Unlock()
		rest.Readings, rest.Runs, rest.Made = rest.Readings[n:], rest.Runs[k:], rest.Made[m:]
		rest.Conversations = rest.Conversations[talks:]
	}
	s.bound()
}

// together is how many of the first results go into one upload: one at least.
func together(list []protocol.Made) int {
	bytes := 0
	for i, m := range list {
		if bytes += len(m.Body); i > 0 && bytes > madeBytes || i == madeAtOnce {
			return i
		}
	}
	return len(list)
}

// bound drops the oldest files when there is more than the spool may hold.
func (s *spool) bound() {
	entries, err := os.ReadDir(s.dir)
	if err != nil || s.most <= 0 {
		return
	}
	var all int64
	for _, e := range entries {
		if i, err := e.Info(); err == nil {
			all += i.Size()
		}
	}
	gone := 0
	for _, e := range entries { // their names sort by time
		if all <= s.most {
			break
		}
		name := filepath.Join(s.dir, e.Name())
		i, err := e.Info()
		if err != nil {
			continue
		}
		var u protocol.Upload
		if data, err := os.ReadFile(name); err == nil {
			_ = json.Unmarshal(data, &u)
		}
		if os.Remove(name) == nil {
			all -= i.Size()
			gone += len(u.Readings)
		}
	}
	if gone == 0 {
		return
	}
	s.mu.Lock()
	s.dropped += gone
	s.held = max(0, s.held-gone)
	s.mu.Unlock()
	s.log.Warn("the spool is full: the oldest readings were dropped", "readings", gone, "most_bytes", s.most)
}

// handOver uploads the files, oldest first, until one is not taken. When there
// is no disk to write to, what is in memory is uploaded as it is.
func (s *spool) handOver(ctx context.Context) error {
	entries, err := os.ReadDir(s.dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.log.Error("the spool cannot be read", "error", err)
	}
	names := make([]string, 0, len(entries))
	for _, e := range entries {
		name := filepath.Join(s.dir, e.Name())
		switch {
		case !strings.HasSuffix(e.Name(), spoolEnding):
		case !e.Type().IsRegular():
			s.aside.file(name, errors.New("it is no file that the spool has written"))
		default:
			names = append(names, name)
		}
	}
	slices.Sort(names) // identifiers sort by time
	for _, name := range names {
		if err := s.handOverFile(ctx, name); err != nil {
			return err
		}
	}
	s.mu.Lock()
	u := s.takeAll()
	s.held = 0
	s.mu.Unlock()
	if size(u) > 0 {
		if err := s.deliver(ctx, u); err != nil {
			s.putBack(u)
			return err
		}
	}
	if !s.away.IsZero() {
		s.log.Info("the service takes readings again; those held back are written", "away_for", time.Since(s.away).Round(time.Second))
		s.away = time.Time{}
	}
	return nil
}

const spoolEnding = ".json"

func (s *spool) handOverFile(ctx context.Context, name string) error {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var u protocol.Upload
	if err == nil {
		err = json.Unmarshal(data, &u)
	}
	if err != nil {
		s.aside.file(name, fmt.Errorf("it cannot be read: %w", err))
		return nil
	}
	if err := s.deliver(ctx, u); err != nil {
		return err
	}
	s.mu.Lock()
	s.held = max(0, s.held-len(u.Readings))
	s.mu.Unlock()
	return os.Remove(name)
}

// deliver uploads. What the service will never take is searched out, by halves, and set
// aside; the rest is handed over.
func (s *spool) deliver(ctx context.Context, u protocol.Upload) error {
	err := s.upload(ctx, u)
	if !errors.Is(err, protocol.ErrRefused) {
		return err
	}
	if size(u) <= 1 {
		s.aside.put(ident.New().String()+spoolEnding, u, err)
		return nil
	}
	one, other := halves(u)
	if err := s.deliver(ctx, one); err != nil {
		return err
	}
	return s.deliver(ctx, other)
}

// halves are an upload in two, neither of them empty when it holds two things or more.
func halves(u protocol.Upload) (a, b protocol.Upload) {
	a.Agent, b.Agent = u.Agent, u.Agent
	left := size(u) / 2
	a.Readings, b.Readings = cutAt(u.Readings, &left)
	a.Runs, b.Runs = cutAt(u.Runs, &left)
	a.Sweeps, b.Sweeps = cutAt(u.Sweeps, &left)
	a.Traces, b.Traces = cutAt(u.Traces, &left)
	a.TwoEnded, b.TwoEnded = cutAt(u.TwoEnded, &left)
	a.Made, b.Made = cutAt(u.Made, &left)
	a.Conversations, b.Conversations = cutAt(u.Conversations, &left)
	return a, b
}

// cutAt cuts a list so that its first part has no more than what is left, which it takes
// off that.
func cutAt[T any](list []T, left *int) (a, b []T) {
	n := min(len(list), *left)
	*left -= n
	return list[:n], list[n:]
}

func (s *spool) upload(ctx context.Context, u protocol.Upload) error {
	for i := range u.Readings {
		if end := u.Readings[i].Reading.At.Add(u.Readings[i].Reading.Span); time.Since(end) > 30*time.Second {
			u.Readings[i].Flags |= protocol.HeldBack
		}
	}
	u.SentAt = time.Now()
	err := s.service.Upload(ctx, u)
	if err != nil && !errors.Is(err, protocol.ErrRefused) && s.away.IsZero() {
		s.away = time.Now()
		s.log.Warn("readings are held back until the service takes them", "error", err)
	}
	return err
}
