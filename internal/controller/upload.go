package controller

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

const uploadTime = 15 * time.Second

// Upload takes what an agent measured: it keeps it, judges it and tells the
// listeners. On an error nothing is kept; it wraps protocol.ErrRefused when the same would be
// refused again.
func (c *Controller) Upload(ctx context.Context, u protocol.Upload) error {
	// A database that does not answer is not waited for: the agent holds back better.
	ctx, cancel := context.WithTimeout(ctx, uploadTime)
	defer cancel()
	err := c.checkUpload(u)
	var list []result
	if err == nil {
		list, err = c.sort(&u)
	}
	if err == nil {
		err = c.keep(ctx, &u)
		c.noteAway(err)
	}
	if errors.Is(err, ErrInvalid) || errors.Is(err, store.ErrUnfit) {
		return fmt.Errorf("%w: %w", protocol.ErrRefused, err)
	}
	if err != nil {
		return err
	}
	c.noteBack(ctx)
	c.judge(ctx, u)
	c.tell(ctx, u.Agent, list)
	return nil
}

// keep compares what is in an upload with what is known, marks it, and stores it.
func (c *Controller) keep(ctx context.Context, u *protocol.Upload) error {
	c.fill(u)

	if err := c.compareSweeps(ctx, u); err != nil {
		return err
	}
	if err := c.compareTraces(ctx, u); err != nil {
		return err
	}
	c.markDisturbed(u.Readings)
	c.noteClock(ctx, u.Agent, markClock(u, c.options.Now()))
	return c.store.SaveUpload(ctx, *u)
}

// judge judges the paths by the readings of an upload, and tells the listeners.
func (c *Controller) judge(ctx context.Context, u protocol.Upload) {
	slices.SortStableFunc(u.Readings, func(a, b protocol.Record) int { return a.Reading.At.Compare(b.Reading.At) })
	var episodes []store.Episode
	changed := map[ident.ID]bool{}
	var moved []*pathState // paths whose episodes or routes changed
	over := false          // an episode is
	for _, t := range u.Traces {
		keep, paths := c.takeTrace(u.Agent, t)
		episodes, moved = append(episodes, keep...), append(moved, paths...)
	}
	for _, r := range u.Readings {
		c.mu.RLock()
		p := c.paths[r.Path]
		c.mu.RUnlock()
		if p == nil {
			continue
		}
		happened, keep, stands := p.take(r)
		if len(happened) > 0 && !slices.Contains(moved, p) {
			moved = append(moved, p)
		}
		if c.noteChanges(happened) {
			over = true
		}
		episodes = append(episodes, keep...)
		changed[r.Path] = changed[r.Path] || stands
		c.publish(Event{Kind: NewReading, Path: r.Path, Reading: &r})
	}
	if err := c.store.SaveEpisodes(ctx, episodes); err != nil {
		c.log.Error("episodes could not be kept; they are kept with the next reading", "error", err)
		c.retryEpisodes(episodes)
	}
	if over {
		if err := c.endIncidents(ctx); err != nil {
			c.log.Error("incidents could not be kept; they are kept later", "error", err)
		}
	}
	if err := c.saveGuards(ctx, moved...); err != nil {
		c.log.Error("how paths are guarded could not be kept; it is kept with the next training", "error", err)
	}
	if len(u.Sweeps) > 0 {
		c.publish(Event{Kind: EventKind(kind.In("sweeps").News)})
	}
	if len(u.Traces) > 0 {
		c.publish(Event{Kind: EventKind(kind.In("traces").News)})
	}
	for path, is := range changed {
		if is {
			c.publish(Event{Kind: StateChanged, Path: path})
		}
	}
}

// takeTrace takes in the route that a trace found, on all paths that it is the way of. It
// returns the episodes to be kept, and the paths whose route became another.
func (c *Controller) takeTrace(agent ident.ID, t protocol.Trace) (keep []store.Episode, moved []*pathState) {
	if t.Report == nil || t.Outcome != protocol.Done {
		return nil, nil
	}
	c.devices.note(t.Report)
	c.mu.RLock()
	var paths []*pathState
	for _, p := range c.paths {
		if p.AgentID == agent && p.Target == t.Target && p.Family == t.Family {
			paths = append(paths, p)
		}
	}
	c.mu.RUnlock()
	for _, p := range paths {
		episodes, is := p.takeRoute(t.Started, t.Report)
		keep = append(keep, rowsOf(episodes)...)
		if is || len(episodes) > 0 {
			moved = append(moved, p)
		}
	}
	if len(moved) > 0 {
		c.incidents.mu.Lock()
		c.lookSoon()
		c.incidents.mu.Unlock()
	}
	return keep, moved
}

// retryEpisodes marks episodes so that they are saved with the next reading.
func (c *Controller) retryEpisodes(episodes []store.Episode) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	for _, e := range episodes {
		if p := c.paths[e.PathID]; p != nil {
			p.mu.Lock()
			p.unsaved = append(p.unsaved, e)
			p.mu.Unlock()
		}
	}
}

// noteAway remembers that the database is away, and why, if that is what an error says.
func (c *Controller) noteAway(err error) {
	if !errors.Is(err, store.ErrAway) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.awaySince.IsZero() {
		c.awaySince = time.Now()
		c.log.Error("the database takes nothing; readings are held back", "error", err, "cause", store.Cause(err))
	}
	c.awayWhy = c.sayWhy(err)
}

// sayWhy says in words for everybody why the database takes nothing.
func (c *Controller) sayWhy(err error) string {
	if says := c.options.Disk(); says != "" {
		return says
	}
	var text string
	for _, part := range strings.Split(err.Error(), ": ") {
		text = part // the last says why
	}
	return text
}

// noteBack says that the database was away, once it is back and what was held
// back is being written.
func (c *Controller) noteBack(ctx context.Context) {
	c.mu.Lock()
	since, why := c.awaySince, c.awayWhy
	c.awaySince, c.awayWhy = time.Time{}, ""
	c.mu.Unlock()
	if since.IsZero() {
		return
	}
	c.Notify(ctx, "database_back", fmt.Sprintf("The database took nothing from %s for %s: %s. Readings were held back meanwhile and are being written now.",
		since.In(c.zone).Format("15:04:05"), time.Since(since).Round(time.Second), why))
}

// Away is since when the database takes nothing, and why; zero while it does.
func (c *Controller) Away() (time.Time, string) {
	since, err := c.store.Away()
	c.mu.RLock()
	defer c.mu.RUnlock()
	if !since.IsZero() && (c.awaySince.IsZero() || since.Before(c.awaySince)) {
		return since, c.sayWhy(err)
	}
	return c.awaySince, c.awayWhy
}

// Notify keeps a notice and tells the listeners.
func (c *Controller) Notify(ctx context.Context, kind, text string) {
	c.log.Warn(text, "notice", kind)
	if err := c.store.SaveNotice(ctx, store.Notice{ID: ident.New(), At: time.Now().UTC(), Kind: kind, Text: text}); err != nil {
		c.log.Error("a notice could not be kept", "error", err)
	}
	c.publish(Event{Kind: NewNotice})
}

// noteGaps records the time up to now in which the paths of an agent were to be measured
// without a pause and were not, the service being down. Of periodic watches the agent
// tells itself.
func (c *Controller) noteGaps(ctx context.Context, agent ident.ID, now time.Time) {
	var u protocol.Upload
	c.mu.RLock()
	for _, w := range c.watches {
		if w.Paused || w.Spec.Every > 0 {
			continue
		}
		for _, id := range w.Paths {
			p := c.paths[id]
			if p == nil || p.AgentID != agent {
				continue
			}
			end := p.lastEnd()
			// A minute in progress is taken up again from the agent's journal.
			if end.IsZero() || now.Sub(end) < 2*time.Minute {
				continue
			}
			u.Runs = append(u.Runs, protocol.Run{ID: ident.New(), Watch: w.ID, Path: id, Started: end, Ended: now, Outcome: protocol.Missed, Reason: "the service was not running"})
		}
	}
	c.mu.RUnlock()
	if len(u.Runs) == 0 {
		return
	}
	if err := c.store.SaveUpload(ctx, u); err != nil {
		c.log.Error("missed runs could not be recorded", "error", err)
	}
}

// HeldBack is how many readings waited for the database when it was last asked.
func (c *Controller) HeldBack() int {
	c.mu.RLock()
	defer c.mu.RUnlock()
	n := 0
	for _, a := range c.agents {
		if a.worker != nil {
			n += a.worker.HeldBack()
		}
	}
	return n
}
