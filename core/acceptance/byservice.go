package acceptance

import (
	"fmt"
	"slices"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/dscp"
)

// services tests the configuration of each service (ITU-T Y.1564 §8.1.1), and then all of them
// together for a while (§8.1.2).
func (w *walk) services() bool {
	x := w.p.By
	for _, s := range x.List {
		r := ServiceResult{Service: s.Name, Frames: w.p.frames(s)}
		if len(r.Frames) > 16 {
			r.Frames = nil // random ones are as the plan says
		}
		for _, there := range []bool{true, false} {
			if w.p.goes(there) {
				r.Ways = append(r.Ways, ServiceWay{There: there, CIR: w.rates(w.cir(s, there), w.p.frames(s)), EIR: w.rates(w.eir(s, there), w.p.frames(s))})
			}
		}
		w.r.Services = append(w.r.Services, r)
	}
	if !x.Configuration.Skip {
		for i := range x.List {
			for _, group := range w.p.directions() {
				if !w.configuration(i, group) {
					return false
				}
			}
		}
	}
	return x.Performance.Skip || w.performance()
}

func (w *walk) cir(s Service, there bool) float64 {
	return w.p.fps(s.CIR.Of(there), w.p.frames(s), there)
}

func (w *walk) eir(s Service, there bool) float64 {
	return w.p.fps(s.EIR.Of(there), w.p.frames(s), there)
}

// way is the result of a direction of a service.
func (w *walk) way(i int, there bool) *ServiceWay {
	ways := w.r.Services[i].Ways
	return &ways[slices.IndexFunc(ways, func(x ServiceWay) bool { return x.There == there })]
}

// tested is a service in one direction under test.
type tested struct {
	i      int
	s      Service
	there  bool
	frames []int
	r      *ServiceWay
}

// configuration goes through the steps of one service, in directions that are tested at once.
func (w *walk) configuration(i int, group []bool) bool {
	x := w.p.By.Configuration
	s := w.p.By.List[i]
	var ways []tested
	for _, there := range group {
		if w.p.goes(there) {
			ways = append(ways, tested{i, s, there, w.p.frames(s), w.way(i, there)})
		}
	}
	if !w.steps(ways) {
		return false
	}
	with := func(f func(tested) bool) []tested {
		return slices.DeleteFunc(slices.Clone(ways), func(t tested) bool { return !f(t) })
	}
	if is(x.Excess, true) {
		if list := with(func(t tested) bool { return w.eir(t.s, t.there) > 0 }); len(list) > 0 && !w.excess(list) {
			return false
		}
	}
	if is(x.Policing, true) && !w.policing(ways) {
		return false
	}
	if is(x.Bursts, true) {
		if s.CBS > 0 {
			if list := with(func(t tested) bool { return w.cir(t.s, t.there) > 0 }); len(list) > 0 && !w.bursts(list, CommittedSize, s.CBS) {
				return false
			}
		}
		if s.EBS > 0 && !w.bursts(ways, ExcessSize, s.CBS+s.EBS) {
			return false
		}
	}
	return true
}

func (w *walk) stepFor() time.Duration { return w.p.By.Configuration.StepFor.Or(usualTrial) }

// send makes a trial of a rate for each direction, marked where the service is: what is within
// CIR as green, the rest as yellow.
func (w *walk) send(part Part, what string, ways []tested, rate func(tested) float64) (t Trial, o Outcome, ok bool) {
	t = Trial{Part: part, Service: ways[0].s.Name, For: Span(w.stepFor())}
	for _, x := range ways {
		fps := rate(x)
		l := Load{There: x.there, Service: x.i, FPS: fps, Frames: x.frames}
		if x.s.Colours == nil {
			t.Loads = append(t.Loads, l)
			continue
		}
		green := min(fps, w.cir(x.s, x.there))
		l.Colour, l.FPS = "green", green
		if green > 0 {
			t.Loads = append(t.Loads, l)
		}
		if fps > green*(1+1e-9) {
			l.Colour, l.FPS = yellow, fps-green
			t.Loads = append(t.Loads, l)
		}
	}
	t.Says = fmt.Sprintf("%s, %s", ways[0].s.Name, what)
	o, ok = w.do(t)
	return t, o, ok
}

// of is what of a trial was of a direction: all of it, and what was green; nil where nothing was
// marked.
func (w *walk) of(t Trial, o Outcome, x tested, share float64) (all Step, seen Seen, green *Step) {
	var sum Load
	for i, l := range t.Loads {
		if l.There != x.there || l.Service != x.i {
			continue
		}
		s := o.Seen[i]
		if l.Colour == "green" {
			g := w.step(l, s, share, t.For.D())
			green = &g
		}
		if sum.Frames == nil {
			sum, seen = l, s
			continue
		}
		sum.FPS += l.FPS
		delay, steady := seen.Delay, seen.Steady
		offered := seen.Offered + s.Offered
		seen = add(seen, s)
		seen.Offered, seen.Delay = offered, delay
		seen.Steady, seen.Growth = nil, nil // of all only where it is known of each
		if steady != nil && s.Steady != nil {
			both := *steady + *s.Steady
			seen.Steady = &both
		}
	}
	return w.step(sum, seen, share, t.For.D()), seen, green
}

// steps are those up to CIR.
func (w *walk) steps(ways []tested) bool {
	shares := w.p.By.Configuration.Steps
	if len(shares) == 0 {
		shares = []Share{ShareOf(0.25), ShareOf(0.5), ShareOf(0.75), ShareOf(1)}
	}
	ways = slices.DeleteFunc(slices.Clone(ways), func(x tested) bool { return w.cir(x.s, x.there) == 0 })
	if len(ways) == 0 {
		return true
	}
	for _, share := range shares {
		t, o, ok := w.send(Committed, fmt.Sprintf("%v of CIR", share), ways, func(x tested) float64 { return share.Value * w.cir(x.s, x.there) })
		if !ok {
			return false
		}
		for _, x := range ways {
			step, seen, _ := w.of(t, o, x, share.Value)
			x.r.Steps = append(x.r.Steps, step)
			w.judgeStep(Committed, fmt.Sprintf("%v of CIR", share), x, step, seen)
		}
	}
	return true
}

// criterion is one of a service's, of a step.
func (x tested) criterion(part Part, at string) Criterion {
	return Criterion{Part: part, Service: x.s.Name, There: x.there, At: at}
}

// judgeStep holds a step that is within CIR against the acceptance criteria.
func (w *walk) judgeStep(part Part, at string, x tested, step Step, seen Seen) {
	l := x.s.limits()
	c := x.criterion(part, at)
	note := func(c Criterion) { w.r.Criteria = append(w.r.Criteria, c.ours(seen.Ours)) }
	if l.Loss.Given {
		c := c
		c.Limit = l.Loss.Value
		note(c.ofLoss(step.Lost, step.Sent))
	}
	if l.Delay > 0 {
		c := c
		c.Limit = ms(l.Delay.D())
		note(c.ofDelay(FLatency, step.Delay))
	}
	if l.Variation > 0 {
		c := c
		c.Limit = ms(l.Variation.D())
		note(c.ofDelay(FVariation, step.Delay))
	}
	note(w.judgeRate(c, x, step, seen, step.Offered.FrameBps))
}

// judgeRate asks whether the information rate arrives that was offered, less what may be lost.
func (w *walk) judgeRate(c Criterion, x tested, step Step, seen Seen, offered float64) Criterion {
	allowed := x.s.limits().Loss.Or(0)
	c.Figure, c.Unit, c.AtLeast, c.Limit = FRate, "bps", true, offered*(1-allowed)
	if step.LossHigh == nil {
		return c.unknown("nothing was sent")
	}
	got := step.Received.FrameBps
	low, high := offered*(1-*step.LossHigh), offered*(1-*step.LossLow)
	if step.Lost == 0 {
		low = got
	}
	if seen.Growth != nil && *seen.Growth > usualReached { // it waits in a queue, and would be lost later
		slow := offered / (1 + *seen.Growth)
		got, low, high = min(got, slow), min(low, slow), min(high, slow)
	}
	c = c.judge(got, low, max(high, got))
	if c.Verdict == Unknown && got >= c.Limit {
		c.Verdict = Pass
		c.Why = "by the ratio that was lost; so few frames leave the interval wide"
	}
	return c
}

// excess is the step of CIR and EIR: what arrives is at least CIR, less what may be lost (ITU-T
// Y.1564 §8.1.1.2).
func (w *walk) excess(ways []tested) bool {
	t, o, ok := w.send(Excess, "CIR + EIR", ways, func(x tested) float64 { return w.cir(x.s, x.there) + w.eir(x.s, x.there) })
	if !ok {
		return false
	}
	for _, x := range ways {
		step, seen, green := w.of(t, o, x, 0)
		x.r.Excess = &step
		w.atLeastCIR(Excess, "CIR + EIR", x, step, seen, green)
	}
	return true
}

// nearRate is how closely the rate that arrives is known, by what was sent in which time.
const nearRate = 0.001

// atLeastCIR judges what arrives when more than CIR is offered.
func (w *walk) atLeastCIR(part Part, at string, x tested, step Step, seen Seen, green *Step) {
	cir := w.rates(w.cir(x.s, x.there), x.frames).FrameBps
	c := x.criterion(part, at)
	if green != nil {
		c.At += ", green"
		list := []Criterion{w.judgeRate(c, x, *green, Seen{}, green.Offered.FrameBps)}
		if l := x.s.limits().Loss; l.Given {
			c := c
			c.Limit = l.Value
			list = append(list, c.ofLoss(green.Lost, green.Sent))
		}
		for _, c := range list {
			w.r.Criteria = append(w.r.Criteria, c.ours(green.Ours))
		}
		return
	}
	if cir == 0 {
		return
	}
	c.Figure, c.Unit, c.AtLeast, c.Limit = FRate, "bps", true, cir*(1-x.s.limits().Loss.Or(0))
	got := step.Received.FrameBps
	if step.Sent == 0 {
		w.r.Criteria = append(w.r.Criteria, c.unknown("nothing was sent"))
		return
	}
	c = c.judge(got, got*(1-nearRate), got*(1+nearRate))
	if c.Verdict == Unknown {
		c.Verdict, c.Why = Pass, "to within 0.1 %, which is how closely a rate is known"
	}
	w.r.Criteria = append(w.r.Criteria, c.ours(seen.Ours))
}

// policing offers more than CIR + EIR: a quarter more EIR where that is a fifth of CIR at least,
// else a quarter of CIR more (ITU-T Y.1564 §8.1.1.3). No more than CIR + EIR + M goes through, in
// the end: the first half, in which buckets become empty, is left out.
func (w *walk) policing(ways []tested) bool {
	t, o, ok := w.send(Policing, "more than CIR + EIR", ways, func(x tested) float64 {
		cir, eir := w.cir(x.s, x.there), w.eir(x.s, x.there)
		if cir == 0 || eir >= leastPolicing*cir {
			return cir + 1.25*eir
		}
		return 1.25*cir + eir
	})
	if !ok {
		return false
	}
	for _, x := range ways {
		step, seen, green := w.of(t, o, x, 0)
		x.r.Policing, x.r.Green = &step, green
		w.atLeastCIR(Policing, "policing", x, step, seen, green)
		most := w.rates(w.cir(x.s, x.there)+w.eir(x.s, x.there), x.frames).FrameBps
		c := x.criterion(Policing, "policing")
		c.Figure, c.Unit, c.Limit = FPoliced, "bps", most*(1+x.s.Margin.Or(usualMargin))
		if seen.Steady == nil {
			w.r.Criteria = append(w.r.Criteria, c.unknown("too little arrived to say how much goes through in the end").ours(seen.Ours))
			continue
		}
		through := w.rates(*seen.Steady, x.frames).FrameBps
		if seen.Received > 0 && seen.Bytes > 0 {
			through = *seen.Steady * 8 * float64(seen.Bytes) / float64(seen.Received)
		}
		x.r.Through = &through
		c = c.point(through)
		if c.Verdict != Pass && seen.Ours == "" {
			c.Why = "more goes through than was bought"
		}
		w.r.Criteria = append(w.r.Criteria, c.ours(seen.Ours))
	}
	return true
}

// bursts sends a burst of so many bytes at once, when the buckets are full: all of it is within
// the profile (ITU-T Y.1564 §8.1.1.4). And a larger one, for how large the bucket really is.
func (w *walk) bursts(ways []tested, part Part, bytes int) bool {
	what := map[Part]string{CommittedSize: "CBS", ExcessSize: "CBS + EBS"}[part]
	for _, more := range []int{1, 2} {
		t := Trial{Part: part, Service: ways[0].s.Name, For: Span(time.Second), Says: fmt.Sprintf("%s, %s", ways[0].s.Name, what)}
		if more > 1 {
			t.Says += ", twice as much"
		}
		for _, x := range ways {
			mean := w.pack.MeanAt(x.frames, capacity.Frame)
			l := Load{There: x.there, Service: x.i, FPS: w.cir(x.s, x.there) + w.eir(x.s, x.there), Frames: x.frames, Burst: max(1, int(float64(bytes*more)/mean))}
			if x.s.Colours != nil {
				l.Colour = "green"
				if part == ExcessSize {
					l.Colour = yellow
				}
			}
			t.Loads = append(t.Loads, l)
		}
		o, ok := w.do(t)
		if !ok {
			return false
		}
		for j, x := range ways {
			w.burstSize(part, what, bytes, more, x, t.Loads[j], o.Seen[j])
		}
	}
	return true
}

// burstSize is how much of a burst was carried whole: what came before the first that was lost,
// less what the profile let through while it came in.
func (w *walk) burstSize(part Part, what string, bytes, more int, x tested, l Load, s Seen) {
	mean := w.pack.MeanAt(x.frames, capacity.Frame)
	at := &x.r.CBS
	if part == ExcessSize {
		at = &x.r.EBS
	}
	found := float64(s.Whole) * mean
	if s.Offered > 0 && s.lost() > 0 {
		found -= float64(s.Whole) / s.Offered * l.FPS * mean
	}
	if more == 1 {
		r := &BurstSize{Asked: int(float64(l.Burst) * mean), Found: found, Whole: s.lost() == 0 && s.Sent > 0, Lost: s.lost()}
		*at = r
		c := x.criterion(part, what)
		c.Figure, c.Unit, c.AtLeast, c.Limit = FBurst, "bytes", true, float64(r.Asked)
		if s.Sent == 0 {
			w.r.Criteria = append(w.r.Criteria, c.unknown("nothing was sent").ours(s.Ours))
			return
		}
		got := float64(r.Asked)
		if !r.Whole {
			got = float64(s.Whole) * mean
		}
		w.r.Criteria = append(w.r.Criteria, c.judge(got, got, got).ours(s.Ours))
		return
	}
	if *at != nil && s.Ours == "" && s.Sent > 0 {
		(*at).Found = max(0, found)
	}
}

// performance sends all services at CIR at once, for long (ITU-T Y.1564 §8.1.2).
func (w *walk) performance() bool {
	x := w.p.By
	for _, group := range w.p.directions() {
		length := x.Performance.For.Or(usualPerform)
		t := Trial{Part: Performing, For: Span(length), Says: fmt.Sprintf("performance, all services for %v", Span(length))}
		var of []tested
		for i, s := range x.List {
			for _, there := range group {
				if fps := w.cir(s, there); fps > 0 && w.p.goes(there) {
					t.Loads = append(t.Loads, Load{There: there, Service: i, FPS: fps, Frames: w.p.frames(s), Seconds: true, Colour: greenOf(s)})
					of = append(of, tested{i, s, there, w.p.frames(s), w.way(i, there)})
				}
			}
		}
		if len(of) == 0 {
			continue
		}
		o, ok := w.do(t)
		if !ok {
			return false
		}
		for j, y := range of {
			w.performed(y, t.Loads[j], o.Seen[j], length)
		}
	}
	return true
}

func greenOf(s Service) string {
	if s.Colours != nil {
		return "green"
	}
	return ""
}

func (w *walk) performed(x tested, l Load, s Seen, length time.Duration) {
	r := &Performed{Step: w.step(l, s, 1, length)}
	x.r.Run = r
	if s.Ours != "" {
		w.r.Notes = append(w.r.Notes, fmt.Sprintf("performance of %s, %s: %s", x.s.Name, wayOf(x.there), s.Ours))
	}
	if s.Of > 0 {
		r.Seconds = AvailabilityOf(s.Seconds())
		if v, ok := r.Seconds.Ratio(); ok {
			r.Availability = &v
		}
	}
	step := r.Step
	if r.Seconds.Unavailable > 0 { // the ratio is of available time (ITU-T Y.1563)
		step.Sent, step.Lost = r.Seconds.Sent, r.Seconds.Lost
	}
	w.judgeStep(Performing, "performance", x, step, s)
	if l := x.s.limits().Availability; l.Given {
		c := x.criterion(Performing, "performance")
		c.Figure, c.Unit, c.AtLeast, c.Limit = FAvailability, "ratio", true, l.Value
		if r.Availability == nil {
			w.r.Criteria = append(w.r.Criteria, c.unknown("no second was counted").ours(s.Ours))
			return
		}
		w.r.Criteria = append(w.r.Criteria, c.judge(*r.Availability, *r.Availability, *r.Availability).ours(s.Ours))
	}
}

// Mark is the DSCP of a load's frames.
func (p Plan) Mark(l Load) uint8 {
	if p.Over == Frame || p.By == nil || l.Service < 0 || l.Service >= len(p.By.List) {
		return 0
	}
	s := p.By.List[l.Service]
	text := s.DSCP
	if s.Colours != nil {
		text = s.Colours.Green
		if l.Colour == yellow {
			text = s.Colours.Yellow
		}
	}
	point, err := dscp.Parse(text)
	if text == "" || err != nil {
		return 0
	}
	return uint8(point)
}
