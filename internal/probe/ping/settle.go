package ping

import (
	"container/heap"
	"context"
	"runtime"
	"time"
)

// ruling is what is to be said of a probe at a time: first that it is lost, if
// nothing was heard of it, later what became of it for good.
type ruling struct {
	at   time.Time
	last bool
	*flight
	aim *aim
}

// agenda is a heap of rulings by their time, and those of one time in the
// order of sending.
type agenda []ruling

func (g agenda) Len() int { return len(g) }
func (g agenda) Less(i, j int) bool {
	if g[i].at.Equal(g[j].at) {
		return g[i].number < g[j].number
	}
	return g[i].at.Before(g[j].at)
}
func (g agenda) Swap(i, j int) { g[i], g[j] = g[j], g[i] }
func (g *agenda) Push(x any)   { *g = append(*g, x.(ruling)) }
func (g *agenda) Pop() any {
	old := *g
	v := old[len(old)-1]
	old[len(old)-1] = ruling{}
	*g = old[:len(old)-1]
	return v
}

// lasting is how long after its sending a probe is final: a late answer and
// further copies are still seen until then.
func (a *aim) lasting() time.Duration { return a.Wait + min(a.Wait, time.Second) }

// await puts a probe that was just sent on the agenda.
func (e *Engine) await(a *aim, f *flight) {
	at := f.sent.Add(a.Wait)
	heap.Push(&e.agenda, ruling{at: at, flight: f, aim: a})
	if e.looks.IsZero() || at.Before(e.looks) {
		e.looks = at
		nudge(e.sooner)
	}
}

// settle is the loop that makes fates final: a probe that was not answered is
// told as lost when its wait has passed, and settled after as long again.
func (e *Engine) settle(ctx context.Context) {
	for ctx.Err() == nil {
		e.clock.Until(ctx, e.settleDue(), e.sooner)
	}
}

const (
	// settleAtOnce is how many rulings are given while sending waits: many at
	// once would make probes late.
	settleAtOnce = 32
	// settleRest is how long settling rests between two looks; less makes no
	// difference to who watches.
	settleRest = 20 * time.Millisecond
)

// settleDue gives the rulings that are due and returns when to look again; a
// zero time when no probe is on its way.
func (e *Engine) settleDue() time.Time {
	now := e.clock.Now()
	for {
		e.mu.Lock()
		for range settleAtOnce {
			if len(e.agenda) == 0 {
				e.looks = time.Time{}
				e.mu.Unlock()
				return time.Time{}
			}
			if e.agenda[0].at.After(now) {
				e.looks = e.agenda[0].at
				if soon := now.Add(settleRest); e.looks.Before(soon) {
					e.looks = soon
				}
				defer e.mu.Unlock()
				return e.looks
			}
			e.judge(heap.Pop(&e.agenda).(ruling), now)
		}
		e.mu.Unlock()
		runtime.Gosched() // whoever waits to send goes first
	}
}

// judge gives one ruling.
func (e *Engine) judge(v ruling, now time.Time) {
	a := v.aim
	if a.stopped {
		return
	}
	if !v.last {
		v.at, v.last = v.sent.Add(a.lasting()), true
		heap.Push(&e.agenda, v)
		if v.heard {
			return
		}
		v.heard = true
		e.hear(a, v.flight)
		if a.finished() {
			e.finish(a)
		}
		return
	}
	n := 0
	for n < len(a.flights) && now.Sub(a.flights[n].sent) >= a.lasting() {
		e.settled(a, a.flights[n])
		n++
	}
	a.flights = a.flights[n:]
}

func (e *Engine) settled(a *aim, f *flight) {
	delete(e.inFlight, f.number)
	if a.Settled != nil {
		a.Settled(f.probe)
	}
}

// finish settles what is left of a target that has sent all its probes.
func (e *Engine) finish(a *aim) {
	if a.stopped {
		return
	}
	a.stopped = true
	for _, f := range a.flights {
		e.settled(a, f)
	}
	a.flights = nil
	delete(e.aims, a)
	if a.Done != nil {
		a.Done()
	}
}
