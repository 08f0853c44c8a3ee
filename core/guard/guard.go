package guard

import (
	"hash/fnv"
	"math"
	"slices"
	"time"

	baseline "woodlark.example/core/normal"
)

// Key names a path.
type Key struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Family string `json:"family,omitempty"`
	Via    string `json:"via,omitempty"`
}

func (k Key) String() string { return k.From + " → " + k.To }

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
	incidents []*Incident
	pending   time.Time // when to look for incidents
	weighed   time.Time // when strictness was last worked out
	openings  []time.Time
	strict    float64
}

// New returns a guard of no paths yet.
func New(o Options) *Guard {
	return &Guard{options: &o, paths: map[Key]*Path{}, strict: 1}
}

// Path is the path of a key; it is made when it is not there.
func (g *Guard) Path(k Key) *Path {
	p := g.paths[k]
	if p == nil {
		p = NewPath(g.options, k.spread())
		p.judge.SetStrict(g.strict)
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
	changes := p.Add(point)
	for _, c := range changes {
		switch c.What {
		case Opened:
			g.openings = append(g.openings, c.At)
			fallthrough
		case Resumed, Worse:
			g.lookSoon(c.At)
		case Closed, Accepted:
			g.endIncidents(c.At)
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

// lookDelay is for how long others that got worse at the same time are waited for.
const lookDelay = 75 * time.Second

func (g *Guard) lookSoon(at time.Time) {
	if g.pending.IsZero() {
		g.pending = at.Add(lookDelay)
	}
}

// tick does what is due at a time.
func (g *Guard) tick(now time.Time) {
	if !g.pending.IsZero() && !now.Before(g.pending) {
		at := g.pending
		g.pending = time.Time{}
		g.findIncidents(at)
	}
	if now.Sub(g.weighed) >= 6*time.Hour {
		g.weighed = now
		g.weighStrictness(now)
	}
}

// Flush does what is still due when no more readings come.
func (g *Guard) Flush() {
	if !g.pending.IsZero() {
		g.tick(g.pending)
	}
}

const (
	// wronglyTold is how many episodes of a path and year may be told wrongly before strictness
	// is weighed, and falseShare which part of what is told may be false.
	wronglyTold = 0.2
	falseShare  = 0.02
	// mostStrict is how much more evidence, in natural logarithms, is asked for at the most: the
	// number of paths must not make each of them slow.
	mostStrict = 1
	countedFor = 30 * 24 * time.Hour
)

// weighStrictness asks for more evidence while little is told among many paths, so that of
// what is told no more than a small part is false: a network in which much goes on may be
// told of it sooner than one in which nothing does.
func (g *Guard) weighStrictness(now time.Time) {
	g.openings = slices.DeleteFunc(g.openings, func(t time.Time) bool { return now.Sub(t) > countedFor })
	expected := float64(len(g.paths)) * wronglyTold * countedFor.Hours() / (365 * 24)
	more := math.Log(expected / (falseShare * float64(len(g.openings)+1)))
	g.strict = 1 + min(mostStrict, max(0, more))/baseline.Sure[ragged]
	for _, p := range g.paths {
		p.judge.SetStrict(g.strict)
	}
}
