package guard

import (
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
)

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
