package trace

import (
	"time"

	"woodlark.example/core/reading"
)

const (
	feelerTTL = 64
	// mostFeelers go all the way, each by a flow of its own, as often as feelerTries: a
	// flow of which none is answered where others are may be put on a way that lets
	// nothing through. So many miss a fourth part of the flows once in a hundred times.
	mostFeelers = 16
	feelerTries = 3
	feelerGap   = 10 * time.Millisecond
	// udpFeelerGap is that of datagrams, whose answers hosts limit.
	udpFeelerGap = 50 * time.Millisecond
)

// feelers are probes with a large TTL, one flow each, that say which flows get through
// to the target at all. Routers on the way have no part in the answers, so that what
// they spare is not taken for it.
type feelers struct {
	sent, open [mostFeelers]int
	came       [mostFeelers]bool
	next       time.Time // not before then
	suspect    bool      // a flow was silent at a hop that answers others
}

func (f *feelers) fired(flow int, gap time.Duration, now time.Time) {
	f.sent[flow]++
	f.open[flow]++
	f.next = now.Add(gap)
}

func (f *feelers) missed(flow int) { f.open[flow]-- }

// any reports whether one flow got through.
func (f *feelers) any() bool {
	for _, came := range f.came {
		if came {
			return true
		}
	}
	return false
}

// vanishes reports whether a flow was asked often enough and never got through, though
// another did.
func (f *feelers) vanishes(flow int) bool {
	return flow < mostFeelers && !f.came[flow] && f.open[flow] == 0 && f.sent[flow] >= feelerTries && f.any()
}

// doubted reports whether a flow vanishes, or may: that it is not answered somewhere says
// nothing of who is there, then.
func (f *feelers) doubted(flow int) bool {
	asked := flow < mostFeelers && f.sent[flow] > 0 && !f.came[flow]
	return asked && (f.sent[flow] < feelerTries || f.open[flow] > 0 || f.any())
}

// lossy reports whether a good part of them was lost whatever the flow: then hops that do
// not answer do not spare their answers, by all that is known.
func (f *feelers) lossy() bool {
	const enough, part = 8, 0.2
	sent, came := 0, 0
	for flow := range mostFeelers {
		if f.vanishes(flow) {
			continue
		}
		sent += f.sent[flow] - f.open[flow]
		if f.came[flow] {
			came++
		}
	}
	return sent >= enough && float64(sent-came) >= part*float64(sent)
}

// uneven reports whether some flow vanishes.
func (f *feelers) uneven() bool {
	for flow := range mostFeelers {
		if f.vanishes(flow) {
			return true
		}
	}
	return false
}

// feel is the next feeler that is wanted: the first by itself, then those of other flows,
// unless one flow only is asked for, and those again that were not answered. Datagrams
// use up the answers of their target, so that others than the first go only when it came
// back from nowhere or a flow looks as if it vanished.
func (t *tracer) feel() []wish {
	f := &t.feelers
	ttl := max(feelerTTL, t.FirstTTL)
	for flow := range mostFeelers {
		if t.OneFlow && flow > 0 || flow > 0 && t.Via.Kind == reading.ByUDP && !f.suspect && (f.came[0] || f.open[0] > 0) {
			return nil
		}
		again := !t.OneFlow && !f.came[flow] && f.open[flow] == 0 && f.sent[flow] < feelerTries
		if f.sent[flow] == 0 || again {
			return []wish{{ttl: ttl, flow: flow, feeler: true, after: f.next}}
		}
	}
	return nil
}

func (t *tracer) feelerGap() time.Duration {
	if t.Via.Kind == reading.ByUDP {
		return udpFeelerGap
	}
	return feelerGap
}
