package live

import (
	"net"
	"net/netip"
	"sync"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// departures counts what leaves a host's TCP, connection by connection, by the sequence
// numbers of its packets.
type departures struct {
	mu sync.Mutex
	by map[ends]*departed
}

// mostDepartures is how many connections are kept in mind.
const mostDepartures = 4096

type ends struct{ from, to netip.AddrPort }

type departed struct {
	known    bool
	next     uint32 // the sequence number behind the last byte that left
	bytes    int64  // of payload, each once
	segments int64  // with payload
	again    int64  // of them, that hold nothing new
	largest  int
}

// count takes a packet that leaves.
func (d *departures) count(packet []byte) {
	ip, payload, err := wire.ParseIP(packet)
	if err != nil || ip.Protocol != wire.ProtocolTCP {
		return
	}
	t, err := wire.ParseTCP(payload)
	if err != nil {
		return
	}
	key := ends{netip.AddrPortFrom(ip.Src, t.SrcPort), netip.AddrPortFrom(ip.Dst, t.DstPort)}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.by == nil {
		d.by = map[ends]*departed{}
	}
	x := d.by[key]
	if len(d.by) > mostDepartures {
		clear(d.by) // of connections that are long over
		x = nil
	}
	if x == nil || t.Has(wire.SYN) {
		x = &departed{}
		d.by[key] = x
	}
	if t.Has(wire.SYN) {
		x.known, x.next = true, t.Seq+1
		return
	}
	if t.Has(wire.RST) {
		delete(d.by, key)
		return
	}
	n := len(t.Payload)
	if n == 0 || !x.known {
		return
	}
	x.segments++
	x.largest = max(x.largest, n)
	// Sequence numbers wrap: what is new lies within half of their range ahead.
	if ahead := int32(t.Seq + uint32(n) - x.next); ahead > 0 {
		x.bytes += int64(ahead)
		x.next += uint32(ahead)
		return
	}
	x.again++
}

// of is what left on one connection.
func (d *departures) of(local, remote net.Addr) (network.StreamState, bool) {
	from, err1 := netip.ParseAddrPort(local.String())
	to, err2 := netip.ParseAddrPort(remote.String())
	if err1 != nil || err2 != nil {
		return network.StreamState{}, false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	x := d.by[ends{from, to}]
	if x == nil {
		return network.StreamState{}, false
	}
	return network.StreamState{Sent: x.segments, Retransmits: x.again, Segment: x.largest, Left: x.bytes, Congestion: "cubic"}, true
}
