package sweep

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	"woodlark.example/core/sweep"
	"woodlark.example/internal/network"
)

// Links tells the hardware addresses of a host's neighbours that answered on
// their link lately.
type Links interface {
	Reachable() (map[netip.Addr]string, error)
}

const (
	namesAtOnce = 64
	nameLimit   = 3 * time.Second
	viaLink     = "neighbour"
)

// Report writes what a sweep found for machines.
func (r Result) Report(q Request) sweep.Report {
	vias := []string{}
	for _, v := range q.Vias {
		vias = append(vias, v.String())
	}
	if len(vias) == 0 {
		vias = []string{reading.Via{}.String()}
	}
	out := sweep.Report{Prefixes: q.Space.Entries(), Excluded: []string{}, Via: strings.Join(vias, ","), StartedAt: r.Started.UTC(), Addresses: r.Addresses, Probed: r.Probed,
		Answered: uint64(len(r.Hosts)), ElapsedMs: figure.Millis(r.Elapsed), Sent: r.Sent, PacketsPerSecond: r.Rate(), Unsent: r.Unsent,
		UnsentReason: r.Why, Dropped: r.Dropped, Refused: r.Refused, Cut: r.Cut, Warnings: append([]string{}, q.Space.Warnings()...), Hosts: make([]sweep.HostReport, len(r.Hosts))}
	for i, h := range r.Hosts {
		x := sweep.HostReport{Address: h.Addr.String(), By: h.By.String(), Open: h.Open, Closed: h.Shut, Timestamps: h.Stamp.String()}
		if h.Open == nil {
			x.Open = []uint16{}
		}
		if h.Shut == nil {
			x.Closed = []uint16{}
		}
		if h.Stamp != reading.StampNone {
			ms := figure.Millis(h.RTT)
			x.RTTMs = &ms
		}
		if h.Other.IsValid() {
			x.Other = h.Other.String()
		}
		out.Hosts[i] = x
	}
	return out
}

// AddLinks adds the hardware addresses of what is on the own link, and the hosts
// that answered there and nowhere else.
func AddLinks(r *sweep.Report, space sweep.Space, links Links) error {
	known, err := links.Reachable()
	if err != nil {
		return err
	}
	for i := range r.Hosts {
		if a, err := netip.ParseAddr(r.Hosts[i].Address); err == nil {
			r.Hosts[i].MAC = known[a]
			delete(known, a)
		}
	}
	for a, mac := range known {
		if space.Contains(a) {
			r.Hosts = append(r.Hosts, sweep.HostReport{Address: a.String(), MAC: mac, By: viaLink, Open: []uint16{}, Closed: []uint16{}, Timestamps: reading.StampNone.String()})
			r.Answered++
		}
	}
	slices.SortFunc(r.Hosts, func(a, b sweep.HostReport) int {
		return netip.MustParseAddr(a.Address).Compare(netip.MustParseAddr(b.Address))
	})
	return nil
}

// AddNames looks up the names of the hosts, many at once. Those of loopback have
// none that a resolver knows.
func AddNames(ctx context.Context, n network.Network, r *sweep.Report) {
	gate := make(chan struct{}, namesAtOnce)
	var wg sync.WaitGroup
	for i := range r.Hosts {
		h := &r.Hosts[i]
		a, err := netip.ParseAddr(h.Address)
		if err != nil || a.IsLoopback() || ctx.Err() != nil {
			continue
		}
		gate <- struct{}{}
		n.Clock().Go(&wg, func() {
			defer func() { <-gate }()
			ctx, cancel := context.WithTimeout(ctx, nameLimit)
			defer cancel()
			if name, err := n.Reverse(ctx, a); err == nil {
				h.Name = name
			}
		})
	}
	wg.Wait()
}
