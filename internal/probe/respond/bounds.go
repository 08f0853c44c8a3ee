package respond

import (
	"container/list"
	"hash/maphash"
	"net/netip"
	"time"
)

// bounds hold what is reflected to a rate, of each source and of all. Addresses can be
// made up, and any number of them: so nothing is kept of a single one, and half of the
// whole is for sources that were there in the second before, too, as made-up ones rarely
// are.
type bounds struct {
	one, all int
	seed     maphash.Seed
	sources  []budget // by hash
	old, new budget   // halves of the whole: of who was there before, and of the others
	before   []uint64 // who was there in the interval before, a bit each
	now      []uint64
	turned   time.Time
}

const (
	sourceBudgets = 1 << 14
	sourceBits    = 1 << 23 // so that few that are made up are taken for one that was there
	sourceTurn    = 2 * time.Second
)

// budget lets so many packets through a second.
type budget struct {
	left float64
	at   time.Time
}

// take reports whether one packet may go.
func (b *budget) take(now time.Time, rate int) bool {
	if b.at.IsZero() {
		b.left = float64(rate)
	} else {
		b.left = min(float64(rate), b.left+now.Sub(b.at).Seconds()*float64(rate))
	}
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

func newBounds(one, all int) bounds {
	return bounds{one: one, all: all, seed: maphash.MakeSeed(), sources: make([]budget, sourceBudgets), before: make([]uint64, sourceBits/64), now: make([]uint64, sourceBits/64)}
}

// allow reports whether a packet of a source may be answered.
func (b *bounds) allow(a netip.Addr, now time.Time) bool {
	if b.one <= 0 {
		return false
	}
	if now.Sub(b.turned) >= sourceTurn {
		b.before, b.now = b.now, b.before
		if now.Sub(b.turned) >= 2*sourceTurn {
			clear(b.before)
		}
		clear(b.now)
		b.turned = now
	}
	h := maphash.Comparable(b.seed, a)
	bit := h % sourceBits
	was := b.before[bit/64]&(1<<(bit%64)) != 0
	b.now[bit/64] |= 1 << (bit % 64)
	if !b.sources[(h>>32)%sourceBudgets].take(now, b.one) {
		return false
	}
	half := max(1, b.all/2)
	if was && b.old.take(now, half) {
		return true
	}
	return b.new.take(now, half)
}

type stateKey struct {
	peer    netip.AddrPort
	session uint16
}

const (
	mostStates   = 1 << 14
	mostStatesOf = 64 // of one source
	stateTime    = time.Minute
)

// states are what is known of sessions, of each source so many at most. Its zero value is
// ready.
type states struct {
	by map[netip.Addr]map[stateKey]*list.Element
	// Sessions of which one packet came, and those of which more did, those first that
	// were silent for longest.
	fresh, known list.List
}

// of is what is known of a session whose next packet came, made when it is new; nil when
// there is no room that is not needed for others. A session that goes on is not put out by
// addresses that are made up: of theirs one packet comes.
func (x *states) of(k stateKey, now time.Time) *state {
	source := k.peer.Addr()
	if e := x.by[source][k]; e != nil {
		s := e.Value.(*state)
		s.seen = now
		if s.known {
			x.known.MoveToBack(e)
			return s
		}
		x.fresh.Remove(e)
		s.known = true
		x.by[source][k] = x.known.PushBack(s)
		return s
	}
	switch own := x.by[source]; {
	case len(own) >= mostStatesOf:
		var first *list.Element
		for _, e := range own {
			if first == nil || e.Value.(*state).seen.Before(first.Value.(*state).seen) {
				first = e
			}
		}
		x.drop(first)
	case x.fresh.Len()+x.known.Len() < mostStates:
	case x.known.Len() > 0 && now.Sub(x.known.Front().Value.(*state).seen) > stateTime:
		x.drop(x.known.Front())
	case x.fresh.Len() > 0:
		x.drop(x.fresh.Front())
	default:
		return nil
	}
	if x.by == nil {
		x.by = map[netip.Addr]map[stateKey]*list.Element{}
	}
	if x.by[source] == nil {
		x.by[source] = map[stateKey]*list.Element{}
	}
	s := &state{key: k, seen: now}
	x.by[source][k] = x.fresh.PushBack(s)
	return s
}

func (x *states) drop(e *list.Element) {
	s := e.Value.(*state)
	if s.known {
		x.known.Remove(e)
	} else {
		x.fresh.Remove(e)
	}
	own := x.by[s.key.peer.Addr()]
	delete(own, s.key)
	if len(own) == 0 {
		delete(x.by, s.key.peer.Addr())
	}
}
