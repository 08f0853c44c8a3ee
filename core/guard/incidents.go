package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/incident"
	baseline "woodlark.example/core/normal"
)

// Incident is what several paths that got worse at the same time have in common.
type Incident struct {
	Number   int              `json:"number"`
	From     time.Time        `json:"from_at"`
	ToldAt   time.Time        `json:"told_at"`
	To       time.Time        `json:"to_at,omitzero"` // zero while it goes on
	Measure  baseline.Measure `json:"measure"`
	Segment  incident.Segment `json:"segment"`
	Paths    []Key            `json:"paths"`
	Sure     float64          `json:"confidence"`
	episodes map[Key][]int    // by number
}

// Open reports whether the incident goes on.
func (i Incident) Open() bool { return i.To.IsZero() }

// Has reports whether an episode of a path, by its number, is part of it.
func (i Incident) Has(k Key, number int) bool { return slices.Contains(i.episodes[k], number) }

// Added is what the segment adds: milliseconds, or a ratio of loss.
func (i Incident) Added() float64 {
	if i.Measure.Counted() {
		return incident.ToLoss(i.Segment.Excess)
	}
	return i.Segment.Excess
}

// Ends are the pairs of neighbours between which the segment lies: one pair, but where a hop
// does not answer that several routes share.
func (i Incident) Ends() [][2]string { return endsOf(i.Segment) }

// OtherEnds are those of the segments that would explain it as well.
func (i Incident) OtherEnds() (list [][2]string) {
	for _, o := range i.Segment.Others {
		list = append(list, endsOf(o)...)
	}
	return list
}

func endsOf(s incident.Segment) (list [][2]string) {
	if s.From != "" && s.To != "" {
		return [][2]string{{s.From, s.To}}
	}
	for _, l := range s.Links {
		list = append(list, [2]string{l.From, l.To})
	}
	return list
}

// Incidents are all incidents, in the order in which they were told.
func (g *Guard) Incidents() []Incident {
	list := make([]Incident, len(g.incidents))
	for i, x := range g.incidents {
		list[i] = *x
	}
	return list
}

// affected is a path with an episode that is open, or has just been.
type affected struct {
	key    Key
	path   *Path
	number int
	e      Episode
	links  []incident.Link
}

const (
	// onsets further apart are no one incident, beyond their doubts.
	onsets = 4 * time.Minute
	// fresh is how old an onset may be to be looked at.
	fresh = 45 * time.Minute
	// healthyWithin is how new the last reading of a path has to be to stand witness.
	healthyWithin = 15 * time.Minute
)

// findIncidents looks for what the paths that got worse lately have in common.
func (g *Guard) findIncidents(now time.Time) {
	var list []affected
	for _, k := range g.order {
		p := g.paths[k]
		for _, m := range p.judge.open {
			if now.Sub(m.From) < fresh && m.NewLevel.IsZero() {
				list = append(list, affected{key: k, path: p, number: m.number, e: m.clone()})
			}
		}
	}
	slices.SortStableFunc(list, func(a, b affected) int { return a.e.From.Compare(b.e.From) })
	for len(list) > 0 {
		n := 1
		for n < len(list) && list[n].e.From.Sub(list[n-1].e.From) <= onsets+halfDoubt(list[n].e)+halfDoubt(list[n-1].e) {
			n++
		}
		if n > 1 {
			g.explain(list[:n], now)
		}
		list = list[n:]
	}
}

// halfDoubt is by how much the begin of an episode is in doubt.
func halfDoubt(e Episode) time.Duration { return min(10*time.Minute, e.Doubt.To.Sub(e.Doubt.From)/2) }

// explain looks for the segments that a group of paths with the same onset share.
func (g *Guard) explain(group []affected, now time.Time) {
	for _, m := range []baseline.Measure{baseline.RTT, baseline.Loss} {
		var worse []affected
		in := map[Key]bool{}
		for _, a := range group {
			if _, ok := a.e.Excess(m); ok {
				worse = append(worse, a)
				in[a.key] = true
			}
		}
		if len(worse) < 2 {
			continue
		}
		observed, index := g.observe(worse, in, m, now)
		taken := map[int]bool{} // incidents that a segment found now is
		for _, s := range incident.Explain(observed).Segments {
			if len(s.Paths) >= 2 {
				g.note(s, m, index, taken, now)
			}
		}
	}
}

// observe says by how much each path is worse, and which ones are as ever.
func (g *Guard) observe(worse []affected, in map[Key]bool, m baseline.Measure, now time.Time) (list []incident.Observed, index map[string]affected) {
	index = map[string]affected{}
	var routes [][]string
	for _, k := range g.order {
		if hops := g.paths[k].RouteAt(now); hops != nil {
			routes = append(routes, hops)
		}
	}
	known := betweens(routes)
	for _, a := range worse {
		at := now
		if a.e.Kind == Lost {
			at = a.e.From.Add(-time.Second) // what is found now ends where it is cut
		}
		hops := a.path.RouteAt(at)
		if hops == nil {
			continue
		}
		a.links = linksOf(a.key.From, a.key.To, hops, known)
		x, _ := a.e.Excess(m)
		o := incident.Observed{Path: a.key.String() + a.key.Family + a.key.Via, Links: a.links, Worse: true}
		if m.Counted() {
			o.Excess = max(0, incident.FromLoss(x.Now)-incident.FromLoss(x.Normal))
			n := float64(max(1, x.Sent))
			o.Spread = math.Sqrt(max(x.Now, 2/n)*(1-min(0.98, x.Now))/n)/(1-min(0.98, x.Now)) + 0.002
		} else {
			o.Excess = max(0, x.Now-x.Normal)
			o.Spread = max(x.Tolerance/4, (x.NowHigh-x.NowLow)/4)
		}
		list = append(list, o)
		index[o.Path] = a
	}
	for _, k := range g.order {
		p := g.paths[k]
		if in[k] || len(p.judge.Open()) > 0 || now.Sub(end(p.judge.last)) > healthyWithin {
			continue
		}
		hops := p.RouteAt(now)
		shift, tolerance, ok := p.judge.standing(m)
		if hops == nil || !ok {
			continue
		}
		o := incident.Observed{Path: k.String() + k.Family + k.Via, Links: linksOf(k.From, k.To, hops, known), Spread: tolerance / 3}
		if m.Counted() {
			o.Spread = max(0.002, incident.FromLoss(tolerance)/2)
			o.Excess = max(0, incident.FromLoss(shift))
		} else {
			o.Excess = max(0, shift)
		}
		list = append(list, o)
	}
	return list, index
}

// standing is by how much the last few readings of a path that is not told of are worse than
// expected, and the tolerance.
func (j *Judge) standing(m baseline.Measure) (shift, tolerance float64, ok bool) {
	t := j.tracks[m]
	if t == nil || len(t.past) == 0 {
		return 0, 0, false
	}
	list := t.past[max(0, len(t.past)-5):]
	shifts := make([]float64, len(list))
	for i, s := range list {
		shifts[i] = float64(s.shift)
		tolerance = float64(s.tolerance)
	}
	if m.Counted() {
		return mean(shifts), tolerance, true
	}
	slices.Sort(shifts)
	return middle(shifts), tolerance, true
}

// note keeps an incident, or adds to the one that it is.
func (g *Guard) note(s incident.Segment, m baseline.Measure, index map[string]affected, taken map[int]bool, now time.Time) {
	var members []affected
	for _, a := range index {
		members = append(members, a)
	}
	on := map[incident.Link]bool{}
	for _, l := range s.Links {
		on[l] = true
	}
	x := &Incident{Measure: m, Segment: s, ToldAt: now, Sure: s.Sure, episodes: map[Key][]int{}}
	for _, k := range g.order {
		for _, a := range members {
			if a.key != k || !slices.ContainsFunc(a.links, func(l incident.Link) bool { return on[l] }) {
				continue
			}
			x.Paths = append(x.Paths, k)
			x.episodes[k] = append(x.episodes[k], a.number)
			if x.From.IsZero() || a.e.From.Before(x.From) {
				x.From = a.e.From
			}
		}
	}
	if len(x.Paths) < 2 {
		return
	}
	same := func(old *Incident) bool {
		return slices.ContainsFunc(old.Segment.Links, func(l incident.Link) bool { return on[l] })
	}
	// The same segment, or else the same paths: those that joined may have shown that it is
	// another.
	for _, is := range []func(*Incident) bool{same, x.sharesEpisode} {
		for i, old := range g.incidents {
			if !old.Open() || taken[i] || !is(old) || now.Sub(old.From) > 6*fresh {
				continue
			}
			taken[i] = true
			if old.Measure != m && len(old.Paths) >= len(x.Paths) {
				return
			}
			x.Number, x.ToldAt = old.Number, old.ToldAt
			*old = *x
			return
		}
	}
	taken[len(g.incidents)] = true
	x.Number = len(g.incidents) + 1
	g.incidents = append(g.incidents, x)
}

// sharesEpisode reports whether two incidents are made of the same episodes, for the most part.
func (i *Incident) sharesEpisode(o *Incident) bool {
	same := 0
	for k, list := range o.episodes {
		for _, n := range list {
			if slices.Contains(i.episodes[k], n) {
				same++
			}
		}
	}
	return same*2 >= min(len(i.episodes), len(o.episodes))
}

// endIncidents ends those whose episodes are all over.
func (g *Guard) endIncidents(now time.Time) {
	for _, x := range g.incidents {
		if !x.Open() {
			continue
		}
		var last time.Time
		over := true
		for k, list := range x.episodes {
			for _, n := range list {
				e, known := g.paths[k].Episode(n)
				if known && e.Open() {
					over = false
				} else if e.To.After(last) {
					last = e.To
				}
			}
		}
		if over {
			x.To = last
		}
	}
}
