package sweep

import (
	"net/netip"
	"slices"
	"time"

	"woodlark.example/core/reading"
)

// table holds what answered. Its records have no pointers, so that many of them
// are no work for the garbage collector.
type table struct {
	places  []int32          // of each address, its record + 1; of a space that is not too large
	index   map[uint64]int32 // the same of a large one
	records []record
	others  map[uint64]netip.Addr // that answered in the place of an address
}

// record is an address that answered.
type record struct {
	place      uint64
	rtt        time.Duration
	times      int32
	by         uint8 // index of the way of asking
	stamp      reading.Stamp
	open, shut uint32 // ports, by the bit of the way of asking
}

// mostVias is how many ways of asking a record has bits for.
const mostVias = 32

// denseUpTo is how many addresses have a place of their own in memory.
const denseUpTo = 1 << 22

func (t *table) init(n uint64) {
	t.others = map[uint64]netip.Addr{}
	if n > denseUpTo {
		t.index = map[uint64]int32{}
		return
	}
	t.places = make([]int32, n)
	t.records = make([]record, 0, min(n, 1<<17))
}

// at is the record of an address; nil when it did not answer. It is good until
// the next is added.
func (t *table) at(place uint64) *record {
	i := int32(0)
	if t.places != nil {
		i = t.places[place]
	} else {
		i = t.index[place]
	}
	if i == 0 {
		return nil
	}
	return &t.records[i-1]
}

func (t *table) add(place uint64, by int) *record {
	t.records = append(t.records, record{place: place, by: uint8(by)})
	if t.places != nil {
		t.places[place] = int32(len(t.records))
	} else {
		t.index[place] = int32(len(t.records))
	}
	return &t.records[len(t.records)-1]
}

// timed keeps the least round trip of the best stamps.
func (r *record) timed(rtt time.Duration, stamp reading.Stamp) {
	if r.stamp == reading.StampNone || stamp > r.stamp || stamp == r.stamp && rtt < r.rtt {
		r.rtt, r.stamp = rtt, stamp
	}
}

// host is a record as it is handed out.
func (t *table) host(r *record, q *Request) Host {
	h := Host{Addr: q.Space.At(r.place), RTT: r.rtt, Stamp: r.stamp, By: q.Vias[r.by], Times: int(r.times), Other: t.others[r.place]}
	for i, v := range q.Vias {
		if r.open&(1<<i) != 0 {
			h.Open = append(h.Open, v.Port)
		}
		if r.shut&(1<<i) != 0 {
			h.Shut = append(h.Shut, v.Port)
		}
	}
	slices.Sort(h.Open)
	slices.Sort(h.Shut)
	return h
}

// hosts are all, in order of their addresses.
func (t *table) hosts(q Request) []Host {
	slices.SortFunc(t.records, func(a, b record) int { return int(int64(a.place) - int64(b.place)) })
	list := make([]Host, len(t.records))
	for i := range t.records {
		list[i] = t.host(&t.records[i], &q)
	}
	return list
}
