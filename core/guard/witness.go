package guard

import (
	"math"
	"slices"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/incident"
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

// healthyWithin is how new the last reading of a path has to be to stand witness.
const healthyWithin = 15 * time.Minute

// located are the measures that a segment may add to.
var located = []baseline.Measure{baseline.RTT, baseline.Loss}

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
