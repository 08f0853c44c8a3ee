package trace

import (
	"maps"
	"net/netip"
	"slices"
	"time"
)

// state is what is known of one TTL of one flow.
type state struct {
	sent     int
	open     int // probes that may still be answered soon
	answered int
	addr     netip.Addr    // of the newest answer
	ends     bool          // it is the target
	several  bool          // different addresses answered
	took     time.Duration // the round trip of the first answer
}

// row is what is known of one TTL.
type row struct {
	states []*state // by flow; nil where none was sent
	known  bool     // what follows is of the states as they are
	nodes  []netip.Addr
	target map[netip.Addr]bool // of the nodes, that answered as the target
	packet bool                // one flow met different nodes
	// wishes are those that unseen made of this row and the one before; nil when
	// they have to be made anew.
	wishes []wish
	wished bool
}

// row is that of a TTL.
func (t *tracer) row(ttl int) *row {
	for len(t.rows) <= ttl {
		t.rows = append(t.rows, &row{})
	}
	return t.rows[ttl]
}

// spot is what is known of a TTL of a flow; nil when nothing was sent.
func (t *tracer) spot(ttl, flow int) *state {
	if ttl < 0 {
		return nil
	}
	if r := t.row(ttl); flow < len(r.states) {
		return r.states[flow]
	}
	return nil
}

// at is the same to be written to; the row is looked at anew then.
func (t *tracer) at(ttl, flow int) *state {
	r := t.row(ttl)
	for len(r.states) <= flow {
		r.states = append(r.states, nil)
	}
	if r.states[flow] == nil {
		r.states[flow] = &state{}
	}
	r.known, r.wished = false, false
	t.row(ttl + 1).wished = false
	return r.states[flow]
}

// look brings up to date what is known of a row.
func (r *row) look() {
	if r.known {
		return
	}
	set := map[netip.Addr]bool{}
	r.target, r.packet, r.known = nil, false, true
	for _, s := range r.states {
		if s == nil || s.answered == 0 {
			continue
		}
		set[s.addr] = true
		r.packet = r.packet || s.several
		if s.ends {
			if r.target == nil {
				r.target = map[netip.Addr]bool{}
			}
			r.target[s.addr] = true
		}
	}
	r.nodes = slices.SortedFunc(maps.Keys(set), netip.Addr.Compare)
}

// vertices are the addresses seen at a hop.
func (t *tracer) vertices(ttl int) []netip.Addr {
	r := t.row(ttl)
	r.look()
	return r.nodes
}

// answers reports whether anybody ever did at a hop.
func (t *tracer) answers(ttl int) bool { return len(t.vertices(ttl)) > 0 }

// byPacket reports whether one flow met different nodes at a hop.
func (t *tracer) byPacket(ttl int) bool {
	r := t.row(ttl)
	r.look()
	return r.packet
}

// isTarget reports whether who answered at a hop did so as the target.
func (t *tracer) isTarget(ttl int, node netip.Addr) bool {
	r := t.row(ttl)
	r.look()
	return r.target[node]
}

// balanced reports whether more than one address was seen at a hop.
func (t *tracer) balanced() bool {
	for ttl := t.FirstTTL; ttl <= t.limit; ttl++ {
		if len(t.vertices(ttl)) > 1 {
			return true
		}
	}
	return false
}

// endOf is the TTL at which a flow reaches the target; 0 when that is not known.
func (t *tracer) endOf(flow int) int {
	for ttl := t.FirstTTL; ttl <= max(t.limit, t.FirstTTL); ttl++ {
		if s := t.spot(ttl, flow); s != nil && s.ends {
			return ttl
		}
	}
	return 0
}

// through are the flows known to pass a node at a hop.
func (t *tracer) through(ttl int, node netip.Addr) (flows []int) {
	for f, s := range t.row(ttl).states {
		if s != nil && s.answered > 0 && s.addr == node {
			flows = append(flows, f)
		}
	}
	return flows
}
