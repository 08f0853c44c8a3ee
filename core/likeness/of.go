package likeness

import (
	"fmt"
	"math"
	"slices"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/core/delay"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

const (
	// outageProbes and outageSpan make a run of losses an outage: time in which nothing came through,
	// not a burst of some packets.
	outageProbes = 5
	outageSpan   = 5 * time.Second
	// memories is how many memories a span must hold that one is given as measured: of fewer the
	// made network would be another each time.
	memories = 12
	// unseen is how long a delay is given to last, in parts of the time between two probes, where no
	// memory showed: packets closer to each other than that were not measured.
	unseen = 0.25
	// burst is how much longer the runs of losses are than random ones, for them to count as bursts.
	burst = 1.15
	// stands is which part of a queue before a full link is filled in the median, by a sender that takes
	// back its window whenever the queue is full: about four fifths.
	stands = 0.8
	// unfilled is how many times deeper than a transfer filled it a queue is made that was never full,
	// so that the same transfer does not fill it either.
	unfilled = 1.5
	// alike is how far two medians of RTT may be apart for a stream to stand for the whole span.
	alike = 0.03
)

// Quantiles are those at delay.Parts, as delay.Quantiles has them.
func Quantiles(at []time.Duration) (list []Quantile) {
	for i, d := range at[:min(len(at), len(delay.Parts))] {
		list = append(list, Quantile{delay.Parts[i], d})
	}
	return list
}

// making is a likeness under way.
type making struct {
	Measured
	l    Likeness
	trip trip
}

// trip is what the probes met, there and back.
type trip struct {
	sorted  []time.Duration // of those in order
	memory  delay.Memory
	lost    []bool // without outages, in sending order
	outages []Outage
	copies  int
	over    []time.Duration // RTTs of the overtaken
	refused int
}

// Of makes the likeness of what was measured.
func Of(m Measured) Likeness {
	x := &making{Measured: m}
	x.l.There, x.l.Back = neutral(), neutral()
	x.l.Hops, x.l.Notes, x.l.MTU = []Link{}, []string{}, m.MTU
	x.trip = tripOf(m.Probes, m.Every)
	x.carried()
	x.delays()
	x.losses()
	x.order()
	x.route()
	if m.MTU == 0 {
		x.note("the path's MTU was not measured: there is no limit")
	}
	if x.trip.refused > 0 {
		x.note("%s refused by somebody on the way, which is left out", probes(x.trip.refused, "was", "were"))
	}
	return x.l
}

func neutral() Direction { return Direction{Varies: []Bin{}, Outages: []Outage{}} }

func probes(n int, one, more string) string {
	if n == 1 {
		return "one probe " + one
	}
	return fmt.Sprintf("%d probes %s", n, more)
}

func (x *making) note(format string, args ...any) {
	x.l.Notes = append(x.l.Notes, fmt.Sprintf(format, args...))
}

func tripOf(list []reading.Probe, every time.Duration) (t trip) {
	var samples []delay.Sample
	if len(list) == 0 {
		return t
	}
	start := list[0].DueAt
	arrived := func(p reading.Probe) bool {
		return p.Outcome == reading.Answered || p.Outcome == reading.Late || p.Outcome == reading.Refused && p.Shut
	}
	var gone []reading.Probe
	end := func() { // of a run of losses
		if n := len(gone); n >= outageProbes && time.Duration(n)*every >= outageSpan {
			from := gone[0].DueAt.Sub(start)
			t.outages = append(t.outages, Outage{from.Seconds(), (gone[n-1].DueAt.Sub(start) + every).Seconds()})
		} else {
			t.lost = append(t.lost, slices.Repeat([]bool{true}, n)...)
		}
		gone = gone[:0]
	}
	for i, p := range list {
		if i > 0 && every > 0 && p.DueAt.Sub(list[i-1].DueAt) > 3*every/2 {
			end() // nothing was sent between
		}
		switch {
		case p.Outcome == reading.Unsent:
			continue
		case p.Outcome == reading.Lost:
			gone = append(gone, p)
			continue
		case !arrived(p):
			t.refused++
			continue
		}
		end()
		t.lost = append(t.lost, false)
		t.copies += p.Copies
		if p.Overtaken {
			t.over = append(t.over, p.RTT)
			continue
		}
		if every > 0 {
			samples = append(samples, delay.Sample{Number: int(math.Round(float64(p.DueAt.Sub(start)) / float64(every))), RTT: p.RTT})
		}
		t.sorted = append(t.sorted, p.RTT)
	}
	end()
	slices.Sort(t.sorted)
	t.memory, _ = delay.MemoryOf(samples, every)
	return t
}

// bins are a histogram of what delays have above the least, by their quantiles.
func bins(q []Quantile) (list []Bin) {
	list = []Bin{}
	if len(q) == 0 || q[len(q)-1].Delay == q[0].Delay {
		return list
	}
	for i := 1; i < len(q); i++ {
		list = append(list, Bin{ms(q[i-1].Delay - q[0].Delay), ms(q[i].Delay - q[0].Delay), q[i].Part - q[i-1].Part})
	}
	return list
}

func ms(d time.Duration) float64 { return float64(d) / 1e6 }

// at is a quantile between those that are known.
func at(q []Quantile, part float64) time.Duration {
	for i := 1; i < len(q); i++ {
		if part <= q[i].Part {
			a, b := q[i-1], q[i]
			if b.Part == a.Part {
				return b.Delay
			}
			return a.Delay + time.Duration(float64(b.Delay-a.Delay)*(part-a.Part)/(b.Part-a.Part))
		}
	}
	return q[len(q)-1].Delay
}

// spread is what most of the delays lie within.
func spread(w *Way) time.Duration { return at(w.Quantiles, 0.95) - at(w.Quantiles, 0.05) }

func (x *making) streamed() bool {
	return x.There != nil && x.Back != nil && len(x.There.Quantiles) > 0 && len(x.Back.Quantiles) > 0
}

// delays are taken from streams, where they stand for the whole span, or else from the probes.
func (x *making) delays() {
	trips := Quantiles(delay.Quantiles(x.trip.sorted))
	switch {
	case x.streamed():
		x.split()
		there, back := at(x.There.Quantiles, 0.5), at(x.Back.Quantiles, 0.5)
		if len(trips) == 0 || math.Abs(float64(there+back-at(trips, 0.5))) <= alike*float64(at(trips, 0.5)) {
			x.l.There.Varies, x.l.Back.Varies = bins(x.There.Quantiles), bins(x.Back.Quantiles)
			x.lasts(&x.l.There, x.There.Memory, x.There.Every, time.Duration(x.There.Sent)*x.There.Every)
			x.lasts(&x.l.Back, x.Back.Memory, x.Back.Every, time.Duration(x.Back.Sent)*x.Back.Every)
			return
		}
		x.note("the stream met other delays than the whole span: they are the span's, and vary the way on which the stream's did more")
		d := &x.l.There
		if spread(x.Back) > spread(x.There) {
			d = &x.l.Back
		}
		x.vary(d, trips)
	case len(trips) > 0:
		half := ms(trips[0].Delay-x.sending()) / 2
		x.l.There.DelayMs, x.l.Back.DelayMs = max(0, half), max(0, half)
		x.vary(&x.l.There, trips)
		x.note("no stream was sent then: each way has half of the least RTT, and all that varies is given to the way there")
	default:
		x.note("no delay was measured: there is none")
	}
}

// vary gives all that varies of a round trip to one way.
func (x *making) vary(d *Direction, trips []Quantile) {
	d.Varies = bins(trips)
	x.lasts(d, x.trip.memory, x.Every, time.Duration(len(x.trip.lost))*x.Every)
	if least := ms(trips[0].Delay-x.sending()) - x.l.There.DelayMs - x.l.Back.DelayMs; least > 0 {
		// The stream's least was less than the span's, or the other way round.
		d.DelayMs += least
	}
}

// split is the least delay each way.
func (x *making) split() {
	there, back := ms(x.There.Quantiles[0].Delay), ms(x.Back.Quantiles[0].Delay)
	if x.Offset || there <= 0 || back <= 0 {
		there = (there + back) / 2 // what the clocks are apart falls out of the sum
		back = there
		x.note("the clocks were not in step: each way has half of the least delay both ways")
	}
	less := ms(x.sending()) / 2
	x.l.There.DelayMs, x.l.Back.DelayMs = max(0, there-less), max(0, back-less)
}

// sending is what a probe takes to be sent both ways at the rates.
func (x *making) sending() (d time.Duration) {
	for _, r := range []float64{x.l.There.RateBps, x.l.Back.RateBps} {
		if r > 0 {
			d += time.Duration(float64(x.Size*8) / r * 1e9)
		}
	}
	return d
}

// lasts sets how long the delay of a direction stays near what it was.
func (x *making) lasts(d *Direction, m delay.Memory, every, span time.Duration) {
	if len(d.Varies) == 0 {
		return
	}
	most := span / memories
	switch {
	case m.For == 0:
		d.MemoryMs, d.MemoryShare = unseen*ms(every), 1
		x.note("how delays of packets less than %v apart hang together was not measured: they move over %v", every, time.Duration(unseen*float64(every)))
	case m.For > most:
		d.MemoryMs, d.MemoryShare = ms(most), m.Share
		x.note("delays stayed for longer than a span of %v can show: they move over %v", span.Round(time.Second), most.Round(time.Millisecond))
	default:
		d.MemoryMs, d.MemoryShare = ms(m.For), m.Share
	}
}

func (x *making) losses() {
	x.l.There.Outages = append(x.l.There.Outages, x.trip.outages...)
	t := loss.Ratio{Sent: len(x.trip.lost)}
	for _, gone := range x.trip.lost {
		if gone {
			t.Lost++
		}
	}
	known := func(w *Way) bool { return w != nil && w.Sent > 0 && w.Lost >= 0 }
	if known(x.There) && known(x.Back) {
		there, back := loss.Ratio{Lost: x.There.Lost, Sent: x.There.Sent}, loss.Ratio{Lost: x.Back.Lost, Sent: x.Back.Sent}
		both := 1 - (1-there.Value().Or(0))*(1-back.Value().Or(0))
		low, high, any := t.Interval()
		if !any || both >= low && both <= high {
			lose(&x.l.There, x.There)
			lose(&x.l.Back, x.Back)
			return
		}
		x.note("the stream lost another part than the whole span: it is the span's, on the way on which the stream lost more")
		if back.Value().Or(0) > there.Value().Or(0) {
			x.scatter(&x.l.Back, t)
			return
		}
	} else if t.Lost > 0 || len(x.trip.outages) > 0 {
		x.note("which way packets were lost was not measured: all are lost on the way there")
	}
	if t.Sent == 0 {
		x.note("no loss was measured: there is none")
		return
	}
	x.scatter(&x.l.There, t)
}

// scatter loses packets as the probes were.
func (x *making) scatter(d *Direction, t loss.Ratio) {
	d.LossRatio = t.Value().Or(0)
	if n, _, regular := loss.Every(x.trip.lost); regular {
		d.LossEvery = n
		return
	}
	p := loss.PatternOf(x.trip.lost)
	runs(d, t, p.Runs)
}

// lose loses packets as a stream did.
func lose(d *Direction, w *Way) {
	t := loss.Ratio{Lost: w.Lost, Sent: w.Sent}
	d.LossRatio = t.Value().Or(0)
	runs(d, t, w.Runs)
}

// runs sets the mean run where losses come surely in bursts: under random losses a run goes on with
// the probability of a loss.
func runs(d *Direction, t loss.Ratio, n int) {
	p := d.LossRatio
	if n == 0 || p >= 1 {
		return
	}
	mean := float64(t.Lost) / float64(n)
	sd := math.Sqrt(p) / (1 - p) / math.Sqrt(float64(n)) // of the mean of geometric runs
	if random := 1 / (1 - p); mean > burst*random && mean > random+2*sd && t.Lost-n >= 2 {
		d.LossRun = mean
	}
}

// order is what was doubled or overtaken.
func (x *making) order() {
	if x.There != nil && x.Back != nil {
		for d, w := range map[*Direction]*Way{&x.l.There: x.There, &x.l.Back: x.Back} {
			if w.Received == 0 {
				continue
			}
			d.Duplicates = float64(w.Duplicates) / float64(w.Received)
			if w.Reordered > 0 {
				d.Reorders, d.HeldMs = float64(w.Reordered)/float64(w.Received), ms(max(w.Held, w.Every))
			}
		}
		return
	}
	arrived := len(x.trip.sorted) + len(x.trip.over)
	if arrived == 0 {
		return
	}
	d := &x.l.There
	d.Duplicates = float64(x.trip.copies) / float64(arrived)
	if n := len(x.trip.over); n > 0 && len(x.trip.sorted) > 0 {
		slices.Sort(x.trip.over)
		d.Reorders = float64(n) / float64(arrived)
		d.HeldMs = max(0, ms(delay.Quantile(x.trip.over, 0.5)-delay.Quantile(x.trip.sorted, 0.5)))
	}
	if d.Duplicates > 0 || d.Reorders > 0 {
		x.note("which way packets were doubled or overtaken was not measured: it is given to the way there")
	}
}

// carried is the rate each way, where the path held a transfer back.
func (x *making) carried() {
	for _, w := range []struct {
		name string
		c    *Carried
		d    *Direction
	}{{"there", x.CarriedThere, &x.l.There}, {"back", x.CarriedBack, &x.l.Back}} {
		switch {
		case w.c == nil:
			x.note("the rate on the way %s was not measured: there is no limit", w.name)
		case w.c.Held == capacity.ByLink || w.c.Held == capacity.ByPolicer:
			w.d.RateBps = float64(w.c.rate())
			w.d.Policed = w.c.Held == capacity.ByPolicer
			if w.c.Load > w.c.Rest && !w.d.Policed {
				w.d.QueueMs = ms(w.c.Load-w.c.Rest) / stands
				if w.c.Whole {
					w.d.QueueMs = max(w.d.QueueMs, ms(w.c.Most-w.c.Rest)) * unfilled
					x.note("the queue on the way %s was never full: it is at least as deep as here", w.name)
				} else {
					x.note("the queue on the way %s is taken from the round trip of a transfer, which may not have filled it", w.name)
				}
			} else if w.d.Policed {
				x.note("what the policer on the way %s lets through at once was not measured: it is 64 kB", w.name)
			} else {
				x.note("the queue on the way %s was not measured: it is the usual one", w.name)
			}
		default:
			x.note("the transfer on the way %s reached %s and was held by something else than the link: there is no limit", w.name, w.c.IP)
		}
	}
}

// rate is the one that a full link has: a window that halves now and then leaves some of it.
func (c *Carried) rate() capacity.Rate {
	if len(c.Spans) < 4 {
		return c.IP
	}
	s := slices.Sorted(slices.Values(c.Spans))
	return max(c.IP, s[len(s)*3/4])
}

// route gives each link its part of the delay, by what was measured at the hops.
func (x *making) route() {
	if len(x.Hops) == 0 {
		x.note("the route was not measured: it is one link")
		return
	}
	// What is not known, or less than before it, is evened out: delays do not fall along a way.
	n := len(x.Hops)
	parts := make([]float64, n)
	whole := x.Hops[n-1].RTT
	before := time.Duration(0)
	for i, h := range x.Hops {
		r := h.RTT
		if later := x.leastFrom(i); r == 0 || r > later {
			r = later
		}
		before = max(before, min(r, whole))
		parts[i] = 1
		if whole > 0 {
			parts[i] = float64(before) / float64(whole)
		}
	}
	last := 0.0
	silent := 0
	for i, h := range x.Hops {
		part := parts[i] - last
		if whole == 0 {
			part = 1 / float64(n)
		}
		last = parts[i]
		if h.Address == "" {
			silent++
		}
		x.l.Hops = append(x.l.Hops, Link{Address: h.Address, Name: h.Name, ThereMs: part * x.l.There.DelayMs, BackMs: part * x.l.Back.DelayMs})
	}
	if silent > 0 {
		x.note("%d of %d hops stayed silent: they do here", silent, n)
	}
	x.note("where on the route delays vary, packets are lost and the rate is was not measured: it is the last link")
}

// leastFrom is the least delay that a hop or one behind it answered with.
func (x *making) leastFrom(i int) (least time.Duration) {
	least = math.MaxInt64
	for _, h := range x.Hops[i:] {
		if h.RTT > 0 {
			least = min(least, h.RTT)
		}
	}
	if least == math.MaxInt64 {
		return 0
	}
	return least
}
