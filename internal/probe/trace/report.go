package trace

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
)

// Context is what else a report of a trace is made with.
type Context struct {
	Target  string // as it was asked for
	From    string
	Names   bool                  // look up the names of hops
	Known   map[netip.Addr]string // names that are known already
	Owners  route.Owners
	Earlier *route.Route
	When    string // what Earlier is, in words
	Back    *finding.TraceReport
	Socket  network.SocketOptions
}

const nameLimit = 2 * time.Second

// Report describes a result for users: with names, owners, findings, and the kind
// of probe that gets through where this one does not.
func (r Result) Report(ctx context.Context, n network.Network, ground Ground, c Context) finding.TraceReport {
	x := r.Traced()
	x.Owners, x.Earlier, x.When = c.Owners, c.Earlier, c.When
	if c.Names {
		x.Names = Names(ctx, n, r, c.Known, nameLimit)
	}
	if c.Back != nil {
		back := c.Back.Route()
		x.Back = &back
		for a, name := range c.Back.Names() {
			x.Names[a] = name
		}
	}
	if !r.Route.Reached && r.Ended == AtSilence && ctx.Err() == nil {
		x.ByOther = ByOther(ctx, n, ground, Options{Socket: c.Socket}, Request{Addr: r.Addr, Via: r.Via})
	}
	x.TargetSpares = r.TargetSpares
	if !x.TargetSpares && ctx.Err() == nil && r.Ended != Cut {
		x.Other = Doubted(ctx, n, ground, Options{Socket: c.Socket}, r)
	}
	out := x.Report()
	out.Target, out.From, out.Via = c.Target, c.From, r.Via.String()
	out.StartedAt, out.ElapsedMs = r.Started.UTC(), figure.Millis(r.Took)
	out.Ended, out.Complete, out.Flows, out.Sent = string(r.Ended), r.Complete, r.Flows, r.Sent
	for _, p := range r.Past {
		out.Past = append(out.Past, finding.PastRoute{FirstAt: p.First.UTC(), LastAt: p.Last.UTC(), Hops: strings.Fields(p.Route.Key())})
	}
	for _, m := range r.Minutes {
		out.Minutes = append(out.Minutes, finding.Minute(m.At, m.Route, r.routeAt(m.At), r.TargetSpares))
	}
	out.Dropped, out.Strays, out.Back = r.Dropped, r.Strays, c.Back
	if len(r.Route.Hops) > 0 {
		out.Timestamps = r.Stamp.String()
	} else {
		out.Timestamps = reading.StampNone.String()
	}
	if r.TargetSpares && r.Via.Kind == reading.ByUDP {
		out.Note = "By UDP the target answers with ICMP errors, which hosts limit to about one a second: what looks lost there may be spared. -via icmp or tcp:PORT tells more."
	}
	if hop := r.Hop; hop.Source.IsValid() {
		out.Source = hop.Source.String()
		switch {
		case hop.Source == r.Addr || r.Addr.IsLoopback():
			out.Note = "The target is this host itself: no packet leaves it, and there is no route to find."
		case !hop.Gateway.IsValid() && r.Route.Reached && len(r.Route.Hops) == 1:
			out.Note = "The target is on this host's own link: no router lies between."
		}
	}
	return out
}

// routeAt is the key of the route that was seen at a time. A minute by itself has too
// few probes to tell a hop that spared its answers from another route.
func (r Result) routeAt(at time.Time) string {
	for _, p := range r.Past {
		if at.Before(p.Last) {
			return p.Route.Key()
		}
	}
	return r.Route.Key()
}

// Source is the address that probes to a target leave from.
func Source(ground Ground, to netip.Addr) (netip.Addr, error) {
	hop, err := ground.FirstHop(to)
	return hop.Source, err
}
