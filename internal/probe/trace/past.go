package trace

import (
	"maps"
	"slices"
	"time"

	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

// Past is a route that a trace saw before another took its place.
type Past struct {
	Route       route.Route
	Faults      []route.Fault
	Dead        []route.Dead
	First, Last time.Time
	// Doubt is how long after Last the next route was first seen, and Between what was
	// sent to the target in that time.
	Doubt   time.Duration
	Between loss.Ratio
}

// phases parts what was gathered into the route at the end and those before. A route of
// which too little was seen to tell its hops is left out.
func (t *tracer) phases() (newest *route.Gather, past []Past) {
	list := t.gather.Phases()
	if len(list) < 2 {
		return t.gather, nil
	}
	for i, p := range list[:len(list)-1] {
		r := p.Gather.Route()
		faults, _ := p.Gather.Locate(r)
		past = append(past, Past{Route: r, Faults: faults, Dead: p.Gather.Dead(r), First: p.From, Last: p.Until, Doubt: list[i+1].Doubt, Between: list[i+1].Between})
	}
	return list[len(list)-1].Gather, past
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
