package acceptance

import (
	"fmt"
	"math"
	"slices"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/loss"
)

// Walked is how far a plan was gone through.
type Walked struct {
	Result Result
	Next   *Trial // nil when all is done
}

// Walk goes through a plan with the outcomes of the trials that were made, in their order. The
// plan is one of which Check finds nothing wrong.
func Walk(p Plan, made []Outcome) Walked {
	w := &walk{p: p, made: made, pack: p.Packing(), noted: map[string]bool{}}
	w.all()
	r := w.r
	r.Trials = min(len(made), w.at)
	r.Verdict = worst(r.Criteria)
	if (w.next != nil || r.Stopped != "") && r.Verdict != Fail { // the rest may miss something
		r.Verdict = Unknown
	}
	return Walked{r, w.next}
}

// walk is one going through a plan.
type walk struct {
	p     Plan
	pack  Packing
	made  []Outcome
	at    int
	next  *Trial
	r     Result
	noted map[string]bool
	// carry makes outcomes up where none are left; nil when they are not.
	carry func(Trial) Outcome
}

// do is the outcome of a trial, if it was made; else it is the next one, and nothing else is
// done: ok is false.
func (w *walk) do(t Trial) (o Outcome, ok bool) {
	if w.next != nil || w.r.Stopped != "" {
		return o, false
	}
	var best leastSpoilt
	for again := 0; ; again++ {
		t.Again = again
		if w.at >= len(w.made) && w.carry != nil {
			w.made = append(w.made, w.carry(t))
		}
		if w.at >= len(w.made) {
			w.next = &t
			return o, false
		}
		o = w.made[w.at]
		w.at++
		// Of outcomes from elsewhere nothing may be missing.
		for len(o.Seen) < len(t.Loads) {
			o.Seen = append(o.Seen, Seen{Ours: "what came of it was not told"})
		}
		if o.Problem != "" {
			w.r.Stopped = o.Problem
			return o, false
		}
		w.marks(t, o)
		// A performance test is not made again for hours: what this host did is said beside it.
		if !spoilt(o) || t.Part == Performing || t.Part == FirstLook && arrived(o) {
			return o, true
		}
		best.take(o, t)
		if again >= mostAgain {
			return best.o, true
		}
		w.r.Again++
	}
}

// leastSpoilt is the outcome of those that this host spoilt that it spoilt least.
type leastSpoilt struct {
	o    Outcome
	good float64
	any  bool
}

func (b *leastSpoilt) take(o Outcome, t Trial) {
	good := math.Inf(1)
	for i, l := range t.Loads {
		if l.FPS > 0 {
			good = min(good, o.Seen[i].Offered/l.FPS)
		}
	}
	if !b.any || good > b.good {
		*b = leastSpoilt{o, good, true}
	}
}

// arrived reports whether something of each load did: a first look asks for no more.
func arrived(o Outcome) bool {
	return !slices.ContainsFunc(o.Seen, func(s Seen) bool { return s.Received == 0 })
}

// spoilt reports whether something went wrong in a trial for which the circuit cannot be blamed.
func spoilt(o Outcome) bool {
	for _, s := range o.Seen {
		if s.Ours != "" {
			return true
		}
	}
	return false
}

func (w *walk) all() {
	if !w.p.First.Skip && !w.first() {
		return
	}
	if !w.p.Host.Skip && !w.host() {
		return
	}
	if w.p.BySize != nil && !w.bySize() {
		return
	}
	if w.p.By != nil {
		w.services()
	}
}

func (w *walk) rates(fps float64, frames []int) Rates { return w.pack.RatesOf(fps, frames) }

// step lays out what became of a load.
func (w *walk) step(l Load, s Seen, share float64, d time.Duration) Step {
	x := Step{Share: share, Sent: s.Sent, Lost: s.lost(), Delay: s.Delay, Growth: s.Growth, Ours: s.Ours}
	offered := s.Offered
	if offered == 0 {
		offered = l.FPS
	}
	x.Offered = w.rates(offered, l.Frames)
	if s.Sent > 0 {
		ratio := float64(x.Lost) / float64(s.Sent)
		x.Received = w.received(l, s, offered)
		low, high, _ := loss.Ratio{Lost: int(x.Lost), Sent: int(s.Sent)}.Interval()
		x.Loss, x.LossLow, x.LossHigh = &ratio, &low, &high
	}
	return x
}

// received is at which rate frames arrived over the whole trial, by how many of them did and how
// large those were.
func (w *walk) received(l Load, s Seen, offered float64) Rates {
	fps := offered * float64(min(s.Received, s.Sent)) / float64(s.Sent)
	r := w.rates(fps, l.Frames)
	if s.lost() > 0 && s.Received > 0 && s.Bytes > 0 && len(l.Frames) > 1 {
		// Of mixed sizes other ones may be lost than the mean.
		mean := float64(s.Bytes) / float64(s.Received)
		by := mean / w.pack.MeanAt(l.Frames, capacity.Frame)
		extra := w.pack.MeanAt(l.Frames, capacity.Frame)
		r.FrameBps *= by
		for at, l := range map[*float64]float64{&r.PayloadBps: w.pack.MeanAt(l.Frames, capacity.Payload), &r.IPBps: w.pack.MeanAt(l.Frames, capacity.IP), &r.LineBps: w.pack.MeanAt(l.Frames, capacity.Line)} {
			*at = fps * 8 * (mean + l - extra)
		}
	}
	return r
}

func (w *walk) host() bool {
	var sizes [][]int
	if w.p.BySize != nil {
		for _, n := range w.p.sizes() {
			sizes = append(sizes, []int{n})
		}
	}
	if w.p.By != nil {
		for _, s := range w.p.By.List {
			sizes = append(sizes, w.p.frames(s))
		}
	}
	known := map[int]bool{}
	for _, frames := range sizes {
		mean := int(math.Round(w.pack.MeanAt(frames, capacity.Frame)))
		if known[mean] {
			continue
		}
		known[mean] = true
		t := Trial{Part: OfHost, Size: mean, Says: fmt.Sprintf("what this host can do, %d bytes", mean), For: Span(w.p.Host.For.Or(usualHostFor)),
			Loads: []Load{{There: true, Service: -1, Frames: frames}}}
		o, ok := w.do(t)
		if !ok {
			return false
		}
		if fps := o.Seen[0].Offered; fps > 0 { // a simulated network has no host
			w.r.Host = append(w.r.Host, HostRate{mean, w.rates(fps, frames)})
		}
	}
	return true
}

// byHost is what this host can do at frames of a size; 0 when it was not asked.
func (w *walk) byHost(frames []int) float64 {
	mean := int(math.Round(w.pack.MeanAt(frames, capacity.Frame)))
	for _, h := range w.r.Host {
		if h.Size == mean {
			return h.Rates.FPS
		}
	}
	return 0
}

// nearHost is how close to what this host can do itself a figure is not the circuit's.
const nearHost = 0.95

// first looks at what is there, and at the highest rate for a while.
func (w *walk) first() bool {
	loads := w.highest()
	t := Trial{Part: FirstLook, Says: "first look", For: Span(w.p.First.For.Or(usualTrial)), Loads: loads}
	o, ok := w.do(t)
	if !ok {
		return false
	}
	w.r.Look = o.Look
	if again := w.highest(); !slices.EqualFunc(loads, again, sameFrames) {
		// What the path carries whole is known now, and these are larger.
		loads, t.Loads, t.Says = again, again, "first look, with frames that fit"
		if o, ok = w.do(t); !ok {
			return false
		}
		o.Look = w.r.Look
	}
	dead, alive := "", slices.ContainsFunc(o.Seen, func(s Seen) bool { return s.TooLarge })
	for i, l := range loads {
		s := o.Seen[i]
		if most := w.carries(l.There); s.TooLarge && l.Service >= 0 && w.pack.At(slices.Max(l.Frames), capacity.IP) > most {
			w.note(fmt.Sprintf("frames of %s do not fit: %s, IP packets of %d bytes at most come through", w.p.By.List[l.Service].Name, wayOf(l.There), most))
		}
		if alive && s.Sent == 0 {
			continue
		}
		w.r.Highest = append(w.r.Highest, w.step(l, s, 0, t.For.D()))
		if s.Received == 0 && !s.TooLarge {
			dead = fmt.Sprintf("nothing of %d frames arrived %s", s.Sent, wayOf(l.There))
		} else {
			alive = true
		}
	}
	if dead != "" {
		if alive {
			dead += ", while the other direction carries frames"
		}
		w.r.Stopped = dead + ": the rest would be wasted"
		return false
	}
	if o.Look != nil {
		for _, side := range []struct {
			name string
			LinkSide
		}{{"here", o.Look.NearLink}, {"at the far end", o.Look.FarLink}} {
			if side.Duplex == "half" {
				w.r.Notes = append(w.r.Notes, fmt.Sprintf("the link %s (%s) is half duplex: both directions share it", side.name, side.Interface))
			}
			if side.Speed > 0 && w.asked() > side.Speed*1.0001 {
				w.r.Notes = append(w.r.Notes, fmt.Sprintf("the link %s (%s) has %v, which is less than is asked for", side.name, side.Interface, capacity.Rate(side.Speed)))
			}
		}
	}
	return true
}

// sameFrames reports whether two loads have the same frames.
func sameFrames(a, b Load) bool { return slices.Equal(a.Frames, b.Frames) }

// carries is how large IP packets are that the path carries whole: as was found, or as the plan
// has it.
func (w *walk) carries(there bool) int {
	most := w.p.mtu()
	l := w.r.Look
	if l == nil {
		return most
	}
	if there && l.MTUThere > 0 {
		most = l.MTUThere
	}
	if l.MTUBack > 0 && (!there || w.p.Ends == Returned && l.MTUBack < most) {
		most = l.MTUBack
	}
	return most
}

// asked is the highest rate of all on the line.
func (w *walk) asked() float64 {
	most := 0.0
	for _, l := range w.highest() {
		most = max(most, w.rates(l.FPS, l.Frames).LineBps)
	}
	return most
}

func wayOf(there bool) string {
	if there {
		return "there"
	}
	return "back"
}

// highest is the highest rate of the plan, both ways where both are tested: of the largest frames
// that surely fit, or of all services together.
func (w *walk) highest() (list []Load) {
	for _, there := range []bool{true, false} {
		if !w.p.goes(there) {
			continue
		}
		if w.p.BySize != nil {
			size := 0
			for _, n := range w.p.sizes() {
				if fits := w.pack.At(n, capacity.IP) <= w.carries(there); size == 0 || fits && n > size {
					size = n
				}
			}
			list = append(list, Load{There: there, Service: -1, FPS: w.p.most(size, there), Frames: []int{size}})
			continue
		}
		for i, s := range w.p.By.List {
			frames := w.p.frames(s)
			fps := w.p.fps(s.CIR.Of(there), frames, there)
			if fps == 0 {
				fps = w.p.fps(s.EIR.Of(there), frames, there)
			}
			if fps > 0 {
				list = append(list, Load{There: there, Service: i, FPS: fps, Frames: frames})
			}
		}
	}
	return list
}
