package acceptance

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"woodlark.example/core/capacity"
)

// sizeWay is one direction at a size, while it is tested.
type sizeWay struct {
	there bool
	most  float64
	r     *SizeWay
}

// bySize goes through the sizes: of each, all parts; of each part, the directions at once or one
// after the other.
func (w *walk) bySize() bool {
	for _, size := range w.p.sizes() {
		w.r.Sizes = append(w.r.Sizes, SizeResult{Size: size})
		at := &w.r.Sizes[len(w.r.Sizes)-1]
		for _, there := range []bool{true, false} {
			if w.p.goes(there) {
				at.Ways = append(at.Ways, SizeWay{There: there})
			}
		}
		ok := true
		for _, group := range w.p.directions() {
			var ways []sizeWay
			for i := range at.Ways {
				if slices.Contains(group, at.Ways[i].There) {
					ways = append(ways, sizeWay{at.Ways[i].There, w.p.most(size, at.Ways[i].There), &at.Ways[i]})
				}
			}
			if ok = w.oneSize(size, ways); !ok {
				break
			}
		}
		w.judgeSize(at)
		if !ok {
			return false
		}
	}
	return true
}

func (w *walk) oneSize(size int, ways []sizeWay) bool {
	b := w.p.BySize
	ways = slices.DeleteFunc(slices.Clone(ways), func(x sizeWay) bool { return w.tooLarge(size, x) })
	if len(ways) == 0 {
		return true
	}
	if !b.Throughput.Skip && !w.throughput(size, ways) {
		return false
	}
	ways = slices.DeleteFunc(slices.Clone(ways), func(x sizeWay) bool { return x.r.Throughput != nil && x.r.Throughput.TooLarge })
	if len(ways) == 0 {
		return true
	}
	return (b.Latency.Skip || w.latency(size, ways)) && (b.Loss.Skip || w.frameLoss(size, ways)) && (b.Burst.Skip || w.backToBack(size, ways))
}

// tooLarge reports, and notes why, that frames of a size do not fit what the first look found that the
// path carries.
func (w *walk) tooLarge(size int, x sizeWay) bool {
	most := w.carries(x.there)
	l := w.r.Look
	if l == nil || x.there && l.MTUThere == 0 || !x.there && l.MTUBack == 0 || w.pack.At(size, capacity.IP) <= most {
		return false
	}
	if !w.p.BySize.Throughput.Skip {
		x.r.Throughput = &ThroughputResult{Most: x.most, TooLarge: true}
	}
	w.note(fmt.Sprintf("%s, IP packets of %d bytes at most come through", wayOf(x.there), most))
	return true
}

// says names a trial: what is offered each way.
func (w *walk) says(what string, size int, loads []Load) string {
	text := fmt.Sprintf("%s, %d bytes:", what, size)
	for i, l := range loads {
		if i > 0 {
			text += ","
		}
		if l.Burst > 0 {
			text += fmt.Sprintf(" %d frames at once", l.Burst)
		} else {
			text += " " + capacity.Rate(w.rates(l.FPS, l.Frames).FrameBps).String()
		}
		if w.p.Ends != Returned {
			text += " " + wayOf(l.There)
		}
	}
	return text
}

// throughput searches (RFC 2544 §26.1), both directions in the same trials where they are tested
// at once.
func (w *walk) throughput(size int, ways []sizeWay) bool {
	b := w.p.BySize
	length := b.Throughput.For.Or(usualTrial)
	for _, x := range ways {
		x.r.Throughput = &ThroughputResult{Most: x.most}
	}
	for range count(b.Throughput.Trials, 1) {
		found := make([]*search, len(ways))
		for i, x := range ways {
			found[i] = newSearch(x.most, w.p.least(size, x.there), b.Within.Or(usualWithin), w.p.fps(b.Limits.Throughput.Of(x.there), []int{size}, x.there),
				b.Throughput.Loss.Or(0), b.Reached.Or(usualReached))
		}
		for slices.ContainsFunc(found, func(s *search) bool { return !s.over }) {
			t := Trial{Part: Throughput, Size: size, For: Span(length)}
			var of []int
			for i, s := range found {
				if rate := s.offer(); rate > 0 {
					t.Loads = append(t.Loads, Load{There: ways[i].there, Service: -1, FPS: rate, Frames: []int{size}})
					of = append(of, i)
				}
			}
			t.Says = w.says("throughput search", size, t.Loads)
			o, ok := w.do(t)
			if !ok {
				w.settleThroughput(size, ways)
				return false
			}
			for k, i := range of {
				x := ways[i].r.Throughput
				if !found[i].over {
					x.Tried = append(x.Tried, w.step(t.Loads[k], o.Seen[k], t.Loads[k].FPS/ways[i].most, length))
				}
				found[i].take(o.Seen[k])
			}
		}
		for i, s := range found {
			x := ways[i].r.Throughput
			x.TooLarge = x.TooLarge || s.tooLarge
			x.Trials = append(x.Trials, s.found)
			x.Limited = s.limited
			if !math.IsInf(s.bad, 1) && s.bad > s.good {
				x.Above = max(x.Above, s.bad)
			}
		}
	}
	w.settleThroughput(size, ways)
	return true
}

// settleThroughput is the mean of the searches that are over.
func (w *walk) settleThroughput(size int, ways []sizeWay) {
	for _, way := range ways {
		x := way.r.Throughput
		if len(x.Trials) == 0 && len(x.Tried) == 0 {
			way.r.Throughput = nil
			continue
		}
		mean, _ := meanOf(x.Trials)
		x.Rates = w.rates(mean, []int{size})
		if host := w.byHost([]int{size}); host > 0 && mean > nearHost*host && x.Limited == "" && mean < x.Most*(1-1e-9) {
			x.Limited = fmt.Sprintf("this host itself sends %.0f frames a second of this size at most", host)
		}
	}
}

// rate is what later parts send: what was found, or the highest that was asked for where it was
// not looked for.
func (x sizeWay) rate() float64 {
	if x.r.Throughput != nil {
		return x.r.Throughput.Rates.FPS
	}
	return x.most
}

// latency measures at the throughput (RFC 2544 §26.2). Where that asks for one marked frame of a
// trial, all frames are timed here: the mean is of more, and means the same.
func (w *walk) latency(size int, ways []sizeWay) bool {
	b := w.p.BySize
	length := b.Latency.For.Or(usualTrial)
	all := make([][]Delay, len(ways))
	settle := func() {
		for i, x := range ways {
			if len(all[i]) == 0 {
				continue
			}
			at := b.Latency.At.Or(1) * x.rate()
			d, means := together(all[i])
			x.r.Latency = &LatencyResult{Rates: w.rates(at, []int{size}), Delay: d, Trials: means}
		}
	}
	for range count(b.Latency.Trials, usualLatency) {
		t := Trial{Part: Latency, Size: size, For: Span(length)}
		var of []int
		for i, x := range ways {
			if rate := b.Latency.At.Or(1) * x.rate(); rate > 0 {
				t.Loads = append(t.Loads, Load{There: x.there, Service: -1, FPS: rate, Frames: []int{size}})
				of = append(of, i)
			}
		}
		if len(t.Loads) == 0 {
			return true
		}
		t.Says = w.says("latency", size, t.Loads)
		o, ok := w.do(t)
		if !ok {
			settle()
			return false
		}
		for k, i := range of {
			if d := o.Seen[k].Delay; d != nil {
				all[i] = append(all[i], *d)
			}
		}
	}
	settle()
	return true
}

// together is the mean of what trials found.
func together(list []Delay) (d Delay, means []float64) {
	d = list[0]
	n := float64(len(list))
	d.MeanMs, d.P50Ms, d.P99Ms, d.P999Ms, d.ErrorMs = 0, 0, 0, 0, 0
	for _, x := range list {
		means = append(means, x.MeanMs)
		d.MeanMs += x.MeanMs / n
		d.P50Ms += x.P50Ms / n
		d.P99Ms += x.P99Ms / n
		d.P999Ms += x.P999Ms / n
		d.ErrorMs = max(d.ErrorMs, x.ErrorMs)
		d.LeastMs, d.MostMs = min(d.LeastMs, x.LeastMs), max(d.MostMs, x.MostMs)
		if x.Of != d.Of {
			d.Of = HalfRound
		}
	}
	return d, means
}

// frameLoss goes down from the highest rate in steps until two in a row lose nothing (RFC 2544
// §26.3).
func (w *walk) frameLoss(size int, ways []sizeWay) bool {
	b := w.p.BySize
	length, step := b.Loss.For.Or(usualTrial), b.Loss.Step.Or(usualStep)
	clean := make([]int, len(ways))
	for _, share := range w.shares(size, step) {
		t := Trial{Part: FrameLoss, Size: size, For: Span(length)}
		var of []int
		for i, x := range ways {
			if clean[i] < 2 {
				t.Loads = append(t.Loads, Load{There: x.there, Service: -1, FPS: share * x.most, Frames: []int{size}})
				of = append(of, i)
			}
		}
		if len(t.Loads) == 0 {
			return true
		}
		t.Says = w.says("frame loss", size, t.Loads)
		sums := make([]Seen, len(of))
		for range count(b.Loss.Trials, 1) {
			o, ok := w.do(t)
			if !ok {
				return false
			}
			for j := range of {
				sums[j] = add(sums[j], o.Seen[j])
			}
		}
		for j, i := range of {
			ways[i].r.Loss = append(ways[i].r.Loss, w.step(t.Loads[j], sums[j], share, length))
			if sums[j].lost() == 0 && sums[j].Sent > 0 {
				clean[i]++
			} else {
				clean[i] = 0
			}
		}
	}
	return true
}

// shares are the steps of a frame loss test, from the highest rate down; the rate that the
// circuit is held to is one of them, where its loss is.
func (w *walk) shares(size int, step float64) (list []float64) {
	for k := 0; ; k++ {
		share := 1 - float64(k)*step
		if k > 0 && share < step*(1-1e-9) || share <= 0 {
			break
		}
		list = append(list, share)
	}
	for _, there := range []bool{true, false} {
		if at := w.lossAt(size, there); w.p.goes(there) && at < 1 && !slices.ContainsFunc(list, func(v float64) bool { return math.Abs(v-at) < 1e-6 }) {
			list = append(list, at)
		}
	}
	slices.SortFunc(list, func(a, b float64) int { return cmp.Compare(b, a) })
	return list
}

// lossAt is at which part of the highest rate a limit of loss holds: at the throughput that the
// circuit is held to, or at the highest where it is held to none.
func (w *walk) lossAt(size int, there bool) float64 {
	l := w.p.BySize.Limits
	at := w.p.fps(l.Throughput.Of(there), []int{size}, there) / w.p.most(size, there)
	if !l.Loss.Given || !(at > 0) || at > 1 {
		return 1
	}
	return at
}

// add lays trials of one rate together.
func add(a, b Seen) Seen {
	if a.Sent == 0 {
		return b
	}
	b.Sent, b.Received, b.Bytes = a.Sent+b.Sent, a.Received+b.Received, a.Bytes+b.Bytes
	b.Duplicates, b.Reordered, b.Damaged = a.Duplicates+b.Duplicates, a.Reordered+b.Reordered, a.Damaged+b.Damaged
	if b.Ours == "" {
		b.Ours = a.Ours
	}
	return b
}
