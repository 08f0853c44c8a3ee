package baseline

import (
	"iter"
	"slices"
	"time"
)

// History is a path's points of a stretch of time, packed by columns: some tens of
// bytes each. The zero value is empty.
type History struct {
	at       []int64 // unix seconds
	span     []int32 // seconds
	sent     []int32
	lost     []int32
	answered []int32
	values   [measures][]float32 // NaN where a point has none; nil where none has
	of       [2][]int32          // packets of each direction; nil where none has
}

// Len is how many points there are.
func (h *History) Len() int { return len(h.at) }

// Add appends the next point. Points come in the order of time; one without a
// probe sent and without any figure says nothing and is left out.
func (h *History) Add(p Point) {
	if p.Sent == 0 && p.set == 0 {
		return
	}
	n := len(h.at)
	h.at = append(h.at, p.At.Unix())
	h.span = append(h.span, int32(p.Span.Seconds()))
	h.sent = append(h.sent, int32(p.Sent))
	h.lost = append(h.lost, int32(p.Lost))
	h.answered = append(h.answered, int32(p.Answered))
	for m := range h.values {
		has := p.set&(1<<m) != 0
		switch {
		case has && h.values[m] == nil:
			h.values[m] = make([]float32, n, cap(h.at))
			for i := range h.values[m] {
				h.values[m][i] = nan
			}
			fallthrough
		case has:
			h.values[m] = append(h.values[m], p.values[m])
		case h.values[m] != nil:
			h.values[m] = append(h.values[m], nan)
		}
	}
	for k, of := range p.of {
		if of > 0 && h.of[k] == nil {
			h.of[k] = make([]int32, n, cap(h.at))
		}
		if h.of[k] != nil {
			h.of[k] = append(h.of[k], of)
		}
	}
}

// Point is the point at an index.
func (h *History) Point(i int) Point {
	p := Point{At: time.Unix(h.at[i], 0).UTC(), Span: time.Duration(h.span[i]) * time.Second, Sent: int(h.sent[i]), Lost: int(h.lost[i]), Answered: int(h.answered[i])}
	for m, list := range h.values {
		if list != nil && list[i] == list[i] {
			p.values[m] = list[i]
			p.set |= 1 << m
		}
	}
	for k, list := range h.of {
		if list != nil {
			p.of[k] = list[i]
		}
	}
	return p
}

// sentOf are the probes or packets that a ratio at an index rests on.
func (h *History) sentOf(m Measure, i int) int32 {
	if m == LossThere || m == LossBack {
		if list := h.of[m-LossThere]; list != nil && list[i] > 0 {
			return list[i]
		}
	}
	return h.sent[i]
}

// First and Last are the times of the first and the last point; zero when there is none.
func (h *History) First() time.Time { return h.timeOf(0) }

// Last is the time of the last point; zero when there is none.
func (h *History) Last() time.Time { return h.timeOf(len(h.at) - 1) }

func (h *History) timeOf(i int) time.Time {
	if i < 0 || i >= len(h.at) {
		return time.Time{}
	}
	return time.Unix(h.at[i], 0).UTC()
}

// Between are the points from a time (inclusive) to another (exclusive), oldest first.
func (h *History) Between(from, to time.Time) iter.Seq[Point] {
	return func(yield func(Point) bool) {
		for i := h.index(from); i < h.Len() && h.at[i] < to.Unix(); i++ {
			if !yield(h.Point(i)) {
				return
			}
		}
	}
}

// Forget lets go of the points before a time.
func (h *History) Forget(before time.Time) {
	n, _ := slices.BinarySearch(h.at, before.Unix())
	if n == 0 {
		return
	}
	h.at = slices.Delete(h.at, 0, n)
	for _, list := range []*[]int32{&h.span, &h.sent, &h.lost, &h.answered} {
		*list = slices.Delete(*list, 0, n)
	}
	for m := range h.values {
		if h.values[m] != nil {
			h.values[m] = slices.Delete(h.values[m], 0, n)
		}
	}
	for k := range h.of {
		if h.of[k] != nil {
			h.of[k] = slices.Delete(h.of[k], 0, n)
		}
	}
}

// value is a measure's figure at an index, the worse the higher.
func (h *History) value(m Measure, i int) (float64, bool) {
	if m == Loss {
		if h.sent[i] == 0 {
			return 0, false
		}
		return float64(h.lost[i]) / float64(h.sent[i]), true
	}
	list := h.values[m]
	if list == nil || list[i] != list[i] {
		return 0, false
	}
	return float64(list[i]), true
}

// index is that of the first point not before a time.
func (h *History) index(t time.Time) int {
	n, _ := slices.BinarySearch(h.at, t.Unix())
	return n
}

// Shifts are by how much a measure was worse than a baseline expects, from a time to another.
func (h *History) Shifts(b *Baseline, m Measure, from, to time.Time) (list []float64) {
	if b == nil || b.list[m] == nil {
		return nil
	}
	for i := h.index(from); i < h.Len() && h.at[i] < to.Unix(); i++ {
		v, ok := h.value(m, i)
		if !ok {
			continue
		}
		list = append(list, worseBy(m, v, b.list[m].normal(b.clock.at(h.at[i])).Expected))
	}
	return list
}
