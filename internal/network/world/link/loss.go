package link

// LossKind is how a link loses packets.
type LossKind uint8

// The kinds.
const (
	NoLoss LossKind = iota
	RandomLoss
	BurstLoss // the two-state chain of Gilbert and Elliott
	EveryNth
)

// Loss of a link.
type Loss struct {
	Kind  LossKind
	Ratio float64 // of RandomLoss
	N     uint64  // of EveryNth

	// Of BurstLoss: before each packet the chain enters its bad state with
	// probability Enter, or leaves it with Leave; then Inside or Outside is the
	// probability that the packet is lost.
	Enter, Leave, Inside, Outside float64
}

// Mean is the part of the packets that is lost in the long run.
func (l Loss) Mean() float64 {
	switch l.Kind {
	case RandomLoss:
		return l.Ratio
	case EveryNth:
		return 1 / float64(l.N)
	case BurstLoss:
		if l.Enter+l.Leave == 0 {
			return l.Outside
		}
		return (l.Enter*l.Inside + l.Leave*l.Outside) / (l.Enter + l.Leave)
	}
	return 0
}

// lose decides about the next packet.
func (s *State) lose(l *Loss, random *draws) bool {
	switch l.Kind {
	case RandomLoss:
		return random.unit() < l.Ratio
	case EveryNth:
		s.count++
		return s.count%l.N == 0
	case BurstLoss:
		if s.bad {
			s.bad = random.unit() >= l.Leave
		} else {
			s.bad = random.unit() < l.Enter
		}
		if s.bad {
			return random.unit() < l.Inside
		}
		return random.unit() < l.Outside
	}
	return false
}
