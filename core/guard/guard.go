package guard

import (
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/baseline"
)

// Key names a path.
type Key struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Family string `json:"family,omitempty"`
	Via    string `json:"via,omitempty"`
}

func (k Key) String() string { return k.From + " → " + k.To }

// id is another for each path.
func (k Key) id() string { return strings.Join([]string{k.From, k.To, k.Family, k.Via}, "\x00") }

// spread says when in the day a path is trained, always the same for a path.
func (k Key) spread() float64 {
	h := fnv.New64a()
	for _, s := range []string{k.From, k.To, k.Family, k.Via} {
		_, _ = h.Write([]byte(s))
		_, _ = h.Write([]byte{0})
	}
	return float64(h.Sum64()>>11) / (1 << 53)
}

// Guard guards many paths together. It is not safe for concurrent use.
type Guard struct {
	options   *Options
	paths     map[Key]*Path
	order     []Key
	incidents Incidents
	pending   time.Time // when to look for incidents
	strict    Strictness
}

// New returns a guard of no paths yet.
func New(o Options) *Guard {
	return &Guard{options: &o, paths: map[Key]*Path{}}
}

// Path is the path of a key; it is made when it is not there.
func (g *Guard) Path(k Key) *Path {
	p := g.paths[k]
	if p == nil {
		p = NewPath(g.options, k.spread())
		p.judge.SetStrict(g.strict.Now())
		g.paths[k] = p
		g.order = append(g.order, k)
	}
	return p
}

// Keys are the paths, in the order in which they came.
func (g *Guard) Keys() []Key { return g.order }

// Add takes the next reading of a path and returns what happened to its episodes. Readings
// of a path must come in order of time, those of all paths about so.
func (g *Guard) Add(k Key, point baseline.Point) []Change {
	p := g.Path(k)
	g.tick(point.At)
	return g.look(p.Add(point))
}

// AddLoaded takes the next reading of a path beside which load runs went on; see Path.AddLoaded.
func (g *Guard) AddLoaded(k Key, point baseline.Point) []Change {
	p := g.Path(k)
	g.tick(point.At)
	return g.look(p.AddLoaded(point))
}

// look notes what changes mean for incidents.
func (g *Guard) look(changes []Change) []Change {
	for _, c := range changes {
		switch c.What {
		case Opened:
			g.strict.Told(c.At)
			fallthrough
		case Resumed, Worse:
			g.lookSoon(c.At)
		case Closed, Accepted, Crept:
			g.incidents.End(g.episode)
		}
	}
	return changes
}

// Route notes the route that a path was found to have.
func (g *Guard) Route(k Key, at time.Time, hops []string) {
	if g.Path(k).Route(at, hops) {
		g.lookSoon(at)
	}
}

func (g *Guard) episode(k Key, number int) (Episode, bool) { return g.paths[k].Episode(number) }

// Incidents are those that stand, in the order in which they were told.
func (g *Guard) Incidents() []Incident {
	return slices.DeleteFunc(g.incidents.List(), func(i Incident) bool { return !i.Stands() })
}

// LookDelay is for how long others that got worse at the same time are waited for.
const LookDelay = 75 * time.Second

func (g *Guard) lookSoon(at time.Time) {
	if g.pending.IsZero() {
		g.pending = at.Add(LookDelay)
	}
}

// tick does what is due at a time.
func (g *Guard) tick(now time.Time) {
	if !g.pending.IsZero() && !now.Before(g.pending) {
		at := g.pending
		g.pending = time.Time{}
		list := make([]Witness, len(g.order))
		for i, k := range g.order {
			list[i] = g.paths[k].Witness(k, at)
		}
		g.incidents.Find(at, list)
	}
	if g.strict.Due(now) {
		strict := g.strict.Weigh(now, len(g.paths))
		for _, p := range g.paths {
			p.judge.SetStrict(strict)
		}
	}
}

// Flush does what is still due when no more readings come.
func (g *Guard) Flush() {
	if !g.pending.IsZero() {
		g.tick(g.pending)
	}
}
