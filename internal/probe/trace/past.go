package trace

import (
	"maps"
	"slices"
	"time"

	"woodlark.example/core/route"
)

// Past is a route that a trace saw before the one that it ended with.
type Past struct {
	Route       route.Route
	First, Last time.Time
}

// lookEvery is how often a trace that goes on looks whether the route is another.
const lookEvery = time.Minute

// lately is what a trace that goes on saw since it last looked.
type lately struct {
	gather *route.Gather
	since  time.Time // it looked
	began  time.Time // the route that it sees now
	seen   time.Time // that route last
	before route.Route
}

// look sees whether the route became another since it was last looked at. If so,
// what was gathered before belongs to the past.
func (t *tracer) look(now time.Time) {
	l := &t.lately
	if l.gather == nil {
		l.gather, l.since, l.began = route.NewGather(t.Addr.WithZone("")), now, t.began
		return
	}
	if now.Sub(l.since) < lookEvery {
		return
	}
	newest := l.gather.Route()
	switch {
	case len(l.before.Hops) == 0:
		l.before = newest
	case newest.Reached && l.before.Reached && route.Compare(l.before, newest).Changed:
		t.past = append(t.past, Past{Route: l.before, First: l.began, Last: l.seen})
		t.gather, l.began, l.before = l.gather, l.since, newest
	case newest.Key() != l.before.Key(): // two routes in one look, or a hop that spared its answers
	default:
		l.before = newest
	}
	if newest.Key() == l.before.Key() {
		l.seen = now
	}
	l.gather, l.since = route.NewGather(t.Addr.WithZone("")), now
}

// longer lets the rounds go further when a router answers where the target did: the
// way has become longer.
func (t *tracer) longer(ttl int) {
	const more = 8
	if t.stage == measuring && ttl == t.limit {
		t.limit = min(t.LastTTL, ttl+more)
	}
}

// byMinute takes what was measured apart by the minute that it was sent in.
type byMinute map[time.Time]*route.Gather

func (m byMinute) add(t *tracer, p route.Probe) {
	at := p.SentAt.Truncate(time.Minute)
	if m[at] == nil {
		m[at] = route.NewGather(t.Addr.WithZone(""))
	}
	m[at].Add(p)
}

// Minute is the route as one minute of a trace saw it.
type Minute struct {
	At    time.Time
	Route route.Route
}

// list is each minute by itself; nothing when there is only one.
func (m byMinute) list() []Minute {
	if len(m) < 2 {
		return nil
	}
	var list []Minute
	for _, at := range slices.SortedFunc(maps.Keys(m), time.Time.Compare) {
		list = append(list, Minute{at, m[at].Route()})
	}
	return list
}
