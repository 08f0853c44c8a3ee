package world

import (
	"math"
	"time"
)

// Fate is what becomes of an echo request and the answer to it.
type Fate struct {
	Answered bool
	Refused  string        // why it was refused; empty when it was not
	By       int           // the node that answered or refused
	RTT      time.Duration // of an answer or a refusal
	TTL      int           // of the answer when it arrives
}

// Walker computes fates. It remembers the state of the network between two
// changes, so one goroutine should use one walker, in order of time where it
// can. What it returns depends on seed, packet and time alone.
type Walker struct {
	m        *Model
	from, to time.Time // the remembered state holds in between; zero to: for ever
	known    bool
	nodes    []nodeState
	links    []linkState
	next     [][]int32
	ways     map[[2]int]way
}

// way is the directions from one node to another.
type way struct {
	links []int32
	ends  int  // the node it reaches
	ok    bool // whether that is the one meant
}

// Walker returns a walker over the model.
func (m *Model) Walker() *Walker { return &Walker{m: m} }

// settle brings the remembered state to t.
func (w *Walker) settle(t time.Time) {
	if w.known && !t.Before(w.from) && (w.to.IsZero() || t.Before(w.to)) {
		return
	}
	m := w.m
	w.known, w.from, w.to = true, t, time.Time{}
	w.nodes, w.links = make([]nodeState, len(m.nodes)), make([]linkState, len(m.links))
	for i, n := range m.nodes {
		w.nodes[i] = n.state
	}
	for i, l := range m.links {
		w.links[i] = l.state
	}
	key := make([]byte, len(m.changes))
	for i, c := range m.changes {
		if next, ok := c.window.next(t); ok && (w.to.IsZero() || next.Before(w.to)) {
			w.to = next
		}
		if !c.window.open(t) {
			continue
		}
		if c.routes {
			key[i] = 1
		}
		for _, l := range c.links {
			c.link(&w.links[l])
		}
		if c.node >= 0 {
			c.set(&w.nodes[c.node])
		}
	}
	w.next = m.table(string(key), w.nodes, w.links)
	w.ways = map[[2]int]way{}
}

// table is the routing table while certain changes are active.
func (m *Model) table(key string, nodes []nodeState, links []linkState) [][]int32 {
	m.mu.Lock()
	defer m.mu.Unlock()
	if t, ok := m.routes[key]; ok {
		return t
	}
	up := make([]bool, len(nodes))
	for i, n := range nodes {
		up[i] = n.up
	}
	t := nextHops(m.nodes, up, m.links, links)
	m.routes[key] = t
	return t
}

func (w *Walker) way(from, to int) way {
	if way, ok := w.ways[[2]int{from, to}]; ok {
		return way
	}
	found := way{ends: from}
	for found.ends != to {
		next := w.next[found.ends][to]
		if next < 0 {
			break
		}
		found.links = append(found.links, next)
		found.ends = w.m.links[next].to
	}
	found.ok = found.ends == to
	w.ways[[2]int{from, to}] = found
	return found
}

// Route is the nodes that a packet passes from one node to another at t, both
// ends included.
func (w *Walker) Route(from, to int, t time.Time) []int {
	w.settle(t)
	nodes := []int{from}
	for _, l := range w.way(from, to).links {
		nodes = append(nodes, w.m.links[l].to)
	}
	return nodes
}

// Echo is the fate of an echo request sent at a time from one node to another,
// and of the answer. number tells packets apart that leave at the same time.
// The state of the network is that at the time of sending.
func (w *Walker) Echo(from, to int, at time.Time, number uint64) Fate {
	w.settle(at)
	if !w.nodes[from].up {
		return Fate{}
	}
	there := w.way(from, to)
	if !there.ok && len(there.links) == 0 {
		return Fate{Refused: "network unreachable", By: from, RTT: 10 * time.Microsecond}
	}
	packet := mix(mix(w.m.seed^uint64(from)<<32^uint64(to)) ^ uint64(at.UnixNano()) + number*0x9e3779b97f4a7c15)
	nanos := float64(at.UnixNano())
	delay, ok := w.cross(there.links, packet, nanos)
	if !ok {
		return Fate{}
	}
	state := w.nodes[there.ends]
	fate := Fate{By: there.ends}
	switch {
	case !state.up || there.ok && state.icmp == Drops:
		return Fate{}
	case !there.ok:
		fate.Refused = "network unreachable"
	case state.icmp == Prohibits:
		fate.Refused = "administratively prohibited"
	default:
		fate.Answered = true
	}
	back := w.way(there.ends, from)
	if !back.ok {
		return Fate{}
	}
	more, ok := w.cross(back.links, mix(packet), nanos+delay)
	if !ok {
		return Fate{}
	}
	fate.RTT = time.Duration(delay + more)
	fate.TTL = 64 - (len(back.links) - 1)
	return fate
}

// cross sends a packet over links; it returns how long that takes in
// nanoseconds, and false when the packet is lost on the way.
func (w *Walker) cross(links []int32, packet uint64, at float64) (float64, bool) {
	var total float64
	for _, l := range links {
		s := &w.links[l]
		random := mix(packet ^ uint64(l+1)*0xbf58476d1ce4e5b9)
		if s.loss > 0 && unit(random) < s.loss {
			return 0, false
		}
		total += float64(s.delay)
		if s.scale > 0 {
			total += s.vary(mix(random + 1))
		}
		if s.load > 0 {
			wait, drop := s.crossTraffic(w.m.seed^uint64(l), at+total)
			if drop > 0 && unit(mix(random+2)) < drop {
				return 0, false
			}
			total += wait * (0.6 + 0.4*unit(mix(random+3)))
		}
	}
	return total, true
}

func (s *linkState) vary(random uint64) float64 {
	scale := float64(s.scale)
	switch s.variation {
	case Uniform:
		return scale * (2*unit(random) - 1)
	case Gaussian:
		r := math.Sqrt(-2*math.Log(1-unit(random))) * math.Cos(2*math.Pi*unit(mix(random)))
		return scale * max(-4, min(4, r))
	case Gamma:
		return -scale / 2 * (math.Log(1-unit(random)) + math.Log(1-unit(mix(random))))
	}
	return 0
}

// crossTraffic is the wait in the queue and the part of the packets that it
// drops. The load of the other traffic swings by a third, over seconds and
// over minutes; below the rate the wait is that of a queue with random
// arrivals (ρ/(1−ρ) packets), above it the queue is full and drops what does
// not fit.
func (s *linkState) crossTraffic(seed uint64, at float64) (wait, drop float64) {
	load := s.load * (1 + 0.2*ripple(seed, at/4e9) + 0.15*ripple(seed+1, at/75e9))
	full := float64(s.queue)
	if load >= 1 {
		return full, 1 - 1/load
	}
	return min(full, float64(s.service)*load/(1-load)), 0
}

// ripple is smooth noise between −1 and 1: values at whole x, and between them
// a blend.
func ripple(seed uint64, x float64) float64 {
	whole := math.Floor(x)
	part := x - whole
	a := 2*unit(mix(seed^uint64(int64(whole)))) - 1
	b := 2*unit(mix(seed^uint64(int64(whole)+1))) - 1
	part = part * part * (3 - 2*part)
	return a + part*(b-a)
}

// mix is the finaliser of the splitmix64 generator: every bit of the input
// moves every bit of the output.
func mix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

// unit maps a random word to [0, 1).
func unit(x uint64) float64 { return float64(x>>11) / (1 << 53) }
