// Package notices keeps what people are told of the service itself: notices, who changed what,
// and whether the database takes anything.
//
//	n := notices.New(notices.Options{Store: s, Events: stream})
//	n.Notify(ctx, "clock_wrong", "The clock of agent holm is 3m behind.")
package notices

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/service/events"
	"woodlark.example/internal/store"
)

// Options of Notices; all are needed.
type Options struct {
	Store  *store.Store
	Log    *slog.Logger
	Events *events.Stream
	Zone   *time.Location
	// Disk says which disk is full, if one is that the service needs; "" otherwise.
	Disk func() string
}

// Notices are safe for concurrent use.
type Notices struct {
	store  *store.Store
	log    *slog.Logger
	events *events.Stream
	zone   *time.Location
	disk   func() string

	mu    sync.Mutex
	since time.Time // the database takes nothing; zero while it does
	held  bool      // and readings are held back since
	why   string
	full  string // the disk that was told of
	// late are lines that wait for the database, oldest first.
	late    []func(context.Context) error
	keeping sync.Mutex // by whoever writes those
}

// New is without a notice.
func New(o Options) *Notices {
	return &Notices{store: o.Store, log: o.Log, events: o.Events, zone: o.Zone, disk: o.Disk}
}

// Notify keeps a notice and tells the listeners.
func (n *Notices) Notify(ctx context.Context, kind, text string) {
	n.log.Warn(text, "notice", kind)
	x := store.Notice{ID: ident.New(), At: time.Now().UTC(), Kind: kind, Text: text}
	n.keep(ctx, "a notice", func(ctx context.Context) error { return n.store.SaveNotice(ctx, x) })
	n.events.Publish(events.Event{Kind: events.NewNotice})
}

// Disk says which disk is full; "" when none is.
func (n *Notices) Disk() string { return n.disk() }

// NoteDisk tells of a full disk, once.
func (n *Notices) NoteDisk(ctx context.Context) {
	now := n.disk()
	n.mu.Lock()
	before := n.full
	n.full = now
	n.mu.Unlock()
	if now != "" && before == "" {
		n.Notify(ctx, "disk_full", "Of the service: "+now+". Measuring goes on; what cannot be written is held back in memory.")
	}
}

// NoteAway remembers that the database is away, and why, if that is what an error says.
func (n *Notices) NoteAway(err error) {
	if !errors.Is(err, store.ErrAway) {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.since.IsZero() {
		n.since = time.Now()
		n.log.Error("the database takes nothing; readings are held back", "error", err, "cause", store.Cause(err))
	}
	n.why = n.sayWhy(err)
}

// NoteHeld is NoteAway of readings that are held back: it is back when it takes them.
func (n *Notices) NoteHeld(err error) {
	n.NoteAway(err)
	n.mu.Lock()
	defer n.mu.Unlock()
	n.held = n.held || !n.since.IsZero() && errors.Is(err, store.ErrAway)
}

// NoteTakes notes that the database took something that is no reading: it is back unless readings are
// held back.
func (n *Notices) NoteTakes(ctx context.Context) {
	n.mu.Lock()
	since, why := n.since, n.why
	if n.held || since.IsZero() {
		n.mu.Unlock()
		return
	}
	n.since, n.why = time.Time{}, ""
	n.mu.Unlock()
	n.Notify(ctx, "database_back", fmt.Sprintf("The database took nothing from %s for %s: %s. No reading was held back.",
		since.In(n.zone).Format("15:04:05"), time.Since(since).Round(time.Second), why))
}

// sayWhy says in words for everybody why the database takes nothing.
func (n *Notices) sayWhy(err error) string {
	if says := n.disk(); says != "" {
		return says
	}
	var text string
	for _, part := range strings.Split(err.Error(), ": ") {
		text = part // the last says why
	}
	return text
}

// NoteBack says that the database was away, once it is back and what was held
// back is being written.
func (n *Notices) NoteBack(ctx context.Context) {
	n.mu.Lock()
	since, why := n.since, n.why
	n.since, n.why, n.held = time.Time{}, "", false
	n.mu.Unlock()
	if since.IsZero() {
		return
	}
	n.Notify(ctx, "database_back", fmt.Sprintf("The database took nothing from %s for %s: %s. Readings were held back meanwhile and are being written now.",
		since.In(n.zone).Format("15:04:05"), time.Since(since).Round(time.Second), why))
}

// Away is since when the database takes nothing, and why; zero while it does.
func (n *Notices) Away() (time.Time, string) {
	since, err := n.store.Away()
	n.mu.Lock()
	defer n.mu.Unlock()
	if !since.IsZero() && (n.since.IsZero() || since.Before(n.since)) {
		return since, n.sayWhy(err)
	}
	return n.since, n.why
}
