package loads

import (
	"context"
	"slices"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/store"
)

const (
	// kept is for how long it is remembered which load runs went on: readings that an agent
	// held back come late.
	kept = 7 * 24 * time.Hour
	// longest is what a load run whose end is not known is taken to have lasted at most.
	longest = time.Hour
)

// Loads are the load runs that go on, those of before, and what they found. It is safe for
// concurrent use.
type Loads struct {
	turns   turns
	history history
}

// New knows of none.
func New() *Loads {
	return &Loads{turns: turns{going: map[*Claim]time.Time{}}, history: history{by: map[ident.ID][]found{}}}
}

// Claim is what a load run wants for itself: its agents, and the access of their sites.
type Claim struct {
	Agents []ident.ID
	Sites  []string
}

func (c *Claim) touches(agents []ident.ID, sites []string) bool {
	return overlap(c.Agents, agents) || overlap(c.Sites, sites)
}

func overlap[T comparable](a, b []T) bool {
	return slices.ContainsFunc(a, func(x T) bool { return slices.Contains(b, x) })
}

// turns are the load runs that go on, since when, and those of before.
type turns struct {
	mu    sync.Mutex
	going map[*Claim]time.Time
	free  chan struct{} // closed and made anew when a load run ends
	past  []span
}

// span is when a load run went on, and where.
type span struct {
	from, to time.Time
	Claim
}

// Wait waits until no load run is at the same agents or on the same access, and takes the
// turn; Free gives it back, after an error too. It reports whether it had to wait.
func (l *Loads) Wait(ctx context.Context, c *Claim) (waited bool, err error) {
	t := &l.turns
	for {
		t.mu.Lock()
		if !t.inTheWay(c) {
			t.going[c] = time.Now()
			t.mu.Unlock()
			return waited, ctx.Err()
		}
		if t.free == nil {
			t.free = make(chan struct{})
		}
		free := t.free
		t.mu.Unlock()
		waited = true
		select {
		case <-free:
		case <-ctx.Done():
			return waited, ctx.Err()
		}
	}
}

// inTheWay is called with the lock held.
func (t *turns) inTheWay(c *Claim) bool {
	for other := range t.going {
		if other != c && other.touches(c.Agents, c.Sites) {
			return true
		}
	}
	return false
}

// Free gives a turn back, if it was taken, and lets the next begin.
func (l *Loads) Free(c *Claim) {
	t := &l.turns
	t.mu.Lock()
	defer t.mu.Unlock()
	if since, is := t.going[c]; is {
		delete(t.going, c)
		t.remember(span{since, time.Now(), *c})
	}
	if t.free != nil {
		close(t.free)
		t.free = nil
	}
}

// Disturbed reports whether a load run went on at an agent, or on the access of its site, in a
// stretch of time.
func (l *Loads) Disturbed(agent ident.ID, site string, from, to time.Time) bool {
	t := &l.turns
	t.mu.Lock()
	defer t.mu.Unlock()
	agents, sites := []ident.ID{agent}, []string{site}
	if site == "" {
		sites = nil
	}
	for _, s := range t.past {
		if s.from.Before(to) && s.to.After(from) && s.touches(agents, sites) {
			return true
		}
	}
	for c, since := range t.going {
		if since.Before(to) && c.touches(agents, sites) {
			return true
		}
	}
	return false
}

// remember keeps when a load run went on, and forgets those of long ago; the lock is held.
func (t *turns) remember(s span) {
	oldest := s.to.Add(-kept)
	t.past = append(slices.DeleteFunc(t.past, func(old span) bool { return old.to.Before(oldest) }), s)
}

// Load takes up the load runs of before and what they found. One whose end is not known was cut
// off with the service, and is taken to have gone on no longer than it may.
func (l *Loads) Load(ctx context.Context, s *store.Store, agents []store.Agent) error {
	by := make(map[ident.ID]store.Agent, len(agents))
	all := make([]ident.ID, len(agents))
	for i, a := range agents {
		by[a.ID], all[i] = a, a.ID
	}
	if len(all) > 0 {
		now := time.Now()
		list, err := s.LoadsBeside(ctx, kind.Loads(), all, now.Add(-kept), now)
		if err != nil {
			return err
		}
		l.turns.mu.Lock()
		for _, t := range list {
			l.turns.past = append(l.turns.past, spanOf(t, by))
		}
		l.turns.mu.Unlock()
	}
	list, err := s.TwoEndedList(ctx, store.TwoEndedFilter{Kinds: kind.Loads(), From: time.Now().Add(-usualFor), Page: store.Page{Limit: 20_000}})
	for _, t := range slices.Backward(list) {
		l.Add(t)
	}
	return err
}

func spanOf(t store.TwoEnded, by map[ident.ID]store.Agent) span {
	s := span{from: t.StartedAt, to: t.StartedAt.Add(longest)}
	if t.EndedAt != nil && t.EndedAt.Before(s.to) {
		s.to = *t.EndedAt
	}
	for _, id := range []ident.ID{t.AgentID, t.FarID} {
		if a, is := by[id]; is {
			s.Agents = append(s.Agents, id)
			if a.Site != "" {
				s.Sites = append(s.Sites, a.Site)
			}
		}
	}
	return s
}
