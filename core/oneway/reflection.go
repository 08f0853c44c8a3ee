package oneway

import (
	"cmp"
	"slices"
	"time"
)

// Reflected is an answer of a STAMP reflector (RFC 8762 §4.3) as it came.
type Reflected struct {
	Number   int       // of the request, counted from 0 in sending order
	Seq      int64     // the reflector's own number; a stateless one copies the request's
	Received time.Time // by the reflector's clock: when the request came
	Sent     time.Time // by the reflector's clock: when the answer left
	Came     time.Time // by the sender's clock
	Counted  int64     // requests that the reflector says it had received then (RFC 8972 §4.5); -1 when it says nothing
	TTL      [2]int    // there and back; 0 when not known
	DSCP     [2]int    // there and back; -1 when not known
}

// Reflection is what one end alone knows of a stream and of the stream of its answers.
type Reflection struct {
	Sent     []time.Time // of each request; zero for one that did not leave
	Count    int         // how many of them are of the stream: those behind only close it
	Answers  []Reflected // in the order of arriving
	Interval time.Duration
}

// Ways is what a reflection tells of each direction.
type Ways struct {
	There, Back Stream
	// Stateful says that the reflector counts what it receives. Only then is it known in
	// which direction a packet without an answer was lost.
	Stateful bool
	// Known says that losses are put to their direction: the reflector is stateful, or
	// nothing was lost. Else both streams hold the answered packets only.
	Known bool
	// Unplaced is how many losses lie among others of the other direction, so that
	// their number is exact, and which packet each was is not known.
	Unplaced int
}

// Ways puts the packets to their directions. A request whose number the reflector
// skipped was lost on the way there; a number of the reflector that never came, on the
// way back. What was sent behind the last answer is left out: nothing tells which way
// it was lost.
func (r Reflection) Ways() Ways {
	w := Ways{There: Stream{Interval: r.Interval}, Back: Stream{Interval: r.Interval}}
	for _, a := range r.Answers {
		w.Stateful = w.Stateful || a.Seq != int64(a.Number) || a.Counted >= 0
	}
	answers, again := r.distinct(w.Stateful)
	last := -1
	came := make([]bool, len(r.Sent))
	for _, a := range answers {
		last = max(last, a.Number)
		came[a.Number] = true
	}
	whole := true
	for n := range last + 1 {
		whole = whole && (came[n] || r.Sent[n].IsZero())
	}
	w.Known = len(answers) > 0 && (whole || w.Stateful && answers[0].Seq <= int64(answers[0].Number))
	w.There.Sent = make([]time.Time, min(last+1, r.Count))
	for n := range w.There.Sent {
		if w.Known || came[n] {
			w.There.Sent[n] = r.Sent[n]
		}
	}
	before := Reflected{Number: -1, Seq: -1}
	for i, a := range answers {
		if w.Known && w.Stateful {
			w.between(r, before, a, came)
		}
		before = a
		if a.Number >= r.Count {
			continue
		}
		w.There.Arrivals = append(w.There.Arrivals, Arrival{Number: a.Number, At: a.Received, TTL: a.TTL[0], DSCP: a.DSCP[0]})
		for _, x := range again[i] {
			w.Back.Arrivals = append(w.Back.Arrivals, Arrival{Number: len(w.Back.Sent), At: x.Came, TTL: x.TTL[1], DSCP: x.DSCP[1]})
		}
		w.Back.Sent = append(w.Back.Sent, a.Sent)
	}
	slices.SortStableFunc(w.Back.Arrivals, func(a, b Arrival) int { return a.At.Compare(b.At) })
	return w
}

// distinct are the answers in the order in which they left the reflector, each once, and
// for each all that came of it.
func (r Reflection) distinct(stateful bool) (list []Reflected, again [][]Reflected) {
	sorted := slices.DeleteFunc(slices.Clone(r.Answers), func(a Reflected) bool { return a.Number < 0 || a.Number >= len(r.Sent) })
	slices.SortStableFunc(sorted, func(a, b Reflected) int {
		if stateful {
			return cmp.Or(cmp.Compare(a.Seq, b.Seq), a.Received.Compare(b.Received))
		}
		return cmp.Or(a.Received.Compare(b.Received), cmp.Compare(a.Number, b.Number))
	})
	for _, a := range sorted {
		k := len(list) - 1
		if k >= 0 && list[k].Seq == a.Seq && list[k].Number == a.Number && list[k].Received.Equal(a.Received) {
			again[k] = append(again[k], a)
			continue
		}
		list, again = append(list, a), append(again, []Reflected{a})
	}
	return list, again
}

// between puts to their direction the requests without an answer between two answers
// that left the reflector one after the other, as far as it counts.
func (w *Ways) between(r Reflection, a, b Reflected, came []bool) {
	var gone []int // requests without an answer
	for n := a.Number + 1; n < b.Number; n++ {
		if !came[n] && n < r.Count && !r.Sent[n].IsZero() {
			gone = append(gone, n)
		}
	}
	arrived := min(int(b.Seq-a.Seq-1), len(gone)) // and lost on the way back
	if arrived > 0 && arrived < len(gone) {
		w.Unplaced += len(gone)
	}
	for i := range max(0, arrived) {
		// When it came, and its answer left, nobody knows: between its neighbours.
		left := b.Sent
		if !a.Sent.IsZero() {
			left = a.Sent.Add(b.Sent.Sub(a.Sent) * time.Duration(i+1) / time.Duration(arrived+1))
		}
		w.There.Arrivals = append(w.There.Arrivals, Arrival{Number: gone[i], DSCP: -1})
		w.Back.Sent = append(w.Back.Sent, left)
	}
}
