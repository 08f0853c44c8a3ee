// Package events tells listeners at once what happens in the service.
//
//	var s events.Stream
//	heard, stop := s.Listen()
//	defer stop()
//	s.Publish(events.Event{Kind: events.WatchChanged})
package events

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
	Kind    Kind
	Path    ident.ID
	Reading *protocol.Record
	// Run is the one that an event is of; none where it is of many.
	Run     ident.ID
	Outcome protocol.Outcome
}

// Kind says what an Event tells.
type Kind string

// The kinds of events.
const (
	NewReading   Kind = "reading"
	StateChanged Kind = "state"
	WatchChanged Kind = "watch"
	NewNotice    Kind = "notice"
	NewRun       Kind = "run" // a run ended
	// RunGoesOn: more is known of a run. It is told to who listens now, and not kept.
	RunGoesOn Kind = "run-goes-on"
	// IncidentChanged: what several paths have in common was found, is other, or is over.
	IncidentChanged Kind = "incident"
)

// Stream hands events to listeners. The zero value is ready to use. A listener that does not keep up loses events
// rather than holding up the rest; it is told by a closed channel. The newest events are
// kept, for listeners that come back.
type Stream struct {
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
func (s *Stream) Listen() (<-chan Event, func()) {
	events, stop, _ := s.ListenSince(0)
	return events, stop
}

// ListenSince is Listen for who has heard of an event already: those behind it come first.
// whole is false when some of them are not kept any more.
func (s *Stream) ListenSince(id int64) (events <-chan Event, stop func(), whole bool) {
	c := make(chan Event, mostWaitingEvents)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.listeners == nil {
		s.listeners = map[chan Event]struct{}{}
	}
	whole = true
	if id > 0 {
		// What came before the first that is kept may be missing, as may what an earlier
		// run of the program told.
		whole = id == s.last || len(s.kept) > 0 && id >= s.kept[0].ID && id < s.last
		for _, e := range s.kept {
			if whole && e.ID > id {
				c <- e
			}
		}
	}
	s.listeners[c] = struct{}{}
	return c, func() { s.drop(c) }, whole
}

func (s *Stream) drop(c chan Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.listeners[c]; ok {
		delete(s.listeners, c)
		close(c)
	}
}

// Publish tells an event to all listeners.
func (s *Stream) Publish(e Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e.Kind == RunGoesOn {
		s.mention(e)
		return
	}
	// By time, so that numbers of an earlier run of the program are below.
	s.last = max(s.last+1, time.Now().UnixMicro())
	e.ID = s.last
	if len(s.kept) >= mostKeptEvents {
		s.kept = append(s.kept[:0], s.kept[mostKeptEvents/4:]...)
	}
	s.kept = append(s.kept, e)
	for c := range s.listeners {
		select {
		case c <- e:
		default:
			delete(s.listeners, c)
			close(c)
		}
	}
}

// mention tells an event to who listens and has time for it; the lock is held.
func (s *Stream) mention(e Event) {
	for c := range s.listeners {
		if len(c) < mostWaitingEvents/2 {
			c <- e
		}
	}
}
