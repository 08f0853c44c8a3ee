// Package incidents knows what paths that got worse have in common, and how strictly all are
// judged.
//
//	x := incidents.New(incidents.Options{Store: s, Paths: p, …})
//	err := x.Load(ctx)
//	err = x.LookDue(ctx, time.Now())
package incidents

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/devices"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/service/paths"
	"woodlark.example/internal/store"
)

// Incident is an incident as it is kept.
type Incident struct {
	ID ident.ID
	guard.Incident
	Finding finding.Finding // what it says
}

// Options of Incidents; all are needed.
type Options struct {
	Store   *store.Store
	Events  *events.Stream
	Devices *devices.Devices
	// Paths are those that may have something in common; set before Load.
	Paths *paths.Paths
}

// Incidents are what paths have in common, and how strictly they are judged. It is safe for
// concurrent use.
type Incidents struct {
	Options
	mu      sync.Mutex
	list    *guard.Incidents
	ids     map[int]ident.ID // by number
	look    time.Time        // when to look for more; zero when nothing calls for it
	strict  guard.Strictness
	unsaved []store.Incident
}

// New is without an incident.
func New(o Options) *Incidents {
	return &Incidents{Options: o, list: guard.NewIncidents(nil), ids: map[int]ident.ID{}}
}

// memory is from how far back incidents are known.
const memory = 35 * 24 * time.Hour

// Load takes up the incidents of before.
func (n *Incidents) Load(ctx context.Context) error {
	now := time.Now()
	rows, err := n.Store.Incidents(ctx, now.Add(-memory), now.Add(time.Hour))
	if err != nil {
		return err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	var known []guard.Incident
	for i, row := range rows {
		one, err := readIncident(row)
		if err != nil {
			return err
		}
		one.Number = i + 1
		known = append(known, one)
		n.ids[one.Number] = row.ID
	}
	n.list = guard.NewIncidents(known)
	return nil
}

func readIncident(row store.Incident) (x guard.Incident, err error) {
	if err := json.Unmarshal([]byte(row.Body), &x); err != nil {
		return x, fmt.Errorf("read incident %s: %w", row.ID, err)
	}
	return x, nil
}

// Note has incidents looked for when something got worse. It reports whether an episode is over, so that
// incidents may have ended; see End.
func (n *Incidents) Note(changes []guard.Change) (ended bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, x := range changes {
		switch x.What {
		case guard.Opened:
			n.strict.Told(x.At)
			fallthrough
		case guard.Resumed, guard.Worse:
			n.lookSoon()
		case guard.Closed, guard.Accepted, guard.Crept:
			ended = true
		}
	}
	return ended
}

// lookSoon is called with the lock of the incidents held.
func (n *Incidents) lookSoon() {
	if n.look.IsZero() {
		n.look = time.Now().Add(guard.LookDelay)
	}
}

// LookDue looks for incidents, and weighs strictness, when it is time.
func (n *Incidents) LookDue(ctx context.Context, now time.Time) error {
	n.mu.Lock()
	due := !n.look.IsZero() && !now.Before(n.look)
	if due {
		n.look = time.Time{}
	}
	weigh := n.strict.Due(now)
	n.mu.Unlock()
	if weigh {
		n.weighStrictness(now)
	}
	if !due {
		return n.save(ctx, nil, false)
	}
	return n.Find(ctx, now)
}

func (n *Incidents) weighStrictness(now time.Time) {
	all := n.Paths.All()
	n.mu.Lock()
	strict := n.strict.Weigh(now, len(all))
	n.mu.Unlock()
	for _, p := range all {
		p.SetStrict(strict)
	}
}

// Find looks for what the paths that got worse in the last while have in common.
func (n *Incidents) Find(ctx context.Context, now time.Time) error {
	var witnesses []guard.Witness
	for _, p := range n.Paths.All() {
		witnesses = append(witnesses, p.Witness(n.Paths.Key(p), now))
	}
	n.mu.Lock()
	changed := n.list.Find(now, witnesses)
	n.mu.Unlock()
	return n.save(ctx, changed, true)
}

// End ends those whose episodes are all over.
func (n *Incidents) End(ctx context.Context) error {
	all := n.Paths.All()
	byKey := make(map[guard.Key]*paths.Path, len(all))
	for _, p := range all {
		byKey[n.Paths.Key(p)] = p
	}
	n.mu.Lock()
	ended := n.list.End(func(k guard.Key, number int) (guard.Episode, bool) {
		p := byKey[k]
		if p == nil {
			return guard.Episode{}, false
		}
		return p.EpisodeOf(number)
	})
	n.mu.Unlock()
	return n.save(ctx, ended, true)
}

// save keeps incidents that changed, with those that could not be kept before, and
// tells the listeners.
func (n *Incidents) save(ctx context.Context, list []guard.Incident, tells bool) error {
	n.mu.Lock()
	rows := n.unsaved
	n.unsaved = nil
	for _, x := range list {
		id, ok := n.ids[x.Number]
		what, now := "worse", time.Now().UTC()
		if !ok {
			id, what = ident.New(), "opened"
			n.ids[x.Number] = id
		}
		body, _ := json.Marshal(x)
		row := store.Incident{ID: id, FromAt: x.From.UTC(), ToldAt: x.ToldAt.UTC(), Body: string(body)}
		if !x.Open() {
			to := x.To.UTC()
			row.ToAt = &to
			what = "closed"
		}
		if tells {
			row.Matters = []store.Matter{{ID: ident.New(), Subject: id, What: what, At: now, MadeAt: now}}
		}
		rows = append(rows, row)
	}
	n.mu.Unlock()
	if len(rows) == 0 {
		return nil
	}
	if err := n.Store.SaveIncidents(ctx, rows); err != nil {
		n.mu.Lock()
		n.unsaved = append(rows, n.unsaved...)
		n.mu.Unlock()
		return err
	}
	if len(list) > 0 {
		n.Events.Publish(events.Event{Kind: events.IncidentChanged})
	}
	return nil
}

// Between are those that touch a stretch of time, those that go on first, then the newest. Those
// that were taken back are none.
func (n *Incidents) Between(ctx context.Context, from, to time.Time) ([]Incident, error) {
	list, err := n.Told(ctx, from, to)
	return slices.DeleteFunc(list, func(x Incident) bool { return !x.Stands() }), err
}

// Told are those of Between with those that were taken back.
func (n *Incidents) Told(ctx context.Context, from, to time.Time) ([]Incident, error) {
	rows, err := n.Store.Incidents(ctx, from, to)
	if err != nil {
		return nil, err
	}
	var open, over []Incident
	for i := len(rows) - 1; i >= 0; i-- {
		x, err := readIncident(rows[i])
		if err != nil {
			return nil, err
		}
		one := n.incident(rows[i].ID, x)
		if x.Open() {
			open = append(open, one)
		} else {
			over = append(over, one)
		}
	}
	return append(open, over...), nil
}

func (n *Incidents) incident(id ident.ID, x guard.Incident) Incident {
	return Incident{ID: id, Incident: x, Finding: finding.OfIncident(x, n.Devices.Call)}
}

// Open are those that go on.
func (n *Incidents) Open() (list []Incident) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, x := range n.list.List() {
		if x.Open() {
			list = append(list, n.incident(n.ids[x.Number], x))
		}
	}
	return list
}

// Happened hears of changes of episodes; see paths.Listener.
func (n *Incidents) Happened(ctx context.Context, list []guard.Change) error {
	if n.Note(list) {
		return n.End(ctx)
	}
	return nil
}

// LookSoon has incidents looked for, because more is known of where paths lead.
func (n *Incidents) LookSoon() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.lookSoon()
}

// Found keeps incidents of the past beside those that are known; see paths.Listener.
func (n *Incidents) Found(ctx context.Context, list []guard.Incident) error {
	n.mu.Lock()
	known := n.list.List()
	next := 1
	for _, x := range known {
		next = max(next, x.Number+1)
	}
	for i := range list {
		list[i].Number = next + i
	}
	n.list = guard.NewIncidents(append(known, list...))
	n.mu.Unlock()
	return n.save(ctx, list, false)
}
