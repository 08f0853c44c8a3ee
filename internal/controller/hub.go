package controller

import (
	"sync"

	"woodlark.example/internal/ident"
	"woodlark.example/internal/plan"
)

// Event is something that listeners are told at once: a new reading of a path,
// a change of its state, or a change of the watches.
type Event struct {
	Kind    EventKind
	Path    ident.ID
	Reading *plan.Record
}

// EventKind says what an Event tells.
type EventKind string

// The kinds of events.
const (
	NewReading   EventKind = "reading"
	StateChanged EventKind = "state"
	WatchChanged EventKind = "watch"
	NewNotice    EventKind = "notice"
	NewSweep     EventKind = "sweep"
	NewTrace     EventKind = "trace"
	NewTwoEnded  EventKind = "two-ended"
)

// hub hands events to listeners. A listener that does not keep up loses events
// rather than holding up the rest; it is told by a closed channel.
type hub struct {
	mu        sync.Mutex
	listeners map[chan Event]struct{}
}

// Listen returns a channel of events from now on, and a function to end that.
// The channel is closed when the listener falls behind.
func (h *hub) Listen() (<-chan Event, func()) {
	c := make(chan Event, 4096)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan Event]struct{}{}
	}
	h.listeners[c] = struct{}{}
	return c, func() { h.drop(c) }
}

func (h *hub) drop(c chan Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, ok := h.listeners[c]; ok {
		delete(h.listeners, c)
		close(c)
	}
}

func (h *hub) publish(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- e:
		default:
			delete(h.listeners, c)
			close(c)
		}
	}
}
