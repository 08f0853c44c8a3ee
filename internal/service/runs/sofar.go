package runs

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/service/events"
)

// soFar is how far a run is, and what is known of it while it goes on.
type soFar struct {
	began    time.Time
	done, of int64
	says     string
	address  string
	probes   []reading.Probe // in the order in which their fates were known
	gather   *route.Gather
	ends     kind.Bytes
	live     []LiveSecond // of the part that goes on
	steps    []finding.Step
	more     []any // all that was told, up to mostTold
	told     time.Time
	partial  *protocol.Made // what was measured so far, of kinds that go on with it
	result   any            // the same, as it was told
}

const (
	// tellEvery is how often listeners hear of a run that goes on.
	tellEvery = 300 * time.Millisecond
	// MostFollowed is how many runs a measurement may have for listeners to hear of each.
	MostFollowed = 100
)

// due reports, at most each tellEvery, that listeners are to hear of a lane.
func (l *soFar) due(now time.Time) bool {
	if now.Sub(l.told) < tellEvery {
		return false
	}
	l.told = now
	return true
}

// mostTold is how much of what a run tells is kept for who comes late.
const mostTold = 100_000

// LiveSecond is what arrived in about a second of a run that goes on, in bits of payload a
// second each way.
type LiveSecond struct{ Start, Length, There, Back float64 }

// heard takes how far a run is, and tells listeners of it now and then.
func (x *Runs) heard(g *activeRun, p kind.Progress) {
	if p.Partial != nil {
		x.keepPartial(g, p)
	}
	if x.hear(g, p) {
		x.Events.Publish(events.Event{Kind: events.RunGoesOn, Run: g.order.Lanes[p.Lane].Run, Outcome: protocol.Running})
	}
}

// hear takes how far a run is, and reports whether listeners are to hear of it.
func (x *Runs) hear(g *activeRun, p kind.Progress) (tell bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if p.Lane < 0 || p.Lane >= len(g.lanes) {
		return false
	}
	l := &g.lanes[p.Lane]
	step := l.says
	l.done, l.of, l.says = p.Done, p.Of, p.Says
	l.address = cmp.Or(p.Address, l.address)
	if p.More != nil && len(l.more) < mostTold {
		l.more = append(l.more, p.More)
	}
	switch m := p.More.(type) {
	case reading.Probe:
		l.probes = append(l.probes, m)
	case route.Probe:
		if l.gather == nil {
			addr, _ := netip.ParseAddr(g.order.Lanes[p.Lane].Lane.Target)
			l.gather = route.NewGather(addr)
		}
		l.gather.Add(m)
	case kind.Bytes:
		l.second(m, p.Says != step)
	case finding.Step:
		l.steps = append(l.steps, m)
	}
	return len(g.lanes) <= MostFollowed && l.due(time.Now())
}

// second takes what arrived. A part that begins anew begins its seconds anew.
func (l *soFar) second(m kind.Bytes, anew bool) {
	before := l.ends
	if anew || m.Elapsed < before.Elapsed {
		l.live, before = nil, kind.Bytes{}
	}
	l.ends = m
	if length := (m.Elapsed - before.Elapsed).Seconds(); length > 0.1 {
		l.live = append(l.live, LiveSecond{before.Elapsed.Seconds(), length, float64(m.There-before.There) * 8 / length, float64(m.Back-before.Back) * 8 / length})
	}
}

// SoFar is what is known of a run while it goes on.
type SoFar struct {
	Kind     string
	Done, Of int64
	Says     string
	Live     []LiveSecond
	Reading  *reading.Reading // of the probes of which all before them are known
	Probes   []reading.Probe
	Result   any // in the form of its kind, as far as there is one
}

// SoFar is what is known of a run while it goes on; false when it does not.
func (x *Runs) SoFar(run ident.ID) (s SoFar, ok bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	g := x.active[run]
	if g == nil {
		return s, false
	}
	i := slices.IndexFunc(g.order.Lanes, func(l protocol.RunLane) bool { return l.Run == run })
	l := &g.lanes[i]
	s = SoFar{Kind: g.order.Kind, Done: l.done, Of: l.of, Says: l.says, Live: slices.Clone(l.live)}
	switch {
	case l.probes != nil:
		r, probes := readingSoFar(l)
		s.Reading, s.Probes = &r, probes
	case l.gather != nil:
		r := finding.Traced{Route: l.gather.Route()}.Report()
		r.Findings = []finding.Finding{} // what is not over allows no conclusions
		r.Target = g.order.Lanes[i].Lane.Target
		s.Result = r
	case l.result != nil:
		s.Result = l.result
	case l.steps != nil:
		s.Result = struct {
			Target string         `json:"target"`
			Steps  []finding.Step `json:"steps"`
		}{g.order.Lanes[i].Lane.Target, slices.Clone(l.steps)}
	}
	return s, true
}

// readingSoFar is the reading of the probes of which all before them are known: an answer is
// known sooner than a loss, which would be shown too low.
func readingSoFar(l *soFar) (reading.Reading, []reading.Probe) {
	probes := slices.Clone(l.probes)
	slices.SortFunc(probes, func(a, b reading.Probe) int { return a.Number - b.Number })
	for i, x := range probes {
		if x.Number != i {
			probes = probes[:i]
			break
		}
	}
	interval := time.Duration(0)
	if n := len(probes); n > 1 {
		interval = probes[n-1].DueAt.Sub(probes[0].DueAt) / time.Duration(n-1)
	}
	return reading.Of(l.began, time.Since(l.began), 0, interval, probes), probes
}

// Heard is what a run told behind the first so many things, of which address if that is known,
// and whether nothing comes any more. What was told is kept for a while behind the end.
func (x *Runs) Heard(run ident.ID, after int) (more []any, address string, over bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	g := x.active[run]
	if g == nil {
		over = true
		if g = x.was(run); g == nil {
			return nil, "", true
		}
	}
	i := slices.IndexFunc(g.order.Lanes, func(l protocol.RunLane) bool { return l.Run == run })
	all := g.lanes[i].more
	return slices.Clone(all[min(max(0, after), len(all)):]), g.lanes[i].address, over
}
