package acceptance

import (
	"slices"
)

// burst looks for the longest burst that is carried whole (RFC 2544 §26.4). What was lost first
// of one that was not says where it is.
type burst struct {
	good, bad, next int
	most            int
	stride          int
	over            bool
	rate            float64
}

func (b *burst) take(s Seen) {
	if s.Offered > 0 {
		b.rate = s.Offered
	}
	if s.lost() == 0 && s.Sent > 0 {
		b.good = max(b.good, b.next)
	} else {
		b.bad = min(b.bad, b.next)
	}
	if b.good >= b.most || b.bad-b.good <= 1 {
		b.over = true
		return
	}
	switch n := int(s.Whole); {
	case s.lost() > 0 && n > b.good && n < b.bad:
		b.next = n
		return
	case s.lost() == 0: // what was lost first of a longer one told just how long: the next is lost
		b.next = min(b.good+max(1, b.stride), b.bad-1)
		b.stride = max(1, 2*b.stride)
		return
	}
	b.next = (b.good + b.bad) / 2
}

func (w *walk) backToBack(size int, ways []sizeWay) bool {
	b := w.p.BySize
	longest := b.Burst.Longest.Or(usualBurst)
	all := make([][]int, len(ways))
	rates := make([]float64, len(ways))
	most := make([]int, len(ways))
	settle := func() {
		for i, x := range ways {
			if len(all[i]) > 0 {
				x.r.Burst = w.burstOf(x, size, all[i], most[i], rates[i])
			}
		}
	}
	for range count(b.Burst.Trials, usualBursts) {
		found := make([]*burst, len(ways))
		for i, x := range ways {
			most[i] = max(2, int(x.most*longest.Seconds()))
			found[i] = &burst{bad: most[i] + 1, next: most[i], most: most[i]}
		}
		for slices.ContainsFunc(found, func(x *burst) bool { return !x.over }) {
			t := Trial{Part: BackToBack, Size: size, For: Span(longest)}
			var of []int
			for i, x := range found {
				if !x.over {
					t.Loads = append(t.Loads, Load{There: ways[i].there, Service: -1, FPS: ways[i].most, Frames: []int{size}, Burst: x.next})
					of = append(of, i)
				}
			}
			t.Says = w.says("back-to-back", size, t.Loads)
			o, ok := w.do(t)
			if !ok {
				settle()
				return false
			}
			for j, i := range of {
				found[i].take(o.Seen[j])
				rates[i] = found[i].rate
			}
		}
		for i, x := range found {
			all[i] = append(all[i], x.good)
		}
	}
	settle()
	return true
}

// burstOf is the mean of bursts, and how much of it waited (RFC 9004 §5.4): while a burst comes
// in, frames go on at the throughput.
func (w *walk) burstOf(x sizeWay, size int, list []int, most int, rate float64) *BurstResult {
	values := make([]float64, len(list))
	for i, n := range list {
		values[i] = float64(n)
	}
	r := &BurstResult{Least: slices.Min(list), Most: slices.Max(list), Trials: list, Rate: w.rates(rate, []int{size})}
	r.Frames, r.SD = meanOf(values)
	r.All = r.Least >= most
	if t := x.r.Throughput; t != nil && t.Rates.FPS > 0 && rate > t.Rates.FPS && !r.All {
		n := r.Frames * (rate - t.Rates.FPS) / rate
		ms := n / t.Rates.FPS * 1000
		r.Buffer, r.BufferMs = &n, &ms
	}
	return r
}
