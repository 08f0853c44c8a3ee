package controller

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
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

// pathState is a path and what is known of it.
type pathState struct {
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
}

func (c *Controller) newPathState(p store.Path) *pathState {
	return &pathState{Path: p, guard: guard.NewPath(&c.guards, spreadOf(p.ID)), ids: map[int]ident.ID{}, told: guard.StateUnmeasured}
}

// spreadOf says when in the day a path is trained, always the same for a path.
func spreadOf(id ident.ID) float64 {
	const day = 24 * time.Hour
	return float64(Phase(id, day)) / float64(day)
}

// kept is how a path is guarded, as it is stored.
type kept struct {
	Guard guard.Record     `json:"guard"`
	IDs   map[int]ident.ID `json:"ids"`
}

// record is how the path is guarded, to be stored; p.mu is held.
func (p *pathState) record() (string, error) {
	data, err := json.Marshal(kept{p.guard.Record(), p.ids})
	return string(data), err
}

// load takes up what the database knows of the path.
func (p *pathState) load(ctx context.Context, c *Controller) error {
	now := time.Now()
	last, err := c.store.LastReadings(ctx, p.ID, resumeReadings, now.Add(time.Minute))
	if err != nil {
		return err
	}
	rows, err := c.store.Episodes(ctx, p.ID, now.Add(-episodeMemory), now.Add(time.Hour))
	if err != nil {
		return err
	}
	for _, row := range rows {
		p.episodes = append(p.episodes, EpisodeOf(row))
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
func (p *pathState) resume(ctx context.Context, c *Controller, last []protocol.Record) error {
	var points []baseline.Point
	for _, r := range last {
		points = append(points, baseline.PointOf(r.Reading))
	}
	b, from, err := c.readBaseline(ctx, p.ID)
	if err != nil {
		return err
	}
	if b != nil {
		p.pinned, p.taken, p.using = from.Pinned, from.TakenAt, from.ID
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
	p.guard, p.ids = guard.Resume(&c.guards, spreadOf(p.ID), k.Guard, b, points), k.IDs
	return nil
}

// readBaseline reads the newest baseline of a path, the pinned one before others; nil when
// there is none, or it is of a kind that is not read any more.
func (c *Controller) readBaseline(ctx context.Context, path ident.ID) (b *baseline.Baseline, from store.Baseline, err error) {
	baselines, err := c.store.Baselines(ctx, path, true)
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

// closeOld closes the episodes that an earlier version left open, at the last reading.
func (p *pathState) closeOld(ctx context.Context, c *Controller) error {
	var list []store.Episode
	for i := range p.episodes {
		e := &p.episodes[i]
		if !e.Open() {
			continue
		}
		e.To = time.Now().UTC()
		if p.last != nil {
			e.To = p.last.Reading.At.Add(p.last.Reading.Span).UTC()
		}
		e.OverToldAt = e.To
		list = append(list, e.row())
	}
	return c.store.SaveEpisodes(ctx, list)
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

// take judges a reading. It returns what happened to the path's episodes, how they are to be
// kept, and whether the path's standing changed.
func (p *pathState) take(r protocol.Record) (changes []guard.Change, keep []store.Episode, changed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
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
func (p *pathState) judges(r protocol.Record) bool {
	if r.Run.IsZero() {
		p.continuous = r.Reading.At
	}
	if r.Flags&protocol.Jumped != 0 && r.Reading.At.Before(p.judged) {
		p.judged = r.Reading.At.Add(-1) // the clock was set back: judging goes on from there
	}
	beside := !r.Run.IsZero() && r.Reading.At.Sub(p.continuous) < 5*time.Minute
	return r.Flags&protocol.NotJudged == 0 && !beside && r.Reading.At.After(p.judged)
}

// View is a path as it stands at a time.
type View struct {
	store.Path
	Agent      store.Agent
	Watches    []string
	Tags       []string
	Watched    bool // by a watch that is not paused
	Verdict    guard.Verdict
	Open       []OpenEpisode // the one that counts most first
	Findings   []finding.Finding
	Last       *protocol.Record
	Baseline   *baseline.Baseline // nil when there is none yet
	Pinned     bool
	TakenAt    time.Time
	Properties []guard.Property
	Over       *Episode      // the newest episode that is over, of the last days
	Trace      []*store.Slot // the last day; not to be changed
	Throughput *Throughput   // nil when none was measured
	Beside     *Throughput   // that of another far end at the target's site; nil when none was measured
}

// OpenEpisode is an episode that goes on.
type OpenEpisode struct {
	Episode
	Findings []finding.Finding   // the first says all that matters
	Incident ident.ID            // that it is part of; none when it is of none
	Call     func(string) string // says what an address is called, and whose it is
}

// Rhythm is what comes back at hours of its own; nil when nothing does.
func (v View) Rhythm() *guard.Property {
	for i := range v.Properties {
		if p := &v.Properties[i]; (p.Kind == guard.Daily || p.Kind == guard.Weekly) && p.EndedAt.IsZero() {
			return p
		}
	}
	return nil
}

// Waiting are the properties that wait for somebody to say that they are normal.
func (v View) Waiting() (list []guard.Property) {
	for _, p := range v.Properties {
		if p.Waits() {
			list = append(list, p)
		}
	}
	return list
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

// shared are the incidents that go on, by the paths that are part of them.
func (c *Controller) shared() map[guard.Key][]Incident {
	by := map[guard.Key][]Incident{}
	for _, x := range c.OpenIncidents() {
		for _, m := range x.Members {
			by[m.Path] = append(by[m.Path], x)
		}
	}
	return by
}

// about is what views of paths rest on beside the paths themselves.
type about struct {
	watches map[ident.ID][]*Watch
	shared  map[guard.Key][]Incident
	now     time.Time
}

// about is called with the controller's mu held for reading.
func (c *Controller) about(now time.Time) about {
	return about{c.watchesByPath(), c.shared(), now}
}

// view is called with the controller's mu held for reading.
func (c *Controller) view(p *pathState, with about) View {
	v := View{Path: p.Path, Throughput: c.throughputOf(p), Beside: c.throughputBeside(p)}
	if a := c.agents[p.AgentID]; a != nil {
		v.Agent = a.Agent
	}
	patience := 3 * time.Minute
	for _, w := range with.watches[p.ID] {
		v.Watches = append(v.Watches, w.Name)
		v.Tags = append(v.Tags, w.Spec.Tags...)
		v.Watched = v.Watched || !w.Paused
		patience = max(patience, w.Spec.patience())
	}
	now, shared := with.now, with.shared[c.keyOf(p)]
	p.mu.Lock()
	defer p.mu.Unlock()
	v.Verdict = p.guard.Verdict(now, patience)
	v.Last, v.Pinned, v.TakenAt, v.Baseline = p.last, p.pinned, p.taken, p.guard.Judge().Baseline()
	v.Properties = slices.Clone(p.guard.Properties())
	if v.Verdict.Never {
		v.Verdict.Since = p.first
	}
	for _, e := range slices.Backward(p.episodes) {
		if !e.Open() {
			v.Over = &e
			break
		}
	}
	why := func(number int) finding.Why {
		w := finding.Why{Name: c.devices.call}
		if e, ok := p.episode(number); ok {
			w.Route, w.Seen = e.Route, e.Seen
		}
		for i := range shared {
			if shared[i].Has(c.keyOf(p), number) {
				w.Shared = &shared[i].Incident
			}
		}
		return w
	}
	standing := finding.Standing{Verdict: v.Verdict, Now: now, Baseline: v.Baseline, Cause: p.cause(), Properties: v.Properties, Zone: c.zone, Why: why}
	if v.Over != nil {
		standing.Over = &v.Over.Episode
	}
	v.Findings = finding.OfPath(standing)
	for _, o := range v.Verdict.Open {
		e, ok := p.episode(o.Number)
		if !ok {
			continue
		}
		e.Episode = o.Episode
		one := OpenEpisode{Episode: e, Findings: finding.OfEpisode(finding.Told{Episode: o.Episode, Zone: c.zone, Now: now, Why: why(o.Number)}), Call: c.devices.call}
		for _, x := range shared {
			if x.Has(c.keyOf(p), o.Number) {
				one.Incident = x.ID
			}
		}
		v.Open = append(v.Open, one)
	}
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
	switch v.Verdict.State {
	case guard.StateLost:
		if v.Verdict.Never {
			return 50
		}
		return 1e6
	case guard.StateDegraded:
		worst := 0.0
		for _, o := range v.Verdict.Open {
			worst = max(worst, o.Episode.Severity())
		}
		return 100 + min(worst, 1e5)
	case guard.StateUnmeasured:
		return 30
	}
	switch {
	case len(v.Waiting()) > 0:
		return 20
	case v.Rhythm() != nil:
		return 10
	case v.Over != nil && time.Since(v.Over.To) < 24*time.Hour:
		return 5
	}
	return 0
}
