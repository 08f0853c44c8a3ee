package oneway

import (
	"slices"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
)

// Arrival is one packet as it arrived.
type Arrival struct {
	Number int       // of the packet, counted from 0 in sending order
	At     time.Time // by the receiver's clock; zero when only that it came is known
	TTL    int       // 0 when not known
	DSCP   int       // -1 when not known
	Size   int       // bytes of payload
}

// Stream is what was sent in one direction, and what arrived of it. A packet that
// was numbered and did not leave has a zero time in Sent: it counts as not sent.
type Stream struct {
	Sent     []time.Time // by the sender's clock
	Arrivals []Arrival   // in the order of arriving; a number that comes again is a duplicate
	Interval time.Duration
	Late     int // packets that left later than they were due: see reading's late-sent
}

// Direction is what a stream met.
type Direction struct {
	Loss       loss.Ratio   // RFC 7680
	Pattern    loss.Pattern // in sending order
	Duplicates int          // packets that arrived more than once (RFC 5560 §3)
	Order      Order
	Delay      delay.Summary // of the packets that arrived (RFC 7679); see Clock for what it is worth
	// PDV999 is the 99.9 % quantile − minimum (ITU-T Y.1540 §6.2.4).
	PDV999 figure.Duration
	DSCPs  map[int]int // packets by the DSCP that they arrived with
	TTLs   map[int]int // packets by the TTL that they arrived with
	Late   int
	Shape  Shape
}

// Shape is how the delays of the packets that kept their order lie: their quantiles at delay.Parts,
// and how long they last. Held is how much longer those took that came behind a later one, in the
// median; absent when none did.
type Shape struct {
	Quantiles []time.Duration
	Memory    delay.Memory // zero where none shows
	Held      figure.Duration
}

// shape is that of a stream; see Of.
func (s Stream) shape(c Clock, far bool) (x Shape) {
	first := s.first()
	var kept []delay.Sample
	var sorted, behind []time.Duration
	next := 0
	for k, a := range s.Arrivals {
		if a.Number < 0 || a.Number >= len(first) || first[a.Number] != k || a.At.IsZero() || s.Sent[a.Number].IsZero() {
			continue
		}
		d := c.between(s.Sent[a.Number], a.At, far)
		if a.Number < next {
			behind = append(behind, d)
			continue
		}
		next = a.Number
		kept, sorted = append(kept, delay.Sample{Number: a.Number, RTT: d}), append(sorted, d)
	}
	slices.Sort(sorted)
	x.Quantiles = delay.Quantiles(sorted)
	x.Memory, _ = delay.MemoryOf(kept, s.Interval)
	if late, any := delay.Median(behind); any && len(sorted) > 0 {
		x.Held = figure.Of(max(0, late-delay.Quantile(sorted, 0.5)))
	}
	return x
}

// Order is how far packets overtook each other (RFC 4737).
type Order struct {
	Reordered int           // packets that arrived behind a later one (§3.3)
	Ratio     figure.Number // of those that arrived (§4.1)
	Extent    int           // the largest reordering extent (§4.2): how many packets before it had to wait for it at most
}

// Of computes what a stream met. The clock's offset is taken out of its delays; far
// says that its receiver is the far end.
func Of(s Stream, c Clock, far bool) Direction {
	d := Direction{DSCPs: map[int]int{}, TTLs: map[int]int{}, Late: s.Late}
	first := s.first()
	lost := make([]bool, 0, len(s.Sent))
	samples := make([]delay.Sample, 0, len(first))
	n, gone := 0, 0
	for i, sent := range s.Sent {
		if sent.IsZero() {
			continue
		}
		k := first[i]
		lost = append(lost, k < 0)
		if k < 0 {
			gone++
		} else if !s.Arrivals[k].At.IsZero() {
			samples = append(samples, delay.Sample{Number: n, RTT: c.between(sent, s.Arrivals[k].At, far)})
		}
		n++
	}
	d.Loss = loss.Ratio{Lost: gone, Sent: len(lost)}
	d.Pattern, d.Delay = loss.PatternOf(lost), delay.Summarise(samples)
	if len(samples) > 0 {
		d.PDV999 = pdv(samples, 0.999)
	}
	for _, a := range s.Arrivals {
		if a.DSCP >= 0 {
			d.DSCPs[a.DSCP]++
		}
		if a.TTL > 0 {
			d.TTLs[a.TTL]++
		}
	}
	d.Order, d.Duplicates = s.order()
	d.Shape = s.shape(c, far)
	return d
}

// Delays are the one-way delays by packet; absent where it was lost, or when it came is
// not known.
func Delays(s Stream, c Clock, far bool) []figure.Duration {
	first := s.first()
	list := make([]figure.Duration, len(s.Sent))
	for i, sent := range s.Sent {
		if k := first[i]; k >= 0 && !sent.IsZero() && !s.Arrivals[k].At.IsZero() {
			list[i] = figure.Of(c.between(sent, s.Arrivals[k].At, far))
		}
	}
	return list
}

// first is which arrival of each packet came first; -1 when none did.
func (s Stream) first() []int {
	first := make([]int, len(s.Sent))
	for i := range first {
		first[i] = -1
	}
	for k, a := range s.Arrivals {
		if a.Number >= 0 && a.Number < len(first) && first[a.Number] < 0 {
			first[a.Number] = k
		}
	}
	return first
}

// order counts packets that arrived behind a later one, and duplicates, which do
// not count as reordered.
func (s Stream) order() (o Order, duplicates int) {
	seen := make([]bool, len(s.Sent))
	var numbers []int // that came, in order of arriving
	next := 0
	for _, a := range s.Arrivals {
		switch {
		case a.Number < 0 || a.Number >= len(seen):
			continue
		case seen[a.Number]:
			duplicates++
			continue
		}
		seen[a.Number] = true
		if a.Number >= next {
			next = a.Number + 1
		} else {
			o.Reordered++
			// The extent goes back to the first that overtook it.
			for j := len(numbers) - 1; j >= 0; j-- {
				if numbers[j] > a.Number {
					o.Extent = max(o.Extent, len(numbers)-j)
				}
				if len(numbers)-j > mostExtent {
					break
				}
			}
		}
		numbers = append(numbers, a.Number)
	}
	if len(numbers) > 0 {
		o.Ratio = figure.Of(float64(o.Reordered) / float64(len(numbers)))
	}
	return o, duplicates
}

// mostExtent is how far back an overtaker is looked for.
const mostExtent = 1000
