package controller

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"woodlark.example/core/finding"
)

// devices are who answered in traces: what the addresses are called and whose they are.
type devices struct {
	mu    sync.RWMutex
	known map[string]device // by address
	named map[string]string // the address that stands for all of a name
}

type device struct{ name, owner, segment string }

// loadDevices takes up who answered in the last trace of each lane.
func (c *Controller) loadDevices(ctx context.Context) error {
	list, err := c.store.LastTraces(ctx, time.Now().Add(-usualWithin))
	if err != nil {
		return err
	}
	for _, t := range list {
		r, err := t.Report()
		if err != nil {
			return err
		}
		if r != nil {
			c.devices.note(r)
		}
	}
	return nil
}

// note takes in who answered in a trace.
func (d *devices) note(r *finding.TraceReport) {
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

// same gives the addresses of one device, of both families, one name: the lowest of them.
func (d *devices) same(address string) string {
	d.mu.RLock()
	defer d.mu.RUnlock()
	if first, ok := d.named[d.known[address].name]; ok {
		return first
	}
	return address
}

// call says what an address is called, and whose it is.
func (d *devices) call(address string) string {
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
