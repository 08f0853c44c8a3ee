package paths

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

const (
	resumeReadings = 96                  // that a judge is given back at start
	episodeMemory  = 14 * 24 * time.Hour // of episodes that are looked at for findings
	// TraceSlots of TraceSpan are the last day in small.
	TraceSlots = 144
	TraceSpan  = 10 * time.Minute
)

// Path is a path and what is known of it. It is safe for concurrent use.
type Path struct {
	store.Path

	mu         sync.Mutex
	guard      *guard.Path
	ids        map[int]ident.ID // of episodes by number
	pinned     bool
	taken      time.Time               // when the baseline was
	using      ident.ID                // the stored baseline that it is judged by
	tried      time.Time               // to train it
	first      time.Time               // reading
	last       *protocol.Record        // that was judged or, of a path that no watch measures, asked for
	judged     time.Time               // the last reading that was
	continuous time.Time               // the last reading of a continuous watch
	episodes   []Episode               // of the last days, oldest first
	unsaved    []store.Episode         // that could not be kept yet
	trace      [TraceSlots]*store.Slot // by time modulo a day
	told       guard.State             // the state that listeners were told of
	windows    []baseline.Interval     // of maintenance
	moved      atomic.Pointer[string]  // where its target is by now, if that is elsewhere than it was
}

// SiteNow is the site of the path's target; "" when it is not known. It is the one to ask: that of
// the stored path is as it was when it was read.
func (p *Path) SiteNow() string {
	if site := p.moved.Load(); site != nil {
		return *site
	}
	return p.Site
}

// Move notes at which sites targets are by now, and keeps where that is otherwise than before.
func (x *Paths) Move(ctx context.Context, siteOf func(target string) string) error {
	moved := map[ident.ID]string{}
	for _, p := range x.All() {
		if site := siteOf(p.Target); site != p.SiteNow() {
			p.moved.Store(&site)
			moved[p.ID] = site
		}
	}
	if len(moved) == 0 {
		return nil
	}
	return x.Store.MovePaths(ctx, moved)
}

func (x *Paths) newPath(p store.Path) *Path {
	return &Path{Path: p, guard: guard.NewPath(&x.Guards, spreadOf(p.ID)), ids: map[int]ident.ID{}, told: guard.StateUnmeasured}
}

// spreadOf says when in the day a path is trained, always the same for a path.
func spreadOf(id ident.ID) float64 {
	const day = 24 * time.Hour
	return float64(id.Phase(day)) / float64(day)
}

// kept is how a path is guarded, as it is stored.
type kept struct {
	Guard guard.Record     `json:"guard"`
	IDs   map[int]ident.ID `json:"ids"`
}

// record is how the path is guarded, to be stored; p.mu is held.
func (p *Path) record() (string, error) {
	data, err := json.Marshal(kept{p.guard.Record(), p.ids})
	return string(data), err
}

// load takes up what the database knows of the path.
func (p *Path) load(ctx context.Context, x *Paths, had stored) error {
	now := had.at
	points, err := x.Store.LastPoints(ctx, p.ID, resumeReadings, now.Add(time.Minute))
	if err != nil {
		return err
	}
	var last []protocol.Record
	if len(points) > 0 {
		if last, err = x.Store.LastReadings(ctx, p.ID, 1, now.Add(time.Minute)); err != nil {
			return err
		}
	}
	for _, row := range had.episodes[p.ID] {
		p.episodes = append(p.episodes, EpisodeOf(row))
	}
	if len(last) > 0 {
		p.last = &last[len(last)-1]
		p.judged = p.last.Reading.At
	}
	if err := p.resume(ctx, x, points, had); err != nil {
		return err
	}
	slots, err := x.Store.Rollups(ctx, p.ID, TraceSpan, now.Add(-24*time.Hour), now)
	if err != nil {
		return err
	}
	for _, s := range slots {
		p.keepSlot(s)
	}
	return nil
}

// resume takes up how the path was guarded, with its last readings.
func (p *Path) resume(ctx context.Context, x *Paths, points []baseline.Point, had stored) (err error) {
	var b *baseline.Baseline
	if had.baselines[p.ID] {
		var from store.Baseline
		if b, from, err = x.readBaseline(ctx, p.ID); err != nil {
			return err
		}
		if b != nil {
			p.pinned, p.taken, p.using = from.Pinned, from.TakenAt, from.ID
		}
	}
	stored, found := had.guards[p.ID]
	k := kept{IDs: map[int]ident.ID{}}
	if found {
		if err := json.Unmarshal([]byte(stored.State), &k); err != nil {
			return fmt.Errorf("read how path %s is guarded: %w", p.ID, err)
		}
	}
	// What a guard knows as the first may be older than what is kept.
	if p.first = k.Guard.First; p.first.IsZero() && len(points) > 0 {
		if p.first, _, err = x.Store.Bounds(ctx, p.ID); err != nil {
			return err
		}
	}
	if !found {
		// It was guarded otherwise before, or is new: what was open then is over with what
		// opened it.
		k.Guard.First, k.Guard.Next = p.first, time.Now()
		if k.Guard.Answered, err = x.Store.Answered(ctx, p.ID); err != nil {
			return err
		}
	}
	p.guard, p.ids = guard.Resume(&x.Guards, spreadOf(p.ID), k.Guard, b, points), k.IDs
	return p.closeOld(ctx, x)
}

// readBaseline reads the newest baseline of a path, the pinned one before others; nil when
// there is none, or it is of a kind that is not read any more.
func (x *Paths) readBaseline(ctx context.Context, path ident.ID) (b *baseline.Baseline, from store.Baseline, err error) {
	baselines, err := x.Store.Baselines(ctx, path, true)
	if err != nil {
		return nil, from, err
	}
	for i, stored := range baselines { // newest first; a pinned one goes before
		if i > 0 && !stored.Pinned {
			continue
		}
		var read baseline.Baseline
		if err := json.Unmarshal([]byte(stored.Body), &read); err != nil {
			return nil, from, fmt.Errorf("read the baseline of path %s: %w", path, err)
		}
		if len(read.Models) == 0 {
			continue // of an earlier version: it is learnt anew
		}
		b, from = &read, stored
		if stored.Pinned {
			break
		}
	}
	return b, from, nil
}

// closeOld closes the episodes that stand open and that the guard knows nothing of, as an earlier
// version or a kill left them, at the last reading. That is told, as any end is.
func (p *Path) closeOld(ctx context.Context, x *Paths) error {
	open := map[ident.ID]bool{}
	for _, o := range p.guard.Open() {
		open[p.ids[o.Number]] = true
	}
	var list []store.Episode
	for i := range p.episodes {
		e := &p.episodes[i]
		if !e.Open() || open[e.ID] {
			continue
		}
		now := time.Now().UTC()
		e.To = now
		if p.last != nil {
			e.To = p.last.Reading.At.Add(p.last.Reading.Span).UTC()
		}
		e.OverToldAt = e.To
		e.matters = []store.Matter{{ID: ident.New(), Subject: e.ID, PathID: &p.ID, What: string(guard.Closed), At: e.To, MadeAt: now}}
		list = append(list, e.row())
		e.matters = nil
	}
	return x.Store.SaveEpisodes(ctx, list)
}

func (p *Path) keepSlot(s store.Slot) {
	p.trace[int(s.At.Unix()/int64(TraceSpan.Seconds()))%TraceSlots] = &s
}

// cause is what the newest reading says of refusals; p.mu is held.
func (p *Path) cause() string {
	if p.last == nil || p.last.Reading.Refused == 0 || p.last.Reading.Answered > 0 {
		return ""
	}
	return p.last.Reading.Cause
}

// LastEnd is up to when it was measured.
func (p *Path) LastEnd() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.last == nil {
		return time.Time{}
	}
	return p.last.Reading.At.Add(p.last.Reading.Span)
}

// Take judges a reading. It returns what happened to the path's episodes, how they are to be
// kept, and whether the path's standing changed.
func (p *Path) Take(r protocol.Record) (changes []guard.Change, keep []store.Episode, changed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.judgesSilence(r) {
		return p.takeLoaded(r)
	}
	if !p.judges(r) {
		if p.judged.IsZero() && (p.last == nil || r.Reading.At.After(p.last.Reading.At)) {
			p.last = &r
		}
		return nil, nil, false
	}
	keep, p.unsaved = p.unsaved, nil
	p.last, p.judged = &r, r.Reading.At
	if p.first.IsZero() {
		p.first = r.Reading.At
	}
	changes = p.guard.Add(baseline.PointOf(r.Reading))
	noted, changed := p.noteAll(changes)
	return changes, append(keep, rowsOf(noted)...), changed
}

// judges says whether the path is judged by a reading: not by one that somebody
// asked for, nor by one that was judged already, nor by the runs of a periodic
// watch beside a continuous one, whose minutes hold the same time.
func (p *Path) judges(r protocol.Record) bool {
	if r.Run.IsZero() {
		p.continuous = r.Reading.At
	}
	if r.Flags&protocol.Jumped != 0 && r.Reading.At.Before(p.judged) {
		p.judged = r.Reading.At.Add(-1) // the clock was set back: judging goes on from there
	}
	beside := !r.Run.IsZero() && r.Reading.At.Sub(p.continuous) < 5*time.Minute
	return r.Flags&protocol.NotJudged == 0 && !beside && r.Reading.At.After(p.judged)
}

// judgesSilence says whether the path is judged by a reading only as to whether it answers: by one
// beside which load runs went on.
func (p *Path) judgesSilence(r protocol.Record) bool {
	if p.first.IsZero() || r.Flags&protocol.NotJudged != protocol.Disturbed {
		return false
	}
	r.Flags &^= protocol.Disturbed
	return p.judges(r)
}

func (p *Path) takeLoaded(r protocol.Record) (changes []guard.Change, keep []store.Episode, changed bool) {
	keep, p.unsaved = p.unsaved, nil
	p.judged = r.Reading.At
	point := baseline.PointOf(r.Reading)
	if p.last == nil || point.Silent() { // it says why nothing was answered
		p.last = &r
	}
	changes = p.guard.AddLoaded(point)
	noted, changed := p.noteAll(changes)
	return changes, append(keep, rowsOf(noted)...), changed
}

// AddFigures judges the path by figures of another measurement of it, once readings of its own
// came.
func (p *Path) AddFigures(point baseline.Point) []guard.Change {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.judged.IsZero() {
		return nil
	}
	return p.guard.Add(point)
}

// Beside judges the path by more probes of the time of its readings.
func (p *Path) Beside(point baseline.Point) []guard.Change {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.judged.IsZero() {
		return nil
	}
	return p.guard.Beside(point)
}

// Suspects reports whether there is some evidence that the path got worse, which does not
// suffice yet.
func (p *Path) Suspects(now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.guard.Suspects(now)
}

// WantsReference reports whether the path is steady by a baseline and its route was not found for
// a while: then nothing stands beside what is found once it gets worse.
func (p *Path) WantsReference(now time.Time, old time.Duration) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.guard.Judge().Baseline() != nil && len(p.guard.Open()) == 0 && !p.guard.Suspects(now) && now.Sub(p.judged) < 10*time.Minute && now.Sub(p.guard.Traced()) > old
}

// IDOf is the identifier of the episode of a number; none when there is no such.
func (p *Path) IDOf(number int) ident.ID {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.ids[number]
}

// OpenEpisodes are those that go on.
func (p *Path) OpenEpisodes() (list []ident.ID) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, o := range p.guard.Open() {
		if id := p.ids[o.Number]; !id.IsZero() {
			list = append(list, id)
		}
	}
	return list
}

// NumberOf is the number of an episode of the path; false when it is none of its.
func (p *Path) NumberOf(episode ident.ID) (number int, ok bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for n, id := range p.ids {
		if id == episode {
			return n, true
		}
	}
	return 0, false
}

// Unsent is why no probe of the newest reading could be sent; empty when some were, or it is of
// long ago.
func (p *Path) Unsent(now time.Time) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.last == nil || p.last.Reading.Sent > 0 || p.last.Reading.Unsent == 0 || now.Sub(p.last.Reading.At) > time.Hour {
		return ""
	}
	if p.last.Reading.Cause == "" {
		return "no probe could be sent"
	}
	return p.last.Reading.Cause
}

// Judged is the last reading that the path was judged by.
func (p *Path) Judged() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.judged
}

// Witness is what the path has to say of an incident.
func (p *Path) Witness(k guard.Key, now time.Time) guard.Witness {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.guard.Witness(k, now)
}

// EpisodeOf is the episode of a number as it is judged now.
func (p *Path) EpisodeOf(number int) (guard.Episode, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.guard.Episode(number)
}

// SetStrict says how strictly the path is judged.
func (p *Path) SetStrict(strict float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.guard.Judge().SetStrict(strict)
}

// SetMaintenance says which stretches are neither judged nor learnt.
func (p *Path) SetMaintenance(list []baseline.Interval) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.guard.SetMaintenance(list)
	p.windows = list
}

// Maintenance are the stretches of the path's own that touch a stretch of time.
func (p *Path) Maintenance(from, to time.Time) (list []baseline.Interval) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, w := range p.windows {
		if w.From.Before(to) && w.To.After(from) {
			list = append(list, w)
		}
	}
	return list
}

// Tell notes the state that listeners are told of, and reports whether it is another.
func (p *Path) Tell(s guard.State) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	changed := s != p.told
	p.told = s
	return changed
}
