package paths

import (
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/finding"
	"woodlark.example/core/guard"
	"woodlark.example/internal/ident"
	"woodlark.example/internal/protocol"
	"woodlark.example/internal/store"
)

// View is a path as it stands at a time.
type View struct {
	store.Path
	Agent      store.Agent
	Verdict    guard.Verdict
	Open       []OpenEpisode // the one that counts most first
	Findings   []finding.Finding
	Last       *protocol.Record
	Baseline   *baseline.Baseline // nil when there is none yet
	Pinned     bool
	TakenAt    time.Time
	Properties []guard.Property
	Over       *Episode      // the newest episode that is over, of the last days
	Trace      []*store.Slot // the last day; not to be changed
}

// OpenEpisode is an episode that goes on.
type OpenEpisode struct {
	Episode
	Findings []finding.Finding   // the first says all that matters
	Incident ident.ID            // that it is part of; none when it is of none
	Call     func(string) string // says what an address is called, and whose it is
}

// Rhythm is what comes back at hours of its own; nil when nothing does.
func (v View) Rhythm() *guard.Property {
	for i := range v.Properties {
		if p := &v.Properties[i]; (p.Kind == guard.Daily || p.Kind == guard.Weekly) && p.EndedAt.IsZero() {
			return p
		}
	}
	return nil
}

// Waiting are the properties that wait for somebody to say that they are normal.
func (v View) Waiting() (list []guard.Property) {
	for _, p := range v.Properties {
		if p.Waits() {
			list = append(list, p)
		}
	}
	return list
}

// Shared is an incident that a path may be part of.
type Shared struct {
	ID ident.ID
	*guard.Incident
}

// View is how a path stands now. Of one whose last reading is longer ago than patience nothing
// is known any more; shared are the incidents that go on and that it is part of.
func (x *Paths) View(p *Path, now time.Time, patience time.Duration, shared []Shared) View {
	v := x.Rank(p, now, patience)
	x.Explain(p, &v, now, shared)
	return v
}

// Rank is what of a View says where it stands among others: all but its findings, what is known of
// episodes that go on, and its last day.
func (x *Paths) Rank(p *Path, now time.Time, patience time.Duration) View {
	v := View{Path: p.Path}
	v.Site = p.SiteNow()
	if a := x.Fleet.ByID(p.AgentID); a != nil {
		v.Agent = a.Agent
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	v.Verdict = p.guard.Verdict(now, patience)
	v.Last, v.Pinned, v.TakenAt, v.Baseline = p.last, p.pinned, p.taken, p.guard.Judge().Baseline()
	v.Properties = slices.Clone(p.guard.Properties())
	if v.Verdict.Never {
		v.Verdict.Since = p.first
	}
	for _, e := range slices.Backward(p.episodes) {
		if !e.Open() {
			v.Over = &e
			break
		}
	}
	return v
}

// Explain makes a rank of Rank the whole View.
func (x *Paths) Explain(p *Path, v *View, now time.Time, shared []Shared) {
	key := x.Key(p)
	p.mu.Lock()
	defer p.mu.Unlock()
	why := func(number int) finding.Why {
		w := finding.Why{Name: x.Devices.Call}
		if e, ok := p.episode(number); ok {
			w.Route, w.Seen = e.Route, e.Seen
		}
		for _, s := range shared {
			if s.Has(key, number) {
				w.Shared = s.Incident
			}
		}
		return w
	}
	standing := finding.Standing{Verdict: v.Verdict, Now: now, Baseline: v.Baseline, Cause: p.cause(), Properties: v.Properties, Zone: x.Guards.Calendar.Zone, Why: why}
	if v.Over != nil {
		standing.Over = &v.Over.Episode
	}
	v.Findings = finding.OfPath(standing)
	for _, o := range v.Verdict.Open {
		e, ok := p.episode(o.Number)
		if !ok {
			continue
		}
		e.Episode = o.Episode
		one := OpenEpisode{Episode: e, Findings: finding.OfEpisode(finding.Told{Episode: o.Episode, Zone: x.Guards.Calendar.Zone, Now: now, Why: why(o.Number)}), Call: x.Devices.Call}
		for _, s := range shared {
			if s.Has(key, o.Number) {
				one.Incident = s.ID
			}
		}
		v.Open = append(v.Open, one)
	}
	oldest := now.Add(-24 * time.Hour)
	v.Trace = make([]*store.Slot, 0, TraceSlots)
	for _, s := range p.trace {
		if s != nil && s.At.After(oldest) {
			v.Trace = append(v.Trace, s)
		}
	}
}

// Severity orders paths: how much worse than normal, in multiples of what is
// worth caring about.
func (v View) Severity() float64 {
	switch v.Verdict.State {
	case guard.StateLost:
		if v.Verdict.Never {
			return 50
		}
		return 1e6
	case guard.StateDegraded:
		worst := 0.0
		for _, o := range v.Verdict.Open {
			worst = max(worst, o.Episode.Severity())
		}
		return 100 + min(worst, 1e5)
	case guard.StateUnmeasured:
		return 30
	}
	switch {
	case len(v.Waiting()) > 0:
		return 20
	case v.Rhythm() != nil:
		return 10
	case v.Over != nil && time.Since(v.Over.To) < 24*time.Hour:
		return 5
	}
	return 0
}

// NotJudged is why a path cannot be judged: unmeasured, no_baseline or learning.
type NotJudged struct {
	Why, Says string
	Until     time.Time // of learning
}

// NotJudged says why the path cannot be judged, if that is so.
func (v View) NotJudged(zone *time.Location) (n NotJudged, is bool) {
	switch {
	case v.Verdict.State == guard.StateUnmeasured:
		return NotJudged{Why: "unmeasured", Says: v.Findings[0].Sentence}, true
	case v.Verdict.Never || len(v.Verdict.Open) > 0:
		return n, false
	case v.Baseline == nil:
		return NotJudged{Why: "no_baseline", Says: v.Findings[0].Sentence}, true
	case !v.Verdict.Learning.IsZero():
		says := fmt.Sprintf("What is normal is still being learnt, until %s.", v.Verdict.Learning.In(zone).Format("Mon 2 Jan 15:04"))
		return NotJudged{Why: "learning", Says: says, Until: v.Verdict.Learning}, true
	}
	return n, false
}
