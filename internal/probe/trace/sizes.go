package trace

import (
	"net/netip"

	"woodlark.example/core/route"
	"woodlark.example/wire"
)

// sizes finds the largest packet that each hop gets, by packets that may not be
// cut up: first one of the size that the own link takes to every hop, then, when a
// router names a smaller size or large ones vanish, of that or of sizes between.
type sizes struct {
	link   int // bytes
	size   int // that is tried
	fits   int // the largest that is known to arrive
	tried  map[int]*trial
	found  MTU
	begun  bool
	done   bool
	search bool // between fits and size: larger ones vanish
	high   int  // the least that vanishes
	at     int  // TTL at which it does
}

// trial is what came of one size at one TTL.
type trial struct {
	sent, open int
	arrived    bool
	told       int        // the MTU that a router named; 0 when none did
	by         netip.Addr // who did
	byTTL      int
	refusedBy  bool // the own host refused to send it
}

const (
	sizeTries = 4  // before a size counts as vanished
	leastSize = 68 // bytes, that every IPv4 link takes (RFC 791 §3.2); 1280 for IPv6
)

func (z *sizes) fired(s *shot, err error) {
	x := z.tried[s.ttl]
	x.sent++
	x.open++
	if err != nil {
		x.open--
		x.refusedBy = true
	}
}

func (z *sizes) missed(s *shot) {
	if x := z.tried[s.ttl]; x != nil && s.size == z.size {
		x.open--
	}
}

func (z *sizes) heard(t *tracer, s *shot, p route.Probe) {
	x := z.tried[s.ttl]
	if x == nil || s.size != z.size {
		return
	}
	if !s.given {
		x.open--
	}
	s.given = true
	switch {
	case p.Outcome == route.Silent:
	case p.MTU > 0 && p.Outcome == route.Refused:
		x.told, x.by = p.MTU, p.Addr
		x.byTTL = t.hopOf(p.Addr)
	default:
		x.arrived = true
	}
}

// hopOf is the TTL at which an address answered; 0 when it never did.
func (t *tracer) hopOf(a netip.Addr) int {
	for ttl := t.FirstTTL; ttl <= t.limit; ttl++ {
		if s := t.spot(ttl, 0); s != nil && s.answered > 0 && s.addr == a {
			return ttl
		}
	}
	return 0
}

// want is what is to be sent next.
func (z *sizes) want(t *tracer) []wish {
	if !z.begun {
		z.begin(t)
	}
	for !z.done {
		list, open := z.missing(t)
		if len(list) > 0 || open {
			return list
		}
		z.judge(t)
	}
	return nil
}

func (z *sizes) begin(t *tracer) {
	z.begun = true
	z.link = t.hop.MTU
	if z.link == 0 || z.link > 65535 {
		z.link = 65535
		if t.hop.MTU == 0 {
			z.link = 1500
		}
	}
	z.found.Link = z.link
	z.try(z.link)
	if t.limit == 0 || len(z.asked(t)) == 0 {
		z.done = true
	}
}

func (z *sizes) try(size int) {
	z.size = size
	z.tried = map[int]*trial{}
}

// asked are the hops that answer at all, in order: the others say nothing of
// sizes.
func (z *sizes) asked(t *tracer) (ttls []int) {
	for ttl := t.FirstTTL; ttl <= t.limit; ttl++ {
		if s := t.spot(ttl, 0); s != nil && s.answered > 0 {
			ttls = append(ttls, ttl)
		}
	}
	return ttls
}

// missing is what of the size that is tried is not known yet. When sizes between
// are searched, only the hop that they do not get to is asked.
func (z *sizes) missing(t *tracer) (list []wish, open bool) {
	for _, ttl := range z.asked(t) {
		if z.search && ttl != z.at {
			continue
		}
		x := z.tried[ttl]
		if x == nil {
			x = &trial{}
			z.tried[ttl] = x
		}
		open = open || x.open > 0
		if !x.arrived && x.told == 0 && !x.refusedBy && x.open == 0 && x.sent < sizeTries {
			list = append(list, wish{ttl: ttl, size: z.size})
		}
	}
	return list, open
}

// judge looks at what came of a size, and chooses the next or ends.
func (z *sizes) judge(t *tracer) {
	least := leastSize
	if wire.FamilyOf(t.Addr) == wire.IPv6 {
		least = 1280
	}
	if z.search {
		if z.tried[z.at].arrived {
			z.fits = z.size
		} else {
			z.high = z.size
		}
		if z.high-z.fits <= 1 {
			z.found.Path, z.done = z.fits, true
			return
		}
		z.try((z.high + z.fits) / 2)
		return
	}
	var before netip.Addr
	for _, ttl := range z.asked(t) {
		x := z.tried[ttl]
		switch {
		case x.arrived:
			before = t.spot(ttl, 0).addr
			continue
		case x.told > 0 && x.told < z.size && x.told >= least:
			z.found.TTL, z.found.By = x.byTTL, x.by
			z.try(x.told)
			return
		case x.refusedBy:
			// This host does not send it: nothing can be said of the path.
			z.found, z.done = MTU{Link: z.link}, true
			return
		}
		// It vanishes between the last hop that got it and this one. Had all hops
		// behind been spared by chance, one of them would have answered.
		if z.anyBehind(t, ttl) {
			continue
		}
		z.search, z.at, z.high, z.fits = true, ttl, z.size, least
		z.found.Lost, z.found.Before, z.found.TTL, z.found.By = true, before, ttl, netip.Addr{}
		if b := t.hopOf(before); b > 0 {
			z.found.TTL = b
		}
		z.try((z.high + z.fits) / 2)
		return
	}
	z.found.Path = z.size
	z.done = true
}

// anyBehind reports whether the size got to a hop behind one.
func (z *sizes) anyBehind(t *tracer, ttl int) bool {
	for _, other := range z.asked(t) {
		if other > ttl && z.tried[other].arrived {
			return true
		}
	}
	return false
}

func (z *sizes) result() MTU { return z.found }
