package link

import (
	"math"
	"time"
)

// Queue is the room before a link of limited rate: a time or a number of bytes.
type Queue struct {
	Time  time.Duration
	Bytes int // before Time when above 0
	// Early makes it drop before it is full: from half full on with a
	// probability that rises evenly to 1.
	Early bool
}

// depth of the queue as a time at a rate.
func (q *Queue) depth(rate float64) float64 {
	if q.Bytes > 0 {
		return float64(q.Bytes) * 8e9 / rate
	}
	return float64(q.Time)
}

// Policer drops what exceeds a token bucket (RFC 2697's committed part).
type Policer struct {
	Rate  float64 // bit/s; 0 is none
	Burst int     // bytes
}

// police takes the packet's bytes from the bucket.
func (s *State) police(p *Policer, at int64, size int) bool {
	if s.filled == 0 {
		s.tokens = float64(p.Burst)
	} else {
		s.tokens = min(float64(p.Burst), s.tokens+float64(max(0, at-s.filled))*p.Rate/8e9)
	}
	s.filled = at
	if s.tokens < float64(size) {
		return false
	}
	s.tokens -= float64(size)
	return true
}

const (
	// assumedRate serves cross traffic on a link whose own rate is unlimited.
	assumedRate = 12e6
	// leastShare of the rate is left to measured packets, however full the link.
	leastShare = 0.05
	meanSize   = 1500 // bytes of a packet of the cross traffic
)

// queue makes the packet wait its turn and returns when its last bit has left;
// false when it is dropped.
func (s *State) queue(p *Properties, k *Packet, random *draws) (int64, bool) {
	if p.Rate <= 0 && p.Load <= 0 {
		return k.At, true
	}
	rate := p.Rate
	if rate <= 0 {
		rate = assumedRate
	}
	own := float64(max(0, s.free-k.At))
	wait := own
	held := &wait // what the drop rule looks at
	if p.Load > 0 {
		depth := p.Queue.depth(rate)
		load := p.loadAt(k.Seed, float64(k.At))
		if load >= 1 {
			if random.unit() < 1-1/load {
				return 0, false
			}
			wait = max(own, depth*(0.6+0.4*random.unit()))
			held = &own // the drop for what others send was decided above
		} else {
			service := meanSize * 8e9 / rate
			wait += min(depth, service*load/(1-load)) * (0.6 + 0.4*random.unit())
		}
		rate *= max(leastShare, 1-load)
	}
	if p.Rate <= 0 {
		return k.At + int64(wait), true
	}
	size := float64(k.Size) * 8e9
	if *held > 0 && p.Queue.full(*held, size/p.Rate, p.Queue.depth(p.Rate), random) {
		return 0, false
	}
	s.free = max(s.free, k.At) + int64(size/rate)
	return k.At + int64(wait+size/rate), true
}

// full applies the drop rule to a packet that would wait so long and then takes
// so long to send.
func (q *Queue) full(wait, sending, depth float64, random *draws) bool {
	if q.Early {
		return random.unit() < 2*wait/depth-1
	}
	if q.Bytes > 0 {
		return wait+sending > depth
	}
	return wait > depth
}

// loadAt is the cross traffic's load at a time: it swings by a third, over
// seconds and over minutes.
func (p *Properties) loadAt(seed uint64, at float64) float64 {
	if !p.Ripple {
		return p.Load
	}
	return p.Load * (1 + 0.2*ripple(seed, at/4e9) + 0.15*ripple(seed+1, at/75e9))
}

// ripple is smooth noise between −1 and 1: values at whole x, and between them
// a blend.
func ripple(seed uint64, x float64) float64 {
	whole := math.Floor(x)
	part := x - whole
	a := 2*Unit(Mix(seed^uint64(int64(whole)))) - 1
	b := 2*Unit(Mix(seed^uint64(int64(whole)+1))) - 1
	part = part * part * (3 - 2*part)
	return a + part*(b-a)
}
