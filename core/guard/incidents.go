package guard

import (
	"math"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/incident"
)

// Incident is what several paths that got worse at the same time have in common.
type Incident struct {
	Number  int              `json:"number"`
	From    time.Time        `json:"from_at"`
	ToldAt  time.Time        `json:"told_at"`
	To      time.Time        `json:"to_at,omitzero"` // zero while it goes on
	Measure baseline.Measure `json:"measure"`
	Segment incident.Segment `json:"segment"`
	Members []Member         `json:"members"`
	Sure    float64          `json:"confidence"`
	// TakenBack: what was found since explains all its paths by another segment. It ended then,
	// and counts no more. Zero when it stands.
	TakenBack time.Time `json:"taken_back_at,omitzero"`
}

// Member is a path of an incident, with the numbers of its episodes that are part of it.
type Member struct {
	Path     Key   `json:"path"`
	Episodes []int `json:"episodes"`
}

// Open reports whether the incident goes on.
func (i Incident) Open() bool { return i.To.IsZero() }

// Stands reports whether it was not taken back.
func (i Incident) Stands() bool { return i.TakenBack.IsZero() }

// Has reports whether an episode of a path, by its number, is part of it; none is of one that was
// taken back.
func (i Incident) Has(k Key, number int) bool {
	return i.Stands() && slices.Contains(i.episodesOf(k), number)
}

func (i Incident) episodesOf(k Key) []int {
	for _, m := range i.Members {
		if m.Path == k {
			return m.Episodes
		}
	}
	return nil
}

// Paths are those of the members.
func (i Incident) Paths() []Key {
	list := make([]Key, len(i.Members))
	for n, m := range i.Members {
		list[n] = m.Path
	}
	return list
}

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

// Incidents are what paths have in common, over time. They are found from witnesses, so that
// each path may be followed elsewhere.
type Incidents struct{ list []*Incident }

// NewIncidents takes up the incidents of before, in the order in which they were told.
func NewIncidents(known []Incident) *Incidents {
	x := &Incidents{}
	for _, i := range known {
		x.list = append(x.list, &i)
	}
	return x
}

// List are all incidents, in the order in which they were told, with those that were taken back.
func (x *Incidents) List() []Incident {
	list := make([]Incident, len(x.list))
	for i, one := range x.list {
		list[i] = *one
	}
	return list
}

const (
	// onsets further apart are no one incident, beyond their doubts.
	onsets = 4 * time.Minute
	// fresh is how old an onset may be to be looked at.
	fresh = 45 * time.Minute
	// healthyWithin is how new the last reading of a path has to be to stand witness.
	healthyWithin = 15 * time.Minute
)

// Witness is how a path stands at a time, as far as that says what paths have in common.
type Witness struct {
	Key  Key
	open []witnessed
	busy bool // something goes on, if only for long
	end  time.Time
	hops []string // now; nil when not known
	// Of a path of which nothing is told: by how much the last readings are slower than expected,
	// and what each of them lost, oldest first.
	slower  standing
	counted []counts
}

// witnessed is an episode that began a short while ago, with the route that it bears on.
type witnessed struct {
	number int
	e      Episode
	hops   []string
}

type standing struct {
	shift, tolerance float64
	known            bool
}

// counts are what a reading lost, and what it was expected to.
type counts struct {
	end        int64 // unix seconds
	sent, lost int32
	expected   float32
}

// Witness is how the path stands at a time.
func (p *Path) Witness(k Key, now time.Time) Witness {
	same := p.options.Same
	named := func(hops []string) []string {
		if same == nil || hops == nil {
			return hops
		}
		list := make([]string, len(hops))
		for i, h := range hops {
			if h != "" {
				h = same(h)
			}
			list[i] = h
		}
		return list
	}
	w := Witness{Key: k, end: end(p.judge.last), hops: named(p.RouteAt(now))}
	for _, m := range p.judge.open {
		w.busy = w.busy || !m.closed
		if now.Sub(m.From) >= fresh || !m.NewLevel.IsZero() {
			continue
		}
		at := now
		if m.Kind == Lost {
			at = m.From.Add(-time.Second) // what is found now ends where it is cut
		}
		w.open = append(w.open, witnessed{m.number, m.clone(), named(p.RouteAt(at))})
	}
	if !w.busy {
		w.slower, w.counted = p.judge.slower(), p.judge.counted()
	}
	return w
}

// located are the measures that a segment may add to.
var located = []baseline.Measure{baseline.RTT, baseline.Loss}

// affected is a path with an episode that is open, or has just been.
type affected struct {
	key    Key
	number int
	e      Episode
	hops   []string
	links  []incident.Link
}

// Find looks for what the paths that got worse lately have in common. It returns the
// incidents that are new, or other than they were.
func (x *Incidents) Find(now time.Time, witnesses []Witness) (changed []Incident) {
	var list []affected
	for _, w := range witnesses {
		for _, m := range w.open {
			list = append(list, affected{key: w.Key, number: m.number, e: m.e, hops: m.hops})
		}
	}
	slices.SortStableFunc(list, func(a, b affected) int { return a.e.From.Compare(b.e.From) })
	for len(list) > 0 {
		n := 1
		for n < len(list) && list[n].e.From.Sub(list[n-1].e.From) <= onsets+halfDoubt(list[n].e)+halfDoubt(list[n-1].e) {
			n++
		}
		if n > 1 {
			changed = append(changed, x.explain(list[:n], witnesses, now)...)
		}
		list = list[n:]
	}
	return changed
}

// halfDoubt is by how much the begin of an episode is in doubt.
func halfDoubt(e Episode) time.Duration { return min(10*time.Minute, e.Doubt.To.Sub(e.Doubt.From)/2) }

// explain looks for the segments that a group of paths with the same onset share.
func (x *Incidents) explain(group []affected, witnesses []Witness, now time.Time) (changed []Incident) {
	for _, m := range located {
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
		observed, members := observe(worse, in, witnesses, m, now)
		taken := map[int]bool{} // incidents that a segment found now is
		for _, s := range incident.Explain(observed).Segments {
			if len(s.Paths) < 2 {
				continue
			}
			if i, ok := x.note(s, m, members, taken, now); ok {
				changed = append(changed, i)
			}
		}
		changed = append(changed, x.takeBack(m, taken, now)...)
	}
	return changed
}

// takeBack takes back the incidents whose episodes are all part of those that were found now, but
// are none of these: with what is known now they need no segment of their own.
func (x *Incidents) takeBack(m baseline.Measure, found map[int]bool, now time.Time) (changed []Incident) {
	for i, old := range x.list {
		if !old.Open() || old.Measure != m || found[i] {
			continue
		}
		for k := range found {
			if x.list[k].Open() && x.list[k].covers(old) {
				old.To, old.TakenBack = now, now
				changed = append(changed, *old)
				break
			}
		}
	}
	return changed
}

// covers reports whether all episodes of another incident are part of it.
func (i *Incident) covers(o *Incident) bool {
	for _, m := range o.Members {
		mine := i.episodesOf(m.Path)
		for _, n := range m.Episodes {
			if !slices.Contains(mine, n) {
				return false
			}
		}
	}
	return true
}

// observe says by how much each path is worse, and which ones are as ever.
func observe(worse []affected, in map[Key]bool, witnesses []Witness, m baseline.Measure, now time.Time) (list []incident.Observed, members []affected) {
	var routes [][]string
	for _, w := range witnesses {
		if w.hops != nil {
			routes = append(routes, w.hops)
		}
	}
	known := betweens(routes)
	began := now
	for _, a := range worse {
		if a.e.From.Before(began) {
			began = a.e.From
		}
		if a.hops == nil {
			continue
		}
		a.links = linksOf(a.key.From, a.key.To, a.hops, known)
		x, _ := a.e.Excess(m)
		o := incident.Observed{Path: a.key.id(), Links: a.links, Worse: true}
		if m.Counted() {
			o.Excess, o.Spread = lossOf(x.Now, x.Normal, float64(x.Sent))
		} else {
			o.Excess = max(0, x.Now-x.Normal)
			o.Spread = max(x.Tolerance/4, (x.NowHigh-x.NowLow)/4)
		}
		list = append(list, o)
		members = append(members, a)
	}
	for _, w := range witnesses {
		if in[w.Key] || w.busy || now.Sub(w.end) > healthyWithin || w.hops == nil {
			continue
		}
		o := incident.Observed{Path: w.Key.id(), Links: linksOf(w.Key.From, w.Key.To, w.hops, known)}
		switch {
		case m.Counted() && len(w.counted) > 0:
			o.Excess, o.Spread = lossOf(since(w.counted, began))
		case !m.Counted() && w.slower.known:
			o.Excess, o.Spread = max(0, w.slower.shift), w.slower.tolerance/3
		default:
			continue
		}
		list = append(list, o)
	}
	return list, members
}

// lossOf is by how much more is lost than normally, in a measure that adds up along a route, and
// the standard error of that: so many probes say no more than they can.
func lossOf(now, normal, sent float64) (excess, spread float64) {
	n, kept := max(1, sent), 1-min(0.98, now)
	return max(0, incident.FromLoss(now)-incident.FromLoss(normal)), math.Sqrt(max(now, 2/n)*kept/n)/kept + 0.002
}

// witnessing is how many of the last readings of a path that is not told of are looked at.
const witnessing = 15

// counted is what the last readings lost.
func (j *Judge) counted() (list []counts) {
	t := j.tracks[baseline.Loss]
	if t == nil {
		return nil
	}
	for _, s := range t.past[max(0, len(t.past)-witnessing):] {
		list = append(list, counts{s.end, s.sent, s.lost, s.expected})
	}
	return list
}

// since is the part of the probes that was lost since a time, the part that was expected to be,
// and how many there were; of the last reading at least.
func since(list []counts, at time.Time) (now, normal, sent float64) {
	var lost, expected float64
	for i, c := range list {
		if c.end > at.Unix() || i == len(list)-1 {
			lost += float64(c.lost)
			expected += float64(c.expected) * float64(c.sent)
			sent += float64(c.sent)
		}
	}
	return lost / max(1, sent), expected / max(1, sent), sent
}

// slower is by how much the last few readings of a path that is not told of are slower than
// expected, and the tolerance.
func (j *Judge) slower() (s standing) {
	t := j.tracks[baseline.RTT]
	if t == nil || len(t.past) == 0 {
		return s
	}
	var shifts []float64
	for _, x := range t.past[max(0, len(t.past)-5):] {
		shifts = append(shifts, float64(x.shift))
		s.tolerance = float64(x.tolerance)
	}
	slices.Sort(shifts)
	s.shift, s.known = middle(shifts), true
	return s
}

// note keeps an incident, or adds to the one that it is; false when there is nothing new in it.
func (x *Incidents) note(s incident.Segment, m baseline.Measure, members []affected, taken map[int]bool, now time.Time) (Incident, bool) {
	on := map[incident.Link]bool{}
	for _, l := range s.Links {
		on[l] = true
	}
	n := &Incident{Measure: m, Segment: s, ToldAt: now, Sure: min(0.999, s.Sure)}
	for _, a := range members {
		if !slices.ContainsFunc(a.links, func(l incident.Link) bool { return on[l] }) {
			continue
		}
		n.add(a.key, a.number)
		if n.From.IsZero() || a.e.From.Before(n.From) {
			n.From = a.e.From
		}
	}
	if len(n.Members) < 2 {
		return Incident{}, false
	}
	n.sort()
	same := func(old *Incident) bool {
		return slices.ContainsFunc(old.Segment.Links, func(l incident.Link) bool { return on[l] })
	}
	// The same segment, or else the same paths: those that joined may have shown that it is
	// another.
	for k, is := range []func(*Incident) bool{same, n.sharesEpisode} {
		for i, old := range x.list {
			if !old.Open() || taken[i] || !is(old) || now.Sub(old.From) > 6*fresh {
				continue
			}
			taken[i] = true
			if old.Measure != m && len(old.Members) >= len(n.Members) {
				return Incident{}, false
			}
			n.Number, n.ToldAt = old.Number, old.ToldAt
			if k == 0 && old.Measure == m {
				n.keep(old, members)
			}
			*old = *n
			return *old, true
		}
	}
	taken[len(x.list)] = true
	n.Number = 1
	if len(x.list) > 0 {
		n.Number = x.list[len(x.list)-1].Number + 1
	}
	x.list = append(x.list, n)
	return *n, true
}

// keep takes over the episodes of an older form of the incident that were not looked at again: they
// began earlier, and are no less a part of it.
func (i *Incident) keep(old *Incident, looked []affected) {
	for _, m := range old.Members {
		for _, number := range m.Episodes {
			if slices.ContainsFunc(looked, func(a affected) bool { return a.key == m.Path && a.number == number }) {
				continue
			}
			i.add(m.Path, number)
			if old.From.Before(i.From) {
				i.From = old.From
			}
		}
	}
	i.sort()
}

func (i *Incident) add(k Key, number int) {
	if n := slices.IndexFunc(i.Members, func(m Member) bool { return m.Path == k }); n >= 0 {
		i.Members[n].Episodes = append(i.Members[n].Episodes, number)
		return
	}
	i.Members = append(i.Members, Member{k, []int{number}})
}

func (i *Incident) sort() {
	slices.SortFunc(i.Members, func(a, b Member) int { return strings.Compare(a.Path.id(), b.Path.id()) })
}

// sharesEpisode reports whether two incidents are made of the same episodes, for the most part.
func (i *Incident) sharesEpisode(o *Incident) bool {
	same := 0
	for _, m := range o.Members {
		mine := i.episodesOf(m.Path)
		for _, n := range m.Episodes {
			if slices.Contains(mine, n) {
				same++
			}
		}
	}
	return same*2 >= min(len(i.Members), len(o.Members))
}

// End ends the incidents whose episodes are all over, and returns those. episode finds one by
// its path and number; one that is not found is over.
func (x *Incidents) End(episode func(Key, int) (Episode, bool)) (ended []Incident) {
	for _, i := range x.list {
		if !i.Open() {
			continue
		}
		last := i.From
		over := true
		for _, m := range i.Members {
			for _, n := range m.Episodes {
				e, known := episode(m.Path, n)
				if known && e.Open() {
					over = false
				} else if e.To.After(last) {
					last = e.To
				}
			}
		}
		if over {
			i.To = last
			ended = append(ended, *i)
		}
	}
	return ended
}

// Forget lets go of the incidents that were over before a time.
func (x *Incidents) Forget(before time.Time) {
	x.list = slices.DeleteFunc(x.list, func(i *Incident) bool { return !i.Open() && i.To.Before(before) })
}
