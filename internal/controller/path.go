package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	normal "woodlark.example/core/normal"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
	"woodlark.example/internal/store"
)

const (
	resumeReadings = 96                  // that a judge is given back at start
	episodeMemory  = 14 * 24 * time.Hour // of episodes that are looked at for findings
	// TraceSlots of TraceSpan are the last day in small.
	TraceSlots = 144
	TraceSpan  = 10 * time.Minute
)

// pathState is a path and what is known of it.
type pathState struct {
	store.Path

	mu         sync.Mutex
	guard      guarding
	pinned     bool
	taken      time.Time       // when the baseline was
	tried      time.Time       // to train it
	first      time.Time       // reading
	last       *plan.Record    // that was judged or, of a path that no watch measures, asked for
	judged     time.Time       // the last reading that was
	continuous time.Time       // the last reading of a continuous watch
	episodes   []store.Episode // of the last days, oldest first
	unsaved    []store.Episode
	trace      [TraceSlots]*store.Slot // by time modulo a day
	told       baseline.State          // the state that listeners were told of
}

func (c *Controller) newPathState(p store.Path) *pathState {
	return &pathState{Path: p, guard: newGuarding(guard.NewPath(&c.guards, spreadOf(p.ID))), told: baseline.StateUnmeasured}
}

// load takes up what the database knows of the path.
func (p *pathState) load(ctx context.Context, c *Controller) error {
	now := time.Now()
	last, err := c.store.LastReadings(ctx, p.ID, resumeReadings, now.Add(time.Minute))
	if err != nil {
		return err
	}
	if p.episodes, err = c.store.Episodes(ctx, p.ID, now.Add(-episodeMemory), now.Add(time.Hour)); err != nil {
		return err
	}
	if len(last) > 0 {
		p.last = &last[len(last)-1]
		p.judged = p.last.Reading.At
		if p.first, _, err = c.store.Bounds(ctx, p.ID); err != nil {
			return err
		}
	}
	if err := p.resume(ctx, c, last); err != nil {
		return err
	}
	slots, err := c.store.Rollups(ctx, p.ID, TraceSpan, now.Add(-24*time.Hour), now)
	if err != nil {
		return err
	}
	for _, s := range slots {
		p.keepSlot(s)
	}
	return nil
}

// resume takes up how the path was guarded, with its last readings.
func (p *pathState) resume(ctx context.Context, c *Controller, last []plan.Record) error {
	var points []normal.Point
	for _, r := range last {
		points = append(points, normal.PointOf(r.Reading))
	}
	b, err := p.loadBaseline(ctx, c)
	if err != nil {
		return err
	}
	stored, found, err := c.store.GuardOf(ctx, p.ID)
	if err != nil {
		return err
	}
	k := kept{IDs: map[int]ident.ID{}}
	if found {
		if err := json.Unmarshal([]byte(stored.State), &k); err != nil {
			return fmt.Errorf("read how path %s is guarded: %w", p.ID, err)
		}
	} else {
		// It was guarded otherwise before, or is new: what was open then is over with what
		// opened it.
		k.Guard.First, k.Guard.Next = p.first, time.Now()
		if k.Guard.Answered, err = c.store.Answered(ctx, p.ID); err != nil {
			return err
		}
		if err := p.closeOld(ctx, c); err != nil {
			return err
		}
	}
	p.guard = newGuarding(guard.Resume(&c.guards, spreadOf(p.ID), k.Guard, b, points))
	p.guard.ids = k.IDs
	return nil
}

// loadBaseline reads the newest baseline of a path, the pinned one before others; nil when
// there is none, or it is of a kind that is not read any more.
func (p *pathState) loadBaseline(ctx context.Context, c *Controller) (b *normal.Baseline, err error) {
	baselines, err := c.store.Baselines(ctx, p.ID, true)
	if err != nil {
		return nil, err
	}
	for i, stored := range baselines { // newest first; a pinned one goes before
		if i > 0 && !stored.Pinned {
			continue
		}
		var read normal.Baseline
		if err := json.Unmarshal([]byte(stored.Body), &read); err != nil {
			return nil, fmt.Errorf("read the baseline of path %s: %w", p.ID, err)
		}
		if len(read.Models) == 0 {
			continue // of an earlier version: it is learnt anew
		}
		b, p.pinned, p.taken = &read, stored.Pinned, stored.TakenAt
		if stored.Pinned {
			break
		}
	}
	return b, nil
}

// closeOld closes the episodes that an earlier version left open, at the last reading.
func (p *pathState) closeOld(ctx context.Context, c *Controller) error {
	var list []store.Episode
	for i := range p.episodes {
		if p.episodes[i].ToAt == nil {
			to := time.Now().UTC()
			if p.last != nil {
				to = p.last.Reading.At.Add(p.last.Reading.Span).UTC()
			}
			p.episodes[i].ToAt = &to
			list = append(list, p.episodes[i])
		}
	}
	return c.store.SaveEpisodes(ctx, list)
}

// EpisodeOf reads a stored episode.
func EpisodeOf(e store.Episode) baseline.Episode {
	out := baseline.Episode{Kind: baseline.Kind(e.Kind), From: e.FromAt}
	if e.ToAt != nil {
		out.To = *e.ToAt
	}
	_ = json.Unmarshal([]byte(e.Excesses), &out.Excesses)
	return out
}

func (p *pathState) keepSlot(s store.Slot) {
	p.trace[int(s.At.Unix()/int64(TraceSpan.Seconds()))%TraceSlots] = &s
}

// cause is what the newest reading says of refusals; p.mu is held.
func (p *pathState) cause() string {
	if p.last == nil || p.last.Reading.Refused == 0 || p.last.Reading.Answered > 0 {
		return ""
	}
	return p.last.Reading.Cause
}

func (p *pathState) lastEnd() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.last == nil {
		return time.Time{}
	}
	return p.last.Reading.At.Add(p.last.Reading.Span)
}

// take judges a reading. It returns the episodes that are to be kept, and
// whether the path's standing changed.
func (p *pathState) take(r plan.Record) (keep []store.Episode, changed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.judges(r) {
		if p.judged.IsZero() && (p.last == nil || r.Reading.At.After(p.last.Reading.At)) {
			p.last = &r
		}
		return nil, false
	}
	keep, p.unsaved = p.unsaved, nil
	p.last, p.judged = &r, r.Reading.At
	if p.first.IsZero() {
		p.first = r.Reading.At
	}
	changes := p.guard.Add(normal.PointOf(r.Reading))
	kept, changed := p.noteAll(changes)
	return append(keep, kept...), changed
}

// noteAll takes changes of episodes into the list and returns them as they are kept, and
// whether the path's standing changed.
func (p *pathState) noteAll(changes []guard.Change) (keep []store.Episode, changed bool) {
	for _, change := range changes {
		keep = append(keep, p.note(change))
		changed = changed || change.What != guard.Worse && change.What != guard.Easing
	}
	return keep, changed
}

// judges says whether the path is judged by a reading: not by one that somebody
// asked for, nor by one that was judged already, nor by the runs of a periodic
// watch beside a continuous one, whose minutes hold the same time.
func (p *pathState) judges(r plan.Record) bool {
	if r.Run.IsZero() {
		p.continuous = r.Reading.At
	}
	if r.Flags&plan.Jumped != 0 && r.Reading.At.Before(p.judged) {
		p.judged = r.Reading.At.Add(-1) // the clock was set back: judging goes on from there
	}
	beside := !r.Run.IsZero() && r.Reading.At.Sub(p.continuous) < 5*time.Minute
	return r.Flags&plan.NotJudged == 0 && !beside && r.Reading.At.After(p.judged)
}

// note takes a change of an episode into the list and returns it as it is kept.
func (p *pathState) note(c guard.Change) store.Episode {
	x := episodeOf(c.Episode)
	excesses, _ := json.Marshal(x.Excesses)
	e := store.Episode{PathID: p.ID, Kind: string(x.Kind), FromAt: x.From.UTC(), Excesses: string(excesses)}
	if !x.Open() {
		to := x.To.UTC()
		e.ToAt = &to
	}
	if id, ok := p.guard.ids[c.Number]; ok {
		e.ID = id
		for i := range p.episodes {
			if p.episodes[i].ID == id {
				p.episodes[i] = e
				return e
			}
		}
	} else {
		e.ID = ident.New()
		p.guard.ids[c.Number] = e.ID
	}
	p.episodes = append(p.episodes, e)
	return e
}

func (p *pathState) pastEpisodes() []baseline.Episode {
	list := make([]baseline.Episode, len(p.episodes))
	for i, e := range p.episodes {
		list[i] = EpisodeOf(e)
	}
	return list
}

// View is a path as it stands at a time.
type View struct {
	store.Path
	Agent       store.Agent
	Watches     []string
	Tags        []string
	Watched     bool // by a watch that is not paused
	Verdict     baseline.Verdict
	Findings    []finding.Finding
	Last        *plan.Record
	Normal      map[baseline.Measure]baseline.Normal // at the time of the last reading
	Resolution  baseline.Resolution
	Baseline    *baseline.Baseline
	Pinned      bool
	TakenAt     time.Time
	Daily       *baseline.Daily
	LastEpisode *store.Episode
	Trace       []*store.Slot // the last day; not to be changed
	Throughput  *Throughput   // nil when none was measured
	Beside      *Throughput   // that of another far end at the target's site; nil when none was measured
}

// watchesByPath is called with the controller's mu held for reading.
func (c *Controller) watchesByPath() map[ident.ID][]*Watch {
	index := make(map[ident.ID][]*Watch, len(c.paths))
	for _, w := range c.sortedWatches() {
		for _, id := range w.Paths {
			index[id] = append(index[id], w)
		}
	}
	return index
}

// view is called with the controller's mu held for reading. watches are those
// of the path.
func (c *Controller) view(p *pathState, watches []*Watch, now time.Time) View {
	v := View{Path: p.Path, Throughput: c.throughputOf(p), Beside: c.throughputBeside(p)}
	if a := c.agents[p.AgentID]; a != nil {
		v.Agent = a.Agent
	}
	patience := 3 * time.Minute
	for _, w := range watches {
		v.Watches = append(v.Watches, w.Name)
		v.Tags = append(v.Tags, w.Spec.Tags...)
		v.Watched = v.Watched || !w.Paused
		patience = max(patience, w.Spec.patience())
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	v.Verdict = p.guard.verdict(now, patience)
	v.Last, v.Pinned, v.TakenAt, v.Baseline = p.last, p.pinned, p.taken, p.guard.known
	v.Daily = p.guard.daily()
	if v.Verdict.Never {
		v.Verdict.Since = p.first // the judge remembers only the last readings
	}
	if p.last != nil {
		v.Normal = map[baseline.Measure]baseline.Normal{}
		for _, m := range baseline.Measures() {
			if n, resolution, ok := v.Baseline.At(m, p.last.Reading.At); ok {
				v.Normal[m], v.Resolution = n, resolution
			}
		}
	}
	if n := len(p.episodes); n > 0 {
		e := p.episodes[n-1]
		v.LastEpisode = &e
	}
	v.Findings = finding.OfPath(finding.Standing{Verdict: v.Verdict, Now: now, Cause: p.cause(), Properties: p.guard.Properties(), Zone: c.zone, Past: p.pastEpisodes()})
	oldest := now.Add(-24 * time.Hour)
	v.Trace = make([]*store.Slot, 0, TraceSlots)
	for _, s := range p.trace {
		if s != nil && s.At.After(oldest) {
			v.Trace = append(v.Trace, s)
		}
	}
	return v
}

// Severity orders paths: how much worse than normal, in multiples of what is
// worth caring about.
func (v View) Severity() float64 {
	switch {
	case v.Verdict.State == baseline.StateLost && !v.Verdict.Never:
		return 1e6
	case v.Verdict.State == baseline.StateLost:
		return 1
	case v.Verdict.State == baseline.StateDegraded:
		worst := 0.0
		for _, x := range v.Verdict.Episode.Excesses {
			worst = max(worst, x.Severity())
		}
		return 100 + min(worst, 1e5)
	case v.Verdict.State == baseline.StateUnmeasured:
		return 0.5
	case v.Daily != nil:
		return 10
	case v.LastEpisode != nil && v.LastEpisode.ToAt != nil && time.Since(*v.LastEpisode.ToAt) < 24*time.Hour:
		return 5
	}
	return 0
}
