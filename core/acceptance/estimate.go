package acceptance

import (
	"slices"
	"time"

	"woodlark.example/core/capacity"
)

// Estimate is how long a plan takes, and how many bytes of frames go each way, at the least and
// at the most: a search ends sooner or later by what it finds.
type Estimate struct {
	Least      Span `json:"least"`
	Most       Span `json:"most"`
	Trials     int  `json:"trials"`
	MostTrials int  `json:"most_trials"`
	// Bytes of frames with FCS.
	LeastThere int64 `json:"least_there_bytes"`
	LeastBack  int64 `json:"least_back_bytes"`
	MostThere  int64 `json:"most_there_bytes"`
	MostBack   int64 `json:"most_back_bytes"`
}

// Around is what a trial takes beside its sending, waiting and resting: both ends agree on it.
const Around = 600 * time.Millisecond

// circuit is one that is made up.
type circuit struct {
	fits float64 // part of the highest rate
	loss bool    // each search has to go on by halves
}

// EstimateOf walks what is left of a plan, behind the trials that were made, over circuits that
// are made up: one that carries all, and others that carry less or lose a little.
func EstimateOf(p Plan, made []Outcome) (e Estimate) {
	for i, c := range []circuit{{fits: 1}, {fits: 0.9137}, {fits: 0.5077}, {fits: 0.1031}, {fits: 0.5077, loss: true}, {fits: 0.9137, loss: true}} {
		took, there, back, n := c.walk(p, made)
		if i == 0 || took < e.Least.D() {
			e.Least, e.Trials = Span(took), n
		}
		if i == 0 || took > e.Most.D() {
			e.Most, e.MostTrials = Span(took), n
		}
		if i == 0 {
			e.LeastThere, e.LeastBack = there, back
		}
		e.LeastThere, e.LeastBack = min(e.LeastThere, there), min(e.LeastBack, back)
		e.MostThere, e.MostBack = max(e.MostThere, there), max(e.MostBack, back)
	}
	return e
}

// Rest is how long is rested behind a trial.
func (p Plan) Rest() time.Duration { return p.Wait.Or(usualRest) }

// Lasts is how long a trial takes, with what is around it.
func (p Plan) Lasts(t Trial) time.Duration {
	switch {
	case t.Part == OfHost:
		return t.For.D()*time.Duration(max(1, len(t.Loads))) + 50*time.Millisecond
	case len(t.Loads) > 0 && t.Loads[0].Burst > 0:
		most := time.Duration(0)
		for _, l := range t.Loads {
			if l.FPS > 0 {
				most = max(most, time.Duration(float64(l.Burst)/l.FPS*float64(time.Second)))
			}
		}
		return min(most, t.For.D()) + Settle + Around + p.Rest()
	}
	return t.For.D() + Settle + Around + p.Rest()
}

func (c circuit) walk(p Plan, made []Outcome) (took time.Duration, there, back int64, n int) {
	w := &walk{p: p, pack: p.Packing(), made: slices.Clone(made)}
	w.carry = func(t Trial) (o Outcome) {
		for _, l := range t.Loads {
			s := c.carry(w, t, l)
			if t.Part != OfHost {
				bytes := int64(float64(s.Sent) * w.pack.MeanAt(l.Frames, capacity.Frame))
				if l.There || p.Ends == Returned {
					there += bytes
				}
				if !l.There || p.Ends == Returned {
					back += bytes
				}
			}
			o.Seen = append(o.Seen, s)
		}
		took += p.Lasts(t)
		n++
		return o
	}
	w.all()
	return took, there, back, n
}

// carry is what becomes of a load on the circuit.
func (c circuit) carry(w *walk, t Trial, l Load) Seen {
	most := l.FPS
	if w.p.BySize != nil && l.Service < 0 && len(l.Frames) == 1 {
		most = w.p.most(l.Frames[0], l.There)
	}
	fits := c.fits * most
	s := Seen{Offered: l.FPS, Sent: int64(l.FPS * t.For.D().Seconds()), Of: int(t.For.D() / time.Second)}
	s.Delay = &Delay{Of: OneWay}
	switch {
	case t.Part == OfHost:
		s.Offered = 1e12
	case l.Burst > 0:
		s.Sent = int64(l.Burst)
		s.Received, s.Whole = s.Sent, s.Sent
		if room := int64(fits / 50); t.Part == BackToBack && c.fits < 1 && s.Sent > room {
			s.Received, s.Whole = room, room
		}
		return s
	}
	s.Received = s.Sent
	if l.Service < 0 && l.FPS > fits*(1+1e-9) {
		s.Received = int64(float64(s.Sent) * fits / l.FPS)
		if !c.loss {
			steady := fits
			s.Steady = &steady
		}
	}
	s.Whole = s.Received
	return s
}

// Hard is what a trial asks of its two ends.
type Hard struct {
	For        time.Duration
	PayloadBps float64 // of one session, one way
}

// Hardest are what the trials of a plan ask for, without those of searches, which ask for no more.
func (p Plan) Hardest() (list []Hard) {
	pack := p.Packing()
	add := func(fps float64, frames []int, d time.Duration) {
		list = append(list, Hard{d, fps * 8 * pack.MeanAt(frames, capacity.Payload)})
	}
	if b := p.BySize; b != nil {
		longest := max(b.Throughput.For.Or(usualTrial), b.Latency.For.Or(usualTrial), b.Loss.For.Or(usualTrial), b.Burst.Longest.Or(usualBurst), p.First.For.Or(usualTrial))
		for _, size := range p.sizes() {
			for _, there := range []bool{true, false} {
				if p.goes(there) {
					add(p.most(size, there), []int{size}, longest)
				}
			}
		}
	}
	if x := p.By; x != nil {
		longest := max(x.Configuration.StepFor.Or(usualTrial), p.First.For.Or(usualTrial))
		if !x.Performance.Skip {
			longest = max(longest, x.Performance.For.Or(usualPerform))
		}
		for _, s := range x.List {
			frames := p.frames(s)
			for _, there := range []bool{true, false} {
				if p.goes(there) {
					cir, eir := p.fps(s.CIR.Of(there), frames, there), p.fps(s.EIR.Of(there), frames, there)
					add(1.25*(cir+eir), frames, longest)
				}
			}
		}
	}
	return list
}
