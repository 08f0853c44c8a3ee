// Package conversations knows whom the programs of agents' machines talk to, where their owners
// allow it: each is measured while it lasts, and kept with what came of it.
//
//	err := x.Take(ctx, agent, upload.Conversations)
//	f, err := x.FiguresOf(ctx, conversation)
package conversations

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/reading"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/fleet"
	"woodlark.example/internal/service/runs"
	"woodlark.example/internal/service/watches"
	"woodlark.example/internal/store"
)

const (
	// mostMeasured are measured at a time from an agent; more are only kept.
	mostMeasured = 50
	// lostAfter is how long an agent may not tell of one before it counts as over: it was stopped.
	lostAfter = 5 * time.Minute
	// fresh is how long after its begin the route of one is worth finding.
	fresh = time.Minute
	// longest is how much of one its figures are of.
	longest = 12 * time.Hour
)

// Options of Conversations; all are needed.
type Options struct {
	Store   *store.Store
	Log     *slog.Logger
	Events  *events.Stream
	Fleet   *fleet.Fleet
	Runs    *runs.Runs
	Watches *watches.Watches
}

// Conversations are those of all agents. It is safe for concurrent use.
type Conversations struct {
	Options
	mu   sync.Mutex
	open map[ident.ID]*open
}

// open is one that goes on.
type open struct {
	store.Conversation
	paths map[ident.ID][]ident.ID // by the watch, or its part, that measures it; nil when none does
}

// New knows of none yet.
func New(o Options) *Conversations { return &Conversations{Options: o, open: map[ident.ID]*open{}} }

// Load takes up those that went on as the service ended: their agents tell whether they do.
func (x *Conversations) Load(ctx context.Context) error {
	list, err := x.Store.Conversations(ctx, store.ConversationFilter{Open: true})
	if err != nil {
		return err
	}
	for _, c := range list {
		o := &open{Conversation: c}
		if w, err := x.Watches.Whole(c.WatchID.String()); err == nil && c.PathID != nil {
			if o.paths, err = x.Watches.PathsTo(ctx, w, c.AgentID, c.Server); err != nil {
				return err
			}
		}
		x.mu.Lock()
		x.open[c.ID] = o
		x.mu.Unlock()
	}
	x.plan()
	return nil
}

// Take takes in what an agent tells. What is told twice is kept once.
func (x *Conversations) Take(ctx context.Context, agent ident.ID, list []protocol.Conversation) error {
	changed := false
	for _, c := range list {
		w, err := x.Watches.Whole(c.Watch.String())
		if err != nil { // it is gone, and nobody wants to know
			continue
		}
		if c.Program == "" && !c.Server.IsValid() {
			x.Watches.NoteFollow(w.ID, agent, c.Reason)
			continue
		}
		is, err := x.take(ctx, agent, w, c)
		if err != nil {
			return err
		}
		changed = changed || is
	}
	if changed {
		x.plan()
		x.Events.Publish(events.Event{Kind: events.WatchChanged})
	}
	return nil
}

// take takes in one; it reports whether what is to be measured is other.
func (x *Conversations) take(ctx context.Context, agent ident.ID, w watches.Watch, c protocol.Conversation) (changed bool, err error) {
	x.mu.Lock()
	o := x.open[c.ID]
	measured := 0
	for _, other := range x.open {
		if other.AgentID == agent && other.paths != nil {
			measured++
		}
	}
	x.mu.Unlock()
	row := store.Conversation{ID: c.ID, WatchID: w.ID, AgentID: agent, Program: c.Program, Protocol: c.Protocol, Server: c.Server.Addr().String(), Port: c.Server.Port(), BeganAt: c.Began.UTC(), SeenAt: c.Seen.UTC()}
	switch old, err := x.Store.Conversation(ctx, c.ID); {
	case err == nil && old.AgentID != agent:
		return false, fmt.Errorf("%w: the conversation %s is another agent's", kind.ErrInvalid, c.ID)
	case err == nil:
		row.PathID, row.RunID, row.Says = old.PathID, old.RunID, old.Says
		if old.EndedAt != nil && c.Ended.IsZero() && !c.Seen.After(*old.EndedAt) {
			return false, nil // told late
		}
	case !errors.Is(err, store.ErrNotFound):
		return false, err
	}
	if !c.Ended.IsZero() {
		ended := c.Ended.UTC()
		row.EndedAt = &ended
	}
	if o == nil && row.EndedAt == nil {
		o = &open{}
		switch {
		case measured >= mostMeasured:
			row.Says = fmt.Sprintf("not measured: %d conversations of this agent are, as many as may be at a time", measured)
		default:
			if o.paths, err = x.Watches.PathsTo(ctx, w, agent, row.Server); err != nil {
				return false, err
			}
			row.PathID = x.pathOf(w, o.paths)
			if row.RunID == nil && time.Since(c.Began) < fresh {
				row.RunID = x.route(ctx, agent, row.Server)
			}
		}
		changed = true
	}
	if err := x.Store.SaveConversation(ctx, row); err != nil {
		return false, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if row.EndedAt != nil {
		changed = changed || x.open[c.ID] != nil
		delete(x.open, c.ID)
		return changed, nil
	}
	o.Conversation = row
	x.open[c.ID] = o
	return changed, nil
}

// pathOf is the path that a conversation's figures are of: of the watch's first measurement that
// has paths.
func (x *Conversations) pathOf(w watches.Watch, by map[ident.ID][]ident.ID) *ident.ID {
	for _, id := range w.IDs() {
		if list := by[id]; len(list) > 0 {
			return &list[0]
		}
	}
	return nil
}

// route has the route to a server found; nil when that cannot begin.
func (x *Conversations) route(ctx context.Context, agent ident.ID, server string) *ident.ID {
	k := kind.In("traces")
	rows, err := x.Runs.Start(ctx, runs.Request{Kind: k, From: x.Fleet.NameOf(agent), Targets: []string{server}, How: k.New(kind.Standing)})
	if err != nil {
		x.Log.Info("the route of a conversation is not found", "server", server, "why", err)
		return nil
	}
	return &rows[0].ID
}

// plan has what goes on measured.
func (x *Conversations) plan() {
	x.mu.Lock()
	var list []watches.Talked
	for _, o := range x.open {
		if o.paths != nil {
			list = append(list, watches.Talked{Conversation: o.ID, Agent: o.AgentID, Server: o.Server, Paths: o.paths})
		}
	}
	x.mu.Unlock()
	slices.SortFunc(list, func(a, b watches.Talked) int { return slices.Compare(a.Conversation[:], b.Conversation[:]) })
	x.Watches.SetTalks(list)
}

// Tick ends those that nobody tells of any more.
func (x *Conversations) Tick(ctx context.Context, now time.Time) error {
	x.mu.Lock()
	var lost []store.Conversation
	for _, o := range x.open {
		if now.Sub(o.SeenAt) > lostAfter {
			lost = append(lost, o.Conversation)
		}
	}
	x.mu.Unlock()
	for _, c := range lost {
		if a := x.Fleet.ByID(c.AgentID); a != nil && a.Proxy() != nil && !a.Here() && now.Sub(c.SeenAt) < 24*time.Hour {
			continue // it tells when it is back
		}
		c.EndedAt = &c.SeenAt
		if err := x.Store.SaveConversation(ctx, c); err != nil {
			return err
		}
		x.mu.Lock()
		delete(x.open, c.ID)
		x.mu.Unlock()
	}
	if len(lost) > 0 {
		x.plan()
	}
	return nil
}

// FiguresOf are the figures of the probes that were sent while a conversation lasted, as far as
// they are there by now. Of one that lasted for long it is its last part; false when there are
// none.
func (x *Conversations) FiguresOf(ctx context.Context, c store.Conversation) (f reading.Figures, ok bool, err error) {
	if c.PathID == nil {
		return f, false, nil
	}
	from, to := c.BeganAt, time.Now()
	if c.EndedAt != nil {
		to = *c.EndedAt
	}
	if to.Sub(from) > longest {
		from = to.Add(-longest)
	}
	list, err := x.Store.Readings(ctx, *c.PathID, from.Add(-time.Minute), to, 0, true)
	if err != nil {
		return f, false, err
	}
	var probes []reading.Probe
	for _, r := range list {
		some, err := reading.Unpack(r.Reading.At, r.Packed)
		if err != nil {
			return f, false, fmt.Errorf("the probes of a reading of %s: %w", r.Reading.At.Format(time.RFC3339), err)
		}
		for _, p := range some {
			if !p.DueAt.Before(from) && !p.DueAt.After(to) {
				probes = append(probes, p)
			}
		}
	}
	if len(probes) == 0 {
		return f, false, nil
	}
	return reading.Of(from, to.Sub(from), 0, 0, probes).Figures(), true, nil
}
