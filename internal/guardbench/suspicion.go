package guardbench

import (
	"math"
	"math/rand/v2"
	"time"

	"woodlark.example/core/baseline"
	"woodlark.example/core/guard"
)

// How a path that looks wrong is probed more, as the service does.
const (
	burstProbes = 50
	burstLasts  = 11 * time.Second // the last answer is waited for
	burstPause  = 5 * time.Second
	burstRounds = 16
	burstRest   = 5 * time.Minute
	// asked is how long after a reading's end the service has it, and the agent begins.
	asked = 2 * time.Second
)

// suspicion probes a path more when it looks wrong.
type suspicion struct {
	path    *path
	guard   *guard.Path
	r, bent *rand.Rand
	judged  time.Time // when the last reading ended
	rounds  int       // that are left
	next    time.Time // when the next is due
	rested  time.Time
	told    map[int]time.Time // when episodes were told, by number
	packets int
}

func newSuspicion(p *path, g *guard.Path) *suspicion {
	return &suspicion{path: p, guard: g, r: rand.New(rand.NewPCG(p.seed, 7)), bent: rand.New(rand.NewPCG(p.seed, 8)), told: map[int]time.Time{}}
}

// came is called when a reading was judged.
func (x *suspicion) came(p baseline.Point) {
	x.judged = p.At.Add(p.Span)
	if x.rounds == 0 && !x.judged.Before(x.rested) && x.guard.Suspects(x.judged) {
		x.rounds, x.next = burstRounds, x.judged.Add(asked)
	}
}

// during has the bursts that are due in the minutes of the next reading.
func (x *suspicion) during(t time.Time, minutes []state) {
	last := t.Add(time.Duration(len(minutes)) * time.Minute)
	for x.rounds > 0 && x.next.Before(last) {
		if x.next.Before(t) { // of a gap in measuring
			x.next = t
		}
		minute := int(x.next.Sub(t) / time.Minute)
		s := minutes[minute]
		if s.absent || !x.guard.Suspects(x.next) {
			x.over(x.next)
			return
		}
		point := x.burst(t.Add(time.Duration(minute)*time.Minute), x.next, s)
		ended := x.next.Add(burstLasts)
		point.Span = ended.Sub(point.At)
		x.packets += burstProbes
		for _, c := range x.guard.Beside(point) {
			if c.What == guard.Opened {
				x.told[c.Number] = ended
			}
		}
		if x.rounds--; x.rounds == 0 || !x.guard.Suspects(ended) {
			x.over(ended)
			return
		}
		x.next = ended.Add(burstPause)
	}
}

func (x *suspicion) over(now time.Time) { x.rounds, x.rested = 0, now.Add(burstRest) }

// burst is what ten seconds of more probes find. Losses in a run go on for as many seconds as
// probes of a second are lost, from somewhere in the minute; half of the noise is that of the
// minute.
func (x *suspicion) burst(minute, at time.Time, s state) baseline.Point {
	x.path.fault.apply(x.bent, &s, at.Add(burstLasts/2))
	own := rand.New(rand.NewPCG(x.path.seed, uint64(minute.Unix())))
	shared, begins := own.NormFloat64(), 60*own.Float64()
	p := baseline.Point{At: minute, Sent: burstProbes}
	lost := burstProbes
	if !s.down {
		from := at.Sub(minute).Seconds()
		within := max(0, min(from+10, begins+s.burst)-max(from, begins))
		lost = min(burstProbes, poisson(x.r, s.loss*burstProbes)+int(math.Round(within*burstProbes/10)))
	}
	p.Lost, p.Answered = lost, burstProbes-lost
	if p.Answered > 0 {
		p.Set(baseline.RTT, max(0.05, s.delay+s.tail+s.noise*math.Sqrt(0.5)*(shared+x.r.NormFloat64())))
		p.Set(baseline.Jitter, max(0.01, s.jitter*(1+0.15*x.r.NormFloat64())))
	}
	return p
}
