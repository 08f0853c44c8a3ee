// Package ingest takes in what agents measured: it checks it, keeps it, judges the paths by it,
// and tells who listens.
//
//	x := ingest.New(ingest.Options{Store: s, Paths: p, …})
//	err := x.Upload(ctx, upload)
package ingest

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"woodlark.example/core/guard"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/conversations"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/incidents"
	"woodlark.example/internal/service/loads"
	"woodlark.example/internal/service/notices"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/suspicion"
	"woodlark.example/internal/store"
)

const uploadTime = 15 * time.Second

// Options of Ingest; all are needed.
type Options struct {
	Store     *store.Store
	Log       *slog.Logger
	Now       func() time.Time    // that agents' clocks are held against
	Owners    func() route.Owners // of prefixes, for the hops of traces
	Events    *events.Stream
	Notices   *notices.Notices
	Fleet     *fleet.Fleet
	Devices   *devices.Devices
	Paths     *paths.Paths
	Incidents *incidents.Incidents
	Loads     *loads.Loads
	Runs      *runs.Runs
	Suspicion *suspicion.Suspicion
	Talks     *conversations.Conversations
}

// Ingest takes in what agents measured. It is safe for concurrent use.
type Ingest struct{ Options }

// New takes in nothing yet.
func New(o Options) *Ingest { return &Ingest{o} }

// Upload takes what an agent measured: it keeps it, judges it and tells the
// listeners. On an error nothing is kept; it wraps protocol.ErrRefused when the same would be
// refused again.
func (x *Ingest) Upload(ctx context.Context, u protocol.Upload) error {
	// A database that does not answer is not waited for: the agent holds back better.
	ctx, cancel := context.WithTimeout(ctx, uploadTime)
	defer cancel()
	err := x.check(u)
	var list []result
	if err == nil {
		list, err = x.sort(&u)
	}
	if err == nil {
		err = x.keep(ctx, &u)
		x.Notices.NoteHeld(err)
	}
	if errors.Is(err, kind.ErrInvalid) || errors.Is(err, store.ErrUnfit) {
		return fmt.Errorf("%w: %w", protocol.ErrRefused, err)
	}
	if err != nil {
		return err
	}
	x.Notices.NoteBack(ctx)
	x.judge(ctx, u)
	x.tell(ctx, u.Agent, list)
	return nil
}

// keep compares what is in an upload with what is known, marks it, and stores it.
func (x *Ingest) keep(ctx context.Context, u *protocol.Upload) error {
	x.fill(u)

	if err := x.compareSweeps(ctx, u); err != nil {
		return err
	}
	if err := x.compareTraces(ctx, u); err != nil {
		return err
	}
	x.markDisturbed(u.Readings)
	x.Fleet.NoteClock(ctx, u.Agent, markClock(u, x.Now()))
	if err := x.Store.SaveUpload(ctx, *u); err != nil {
		return err
	}
	return x.Talks.Take(ctx, u.Agent, u.Conversations)
}

// judge judges the paths by the readings of an upload, and tells the listeners.
func (x *Ingest) judge(ctx context.Context, u protocol.Upload) {
	slices.SortStableFunc(u.Readings, func(a, b protocol.Record) int { return a.Reading.At.Compare(b.Reading.At) })
	var episodes []store.Episode
	changed := map[ident.ID]bool{}
	happenedTo := map[*paths.Path][]guard.Change{}
	var moved []*paths.Path // paths whose episodes or routes changed
	over := false           // an episode is
	for _, t := range u.Traces {
		keep, other := x.takeTrace(u.Agent, t)
		episodes, moved = append(episodes, keep...), append(moved, other...)
	}
	for _, r := range u.Readings {
		p := x.Paths.ByID(r.Path)
		if p == nil {
			continue
		}
		happened, keep, stands := p.Take(r)
		if len(happened)+len(keep) > 0 && !slices.Contains(moved, p) {
			moved = append(moved, p)
		}
		if x.Incidents.Note(happened) {
			over = true
		}
		episodes = append(episodes, keep...)
		changed[r.Path] = changed[r.Path] || stands
		happenedTo[p] = append(happenedTo[p], happened...)
		x.Events.Publish(events.Event{Kind: events.NewReading, Path: r.Path, Reading: &r})
	}
	if err := x.Paths.SaveEpisodes(ctx, episodes, moved...); err != nil {
		x.Log.Error("episodes could not be kept; they are kept with the next reading", "error", err)
	}
	for p, list := range happenedTo {
		x.Paths.Tell(p, list)
		x.Suspicion.Look(p)
	}
	if over {
		if err := x.Incidents.End(ctx); err != nil {
			x.Log.Error("incidents could not be kept; they are kept later", "error", err)
		}
	}
	if len(u.Sweeps) > 0 {
		x.Events.Publish(events.Event{Kind: events.Kind(kind.In("sweeps").News)})
	}
	if len(u.Traces) > 0 {
		x.Events.Publish(events.Event{Kind: events.Kind(kind.In("traces").News)})
	}
	for path, is := range changed {
		if is {
			x.Events.Publish(events.Event{Kind: events.StateChanged, Path: path})
		}
	}
}

// takeTrace takes in the route that a trace found, on all paths that it is the way of. It
// returns the episodes to be kept, and the paths whose route became another.
func (x *Ingest) takeTrace(agent ident.ID, t protocol.Trace) (keep []store.Episode, moved []*paths.Path) {
	if t.Report == nil || t.Outcome != protocol.Done {
		return nil, nil
	}
	x.Devices.Note(t.Report)
	for _, p := range x.Paths.To(agent, t.Target, t.Family) {
		episodes, is := p.TakeRoute(t.Started, t.Report)
		keep = append(keep, episodes...)
		if is || len(episodes) > 0 {
			moved = append(moved, p)
		}
	}
	if len(moved) > 0 {
		x.Incidents.LookSoon()
	}
	return keep, moved
}

// markDisturbed marks readings beside which a load run went on.
func (x *Ingest) markDisturbed(list []protocol.Record) {
	for i := range list {
		r := &list[i]
		p := x.Paths.ByID(r.Path)
		if p == nil {
			continue
		}
		site := ""
		if a := x.Fleet.ByID(p.AgentID); a != nil {
			site = a.Site
		}
		if x.Loads.Disturbed(p.AgentID, site, r.Reading.At, r.Reading.At.Add(r.Reading.Span)) {
			r.Flags |= protocol.Disturbed
		}
	}
}
