// Package link is one direction of a link in a simulated network: how long a
// packet takes to cross it, and whether it does. It is pure: what becomes of a
// packet follows from the link's properties, its seed, the packet's own number
// and the packets that crossed before it.
//
//	var s link.State
//	c := s.Cross(&properties, link.Packet{Seed: seed, Number: n, Size: 1500, At: nanos})
//	if c.Cause == link.Through { … c.At … }
package link

import "time"

// Properties of one direction of a link. The zero value carries nothing: see
// Default.
type Properties struct {
	Up     bool
	Metric int // for the choice of the way

	Delay      time.Duration // of propagation
	Variation  Variation
	Memory     Memory // of the variation
	Loss       Loss
	Duplicates float64 // part of the packets that arrive twice
	Reorders   float64 // part of the packets that are held back …
	HeldBack   time.Duration
	// Unordered lets a packet that draws a short delay overtake those ahead of it.
	// Links do not do that, so by default it arrives right behind them.
	Unordered bool

	Rate   float64 // bit/s at the IP layer; 0 is no limit
	Queue  Queue
	Load   float64 // cross traffic, as a part of the rate
	Ripple bool    // whether the cross traffic swings over seconds and minutes

	Policer Policer
	MTU     int  // bytes of IP; 0 is no limit
	Swallow bool // whether packets above the MTU vanish without a word
}

// Default is a link as long as nothing is said of it.
func Default() Properties {
	return Properties{Up: true, Metric: 10, Queue: Queue{Time: 50 * time.Millisecond}, Ripple: true}
}

// Cause says why a packet did not get through, or that it did.
type Cause uint8

// The causes.
const (
	Through Cause = iota
	Lost          // on the wire
	Full          // the queue was full, or its rule dropped early
	Policed
	Down
	TooBig
	causes
)

func (c Cause) String() string {
	return [...]string{"through", "lost", "queue full", "policed", "down", "too big"}[c]
}

// Packet is what the link knows of a packet.
type Packet struct {
	Seed   uint64 // of the link
	Number uint64 // tells packets apart; the same packet has the same on any machine
	Size   int    // bytes, with the IP header
	At     int64  // when it comes to the link, nanoseconds since 1970
}

// Crossing is what became of a packet.
type Crossing struct {
	Cause Cause
	At    int64 // when it arrives at the other end
	// Again is when a second copy arrives; 0 when there is none.
	Again int64
}

// Tally counts what crossed a direction.
type Tally struct {
	Packets, Bytes uint64         // that came to it
	By             [causes]uint64 // by what became of them
	Copies         uint64
	Overtaken      uint64 // held back on purpose
}

// State is what a direction remembers between packets. The zero value is a link
// that nothing has crossed.
type State struct {
	Tally Tally

	free    int64 // when the last bit of the last packet has left
	newest  int64 // the latest arrival in order
	entered int64 // when the last packet came
	tokens  float64
	filled  int64
	bad     bool // the Gilbert–Elliott state
	count   uint64
}

// rewind is how far time may run back between two packets, which come from many
// places, before the state is taken for that of another time.
const rewind = int64(time.Minute)

// Cross sends a packet over the link. Packets should come in order of time.
func (s *State) Cross(p *Properties, k Packet) Crossing {
	if k.At < s.entered-rewind {
		*s = State{Tally: s.Tally}
	}
	s.entered = k.At
	s.Tally.Packets++
	s.Tally.Bytes += uint64(k.Size)
	c := s.cross(p, k)
	s.Tally.By[c.Cause]++
	return c
}

func (s *State) cross(p *Properties, k Packet) Crossing {
	if !p.Up {
		return Crossing{Cause: Down}
	}
	random := draws{Mix(k.Number ^ k.Seed)}
	if p.Policer.Rate > 0 && !s.police(&p.Policer, k.At, k.Size) {
		return Crossing{Cause: Policed}
	}
	at, ok := s.queue(p, &k, &random)
	if !ok {
		return Crossing{Cause: Full}
	}
	if p.Loss.Kind != NoLoss && s.lose(&p.Loss, &random) {
		return Crossing{Cause: Lost}
	}
	delay := p.Delay
	if p.Variation.Kind != Constant {
		delay += p.Variation.draw(p.Memory.source(&random, &k))
	}
	at += int64(max(0, delay))
	c := Crossing{At: at}
	if p.Reorders > 0 && random.unit() < p.Reorders {
		s.Tally.Overtaken++
		c.At += int64(p.HeldBack)
	} else if !p.Unordered {
		c.At = max(c.At, s.newest)
		s.newest = c.At
	}
	if p.Duplicates > 0 && random.unit() < p.Duplicates {
		s.Tally.Copies++
		c.Again = c.At + 1
	}
	return c
}

// Refuse counts a packet that is too big for the link.
func (s *State) Refuse(size int) {
	s.Tally.Packets++
	s.Tally.Bytes += uint64(size)
	s.Tally.By[TooBig]++
}

// Backlog is how long a packet that came at a time would wait for those before
// it, apart from cross traffic.
func (s *State) Backlog(at int64) time.Duration { return time.Duration(max(0, s.free-at)) }

// draws is a stream of random words that belongs to one packet at one link.
type draws struct{ word uint64 }

func (d *draws) next() uint64 {
	d.word += 0x9e3779b97f4a7c15
	return finish(d.word)
}

// unit is the next draw in [0, 1).
func (d *draws) unit() float64 { return Unit(d.next()) }

// Mix turns a word into one of which every bit depends on every bit of the
// first: a step of the splitmix64 generator.
func Mix(x uint64) uint64 { return finish(x + 0x9e3779b97f4a7c15) }

func finish(x uint64) uint64 {
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// Unit maps a random word to [0, 1).
func Unit(x uint64) float64 { return float64(x>>11) / (1 << 53) }
