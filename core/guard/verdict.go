package guard

import (
	"cmp"
	"slices"
	"time"

	"woodlark.example/core/baseline"
)

// State is a path's state.
type State string

// The states of a path.
const (
	StateSteady     State = "steady"
	StateDegraded   State = "degraded"
	StateLost       State = "lost"
	StateUnmeasured State = "unmeasured"
)

// States are all states, worst first.
func States() []State { return []State{StateLost, StateDegraded, StateUnmeasured, StateSteady} }

// Verdict is a path's state and what it rests on.
type Verdict struct {
	State   State
	Since   time.Time // zero when not known
	Open    []Open    // the episodes that go on, the one that counts most first
	Never   bool      // lost: it has not answered any probe since it was first measured
	Silence int       // unanswered probes in a row
	Newest  baseline.Point
	// Learning: until then only the loss of all answers is told; zero when it is over.
	Learning time.Time
}

// Open is an episode that goes on, with its number on the path.
type Open struct {
	Number  int
	Episode Episode
}

// Episode is the open episode that counts most; nil when there is none.
func (v Verdict) Episode() *Episode {
	if len(v.Open) == 0 {
		return nil
	}
	return &v.Open[0].Episode
}

// leastSilence is how many probes without an answer make a path that never answered lost.
const leastSilence = 20

// Verdict is how the path stands at a time. One whose last reading ended more than patience
// ago is unmeasured since then. What waits to be accepted as a new level counts after what
// is news.
func (p *Path) Verdict(now time.Time, patience time.Duration) Verdict {
	j := p.judge
	v := Verdict{State: StateUnmeasured, Silence: j.silent, Newest: j.last}
	if j.last.At.IsZero() {
		return v
	}
	if until, is := p.Learning(now); is {
		v.Learning = until
	}
	if last := end(j.last); now.Sub(last) > patience {
		v.Since = last
		return v
	}
	v.Open = p.Open()
	switch {
	case len(v.Open) > 0:
		v.State, v.Since = StateDegraded, v.Open[0].Episode.From
		if v.Open[0].Episode.Kind == Lost {
			v.State = StateLost
			break
		}
		for _, o := range v.Open {
			if o.Episode.From.Before(v.Since) {
				v.Since = o.Episode.From
			}
		}
	case !j.answered && j.silent >= leastSilence:
		v.State, v.Never, v.Since = StateLost, true, p.first
	default:
		v.State = StateSteady
	}
	return v
}

// Open are the episodes that go on: what is lost first, then what is news, the worst first,
// then what has become a new level.
func (p *Path) Open() (list []Open) {
	for _, m := range p.judge.open {
		if !m.closed {
			list = append(list, Open{m.number, m.clone()})
		}
	}
	rank := func(e Episode) int {
		switch {
		case e.Kind == Lost:
			return 0
		case e.NewLevel.IsZero():
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(a, b Open) int {
		return cmp.Or(cmp.Compare(rank(a.Episode), rank(b.Episode)), cmp.Compare(b.Episode.Severity(), a.Episode.Severity()))
	})
	return list
}

// Severity is by how many tolerances the episode's worst measure is worse than normal.
func (e Episode) Severity() (worst float64) {
	for _, x := range e.Excesses {
		worst = max(worst, x.Severity())
	}
	return worst
}
