// Package devices knows what answered in traces: what an address is called, whose it is, and
// which addresses are one device.
package devices

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/finding"
	"woodlark.example/internal/store"
)

// Devices are who answered in traces. The zero value knows none; it is safe for concurrent use.
type Devices struct {
	mu    sync.RWMutex
	known map[string]device // by address
	named map[string]string // the address that stands for all of a name
}

type device struct{ name, owner, segment string }

// Load takes up who answered in the last trace of each lane since a time.
func (d *Devices) Load(ctx context.Context, s *store.Store, since time.Time) error {
	list, err := s.LastTraces(ctx, since)
	if err != nil {
		return err
	}
	for _, t := range list {
		r, err := t.Report()
		if err != nil {
			return err
		}
		if r != nil {
			d.Note(r)
		}
	}
	return nil
}

// Note takes in who answered in a trace.
func (d *Devices) Note(r *finding.TraceReport) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.known == nil {
		d.known, d.named = map[string]device{}, map[string]string{}
	}
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			x := device{n.Name, n.Owner, n.Segment}
			if was := d.known[n.Address]; x.name == "" {
				x.name = was.name
			}
			d.known[n.Address] = x
			if x.name == "" {
				continue
			}
			if first, ok := d.named[x.name]; !ok || before(n.Address, first) {
				d.named[x.name] = n.Address
			}
		}
	}
}

// before orders addresses: IPv4 before IPv6, then by number.
func before(a, b string) bool {
	x, err := netip.ParseAddr(a)
	y, err2 := netip.ParseAddr(b)
	return err == nil && err2 == nil && x.Less(y)
}

// Same gives the addresses of one device, of both families, one name: the lowest of them.
func (d *Devices) Same(address string) string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	if first, ok := d.named[d.known[address].name]; ok {
		return first
	}
	return address
}

// Call says what an address is called, and whose it is.
func (d *Devices) Call(address string) string {
	d.mu.RLock()
	x := d.known[address]
	d.mu.RUnlock()
	name := x.name
	if name == "" {
		name = address
	}
	switch {
	case x.owner != "" && x.segment != "":
		return fmt.Sprintf("%s (%s, %s)", name, x.segment, x.owner)
	case x.segment != "":
		return fmt.Sprintf("%s (%s)", name, x.segment)
	}
	return name
}
