package controller

import (
	"sync"
	"time"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
)

// Event is something that listeners are told at once: a new reading of a path,
// a change of its state, or a change of the watches.
type Event struct {
	ID      int64 // grows from one event to the next, over restarts too
	Kind    EventKind
	Path    ident.ID
	Reading *protocol.Record
	// Run is the one that an event is of; none where it is of many.
	Run     ident.ID
	Outcome protocol.Outcome
}

// EventKind says what an Event tells.
type EventKind string

// The kinds of events.
const (
	NewReading   EventKind = "reading"
	StateChanged EventKind = "state"
	WatchChanged EventKind = "watch"
	NewNotice    EventKind = "notice"
	NewRun       EventKind = "run" // a run ended
	// RunGoesOn: more is known of a run. It is told to who listens now, and not kept.
	RunGoesOn EventKind = "run-goes-on"
	// IncidentChanged: what several paths have in common was found, is other, or is over.
	IncidentChanged EventKind = "incident"
)

// eventStream hands events to listeners. A listener that does not keep up loses events
// rather than holding up the rest; it is told by a closed channel. The newest events are
// kept, for listeners that come back.
type eventStream struct {
	mu        sync.Mutex
	listeners map[chan Event]struct{}
	last      int64
	kept      []Event // the newest, the oldest first
}

const (
	mostWaitingEvents = 4096
	mostKeptEvents    = 2048
)

// Listen returns a channel of events from now on, and a function to end that.
// The channel is closed when the listener falls behind.
func (h *eventStream) Listen() (<-chan Event, func()) {
	events, stop, _ := h.ListenSince(0)
	return events, stop
}

// ListenSince is Listen for who has heard of an event already: those behind it come first.
// whole is false when some of them are not kept any more.
func (h *eventStream) ListenSince(id int64) (events <-chan Event, stop func(), whole bool) {
	c := make(chan Event, mostWaitingEvents)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan Event]struct{}{}
	}
	whole = true
	if id > 0 {
		// What came before the first that is kept may be missing, as may what an earlier
		// run of the program told.
		whole = id == h.last || len(h.kept) > 0 && id >= h.kept[0].ID && id < h.last
		for _, e := range h.kept {
			if whole && e.ID > id {
				c <- e
			}
		}
	}
	h.listeners[c] = struct{}{}
	return c, func() { h.drop(c) }, whole
}

func (h *eventStream) drop(c chan Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, ok := h.listeners[c]; ok {
		delete(h.listeners, c)
		close(c)
	}
}

func (h *eventStream) publish(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if e.Kind == RunGoesOn {
		h.mention(e)
		return
	}
	// By time, so that numbers of an earlier run of the program are below.
	h.last = max(h.last+1, time.Now().UnixMicro())
	e.ID = h.last
	if len(h.kept) >= mostKeptEvents {
		h.kept = append(h.kept[:0], h.kept[mostKeptEvents/4:]...)
	}
	h.kept = append(h.kept, e)
	for c := range h.listeners {
		select {
		case c <- e:
		default:
			delete(h.listeners, c)
			close(c)
		}
	}
}

// mention tells an event to who listens and has time for it; the lock is held.
func (h *eventStream) mention(e Event) {
	for c := range h.listeners {
		if len(c) < mostWaitingEvents/2 {
			c <- e
		}
	}
}
