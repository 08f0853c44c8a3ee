package finding

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

// TraceReport is what a trace found, for machines. A figure that is not known is
// null.
type TraceReport struct {
	Target     string         `json:"target"`
	Address    string         `json:"address"`
	From       string         `json:"from"`
	Source     string         `json:"source,omitempty"` // the address that probes left from
	Via        string         `json:"via"`
	StartedAt  time.Time      `json:"started_at"`
	ElapsedMs  float64        `json:"elapsed_ms"`
	Reached    bool           `json:"reached"`
	Ended      string         `json:"ended"` // why it went no further
	Note       string         `json:"note,omitempty"`
	Hops       []HopReport    `json:"hops"`
	Branches   []BranchReport `json:"branches"`
	Edges      []EdgeReport   `json:"edges"`
	Complete   bool           `json:"branches_complete"` // each hop's branches were found, to 95 %
	Flows      int            `json:"flows"`
	Sent       int            `json:"sent"`
	LossRatio  *float64       `json:"loss_ratio"` // from end to end
	RTTMs      *float64       `json:"rtt_median_ms"`
	PathMTU    *int           `json:"path_mtu"` // bytes; null when it was not asked for
	Timestamps string         `json:"timestamps"`
	Dropped    int            `json:"dropped"` // packets that this host had no room for
	Strays     int            `json:"strays"`  // answers that quote no probe of ours
	Findings   []Finding      `json:"findings"`
	Back       *TraceReport   `json:"back,omitempty"` // from the target, at the same time
	Compared   *Comparison    `json:"compared,omitempty"`
	// Past are the routes before, when it became another while it was measured.
	Past []PastRoute `json:"past,omitempty"`
	// Minutes is each minute by itself, when it was measured for longer than one.
	Minutes []HopMinute `json:"minutes,omitempty"`
}

// PastRoute is a route and when it was seen; for its hops see route.Route.Key.
type PastRoute struct {
	FirstAt time.Time `json:"first_at"`
	LastAt  time.Time `json:"last_at"`
	Hops    []string  `json:"hops"`
}

// HopReport is one hop. Its address, name and so on are those of the node that most
// flows pass; Nodes lists all.
type HopReport struct {
	TTL          int          `json:"ttl"`
	Address      string       `json:"address"` // empty when nobody answered
	Name         string       `json:"name"`
	Owner        string       `json:"owner"`
	Segment      string       `json:"segment"`
	Probes       int          `json:"probes"`
	Answered     int          `json:"answered"`
	LossRatio    *float64     `json:"loss_ratio"`
	CarriedRatio *float64     `json:"carried_loss_ratio"`
	RTTMs        *float64     `json:"rtt_median_ms"`
	AddedMs      *float64     `json:"added_ms"`
	CarriedMs    *float64     `json:"carried_added_ms"` // of that, what carries on
	Labels       []string     `json:"labels"`
	PerPacket    bool         `json:"per_packet"`
	Spares       bool         `json:"spares"` // it answers less than it forwards
	Slow         bool         `json:"slow"`   // it answers more slowly than it forwards
	Nodes        []NodeReport `json:"nodes"`
}

// NodeReport is one who answered at a hop.
type NodeReport struct {
	Address   string   `json:"address"`
	Name      string   `json:"name"`
	Owner     string   `json:"owner"`
	Segment   string   `json:"segment"`
	Share     float64  `json:"share_ratio"` // of the flows seen at the hop
	Flows     int      `json:"flows"`
	Answered  int      `json:"answered"`
	RTTMs     *float64 `json:"rtt_median_ms"`
	Labels    []string `json:"labels"`
	Interface string   `json:"interface,omitempty"`
	HopsBack  *int     `json:"hops_back"`
	DSCP      *int     `json:"dscp"` // that probes had when they got there
	Rewritten string   `json:"rewritten_to,omitempty"`
	Refusal   string   `json:"refusal,omitempty"`
	MTU       int      `json:"mtu,omitempty"`
	Target    bool     `json:"target"`
}

// BranchReport is one way that flows take.
type BranchReport struct {
	Share     float64  `json:"share_ratio"`
	ShareLow  *float64 `json:"share_low_ratio,omitempty"` // 95 % interval
	ShareHigh *float64 `json:"share_high_ratio,omitempty"`
	Dead      bool     `json:"dead,omitempty"` // flows that take it vanish behind its last hop
	Flows     int      `json:"flows"`
	Hops      []string `json:"hops"` // addresses by TTL; empty where silent
	Own       []int    `json:"own"`  // TTLs at which it differs from others
	Probes    int      `json:"probes"`
	LossRatio *float64 `json:"loss_ratio"`
	RTTMs     *float64 `json:"rtt_median_ms"`
}

// EdgeReport leads from a node at one hop to one at the next; empty addresses stay
// for who is silent, and at TTL 1 for where it starts.
type EdgeReport struct {
	TTL   int    `json:"ttl"`
	From  string `json:"from"`
	To    string `json:"to"`
	Flows int    `json:"flows"`
}

// Comparison is a route beside an earlier one.
type Comparison struct {
	With    string     `json:"with"`
	At      *time.Time `json:"at"`
	Changed bool       `json:"changed"`
	StepMs  *float64   `json:"step_ms"` // of the round trip; later less earlier
	Lines   []DiffLine `json:"lines"`
}

// DiffLine is one line of a comparison.
type DiffLine struct {
	Change   string   `json:"change"` // same, new, gone, moved, share
	Address  string   `json:"address"`
	Name     string   `json:"name"`
	TTLWas   int      `json:"ttl_was,omitempty"`
	TTLIs    int      `json:"ttl,omitempty"`
	ShareWas float64  `json:"share_was_ratio"`
	ShareIs  float64  `json:"share_ratio"`
	MsWas    *float64 `json:"rtt_median_was_ms"`
	MsIs     *float64 `json:"rtt_median_ms"`
}

func millis(d figure.Duration) *float64 {
	v, ok := d.Get()
	if !ok {
		return nil
	}
	ms := figure.Millis(v)
	return &ms
}

func ratio(r loss.Ratio) *float64 {
	v, ok := r.Value().Get()
	if !ok {
		return nil
	}
	return &v
}

func text(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// Report writes what a trace found, with its findings. Target, from and the figures
// of its course are the caller's to add.
func (x Traced) Report() TraceReport {
	r := TraceReport{Address: text(x.Target), Reached: x.Reached, Hops: []HopReport{}, Branches: []BranchReport{}, Edges: []EdgeReport{}, Findings: OfTrace(x)}
	if x.Reached {
		r.RTTMs = millis(route.MedianOf(x.RTTs))
	}
	if _, miserly := x.miserly(); miserly {
		x.TargetSpares = true
	}
	if x.Reached && !x.TargetSpares { // else it is not known
		if v, ok := x.EndLoss().Get(); ok {
			r.LossRatio = &v
		}
	}
	if x.MTU.Path > 0 {
		r.PathMTU = &x.MTU.Path
	}
	losses, rtts := make([]loss.Ratio, len(x.Hops)), make([][]time.Duration, len(x.Hops))
	for i, h := range x.Hops {
		losses[i], rtts[i] = h.Loss, h.RTTs
	}
	carried, added := x.carried(losses), route.Add(rtts)
	for i, h := range x.Hops {
		o := HopReport{TTL: h.TTL, Address: text(h.Addr()), Probes: h.Loss.Sent, Answered: h.Loss.Sent - h.Loss.Lost, LossRatio: ratio(h.Loss),
			RTTMs: millis(added[i].Median), AddedMs: millis(added[i].Delay), CarriedMs: millis(added[i].Carried), PerPacket: h.PerPacket,
			Spares: carried[i].Spares, Slow: added[i].Slow, Labels: []string{}, Nodes: []NodeReport{}}
		if v, ok := carried[i].Ratio.Get(); ok && x.Reached {
			o.CarriedRatio = &v
		}
		for _, n := range h.Nodes {
			o.Nodes = append(o.Nodes, x.node(n, x.shareOf(h, n)))
		}
		if len(o.Nodes) > 0 {
			n := o.Nodes[0]
			o.Name, o.Owner, o.Segment, o.Labels = n.Name, n.Owner, n.Segment, n.Labels
		}
		r.Hops = append(r.Hops, o)
	}
	for _, b := range x.Branches {
		low, high := b.Share.Interval()
		o := BranchReport{Share: b.Share.Value(), ShareLow: &low, ShareHigh: &high, Dead: b.Dead, Flows: len(b.Flows), Hops: []string{}, Own: append([]int{}, b.Own...), Probes: b.Loss.Sent, LossRatio: ratio(b.Loss), RTTMs: millis(route.MedianOf(b.RTTs))}
		if x.TargetSpares {
			o.LossRatio = nil
		}
		for _, a := range b.Hops {
			o.Hops = append(o.Hops, text(a))
		}
		r.Branches = append(r.Branches, o)
	}
	for _, e := range x.Edges {
		r.Edges = append(r.Edges, EdgeReport{e.TTL, text(e.From), text(e.To), len(e.Flows)})
	}
	if x.Earlier != nil {
		r.Compared = x.comparison()
	}
	return r
}

// carried is the loss that carries on. What a target that limits its answers leaves
// unanswered says nothing of the way to it.
func (x Traced) carried(losses []loss.Ratio) []route.Carried {
	if x.TargetSpares && x.Reached && len(losses) > 0 {
		return append(route.Carry(losses[:len(losses)-1]), route.Carried{})
	}
	return route.Carry(losses)
}

// shareOf is the part of the flows that pass a node: of those whose whole way is known,
// as for branches; of the answers, where packets are spread one by one.
func (x Traced) shareOf(h route.Hop, n route.Node) float64 {
	if h.PerPacket {
		total := 0
		for _, other := range h.Nodes {
			total += other.Answered
		}
		return float64(n.Answered) / float64(max(1, total))
	}
	heard := map[int]bool{}
	for _, other := range h.Nodes {
		for _, f := range other.Flows {
			heard[f] = true
		}
	}
	passing, fair := route.Share{}, route.Share{}
	for _, b := range x.Branches {
		for _, f := range b.Flows {
			if !heard[f] && !b.Dead {
				continue
			}
			passing.Count(slices.Contains(n.Flows, f))
			if f < route.FairFlows {
				fair.Count(slices.Contains(n.Flows, f))
			}
		}
	}
	switch {
	case fair.Flows > 0:
		return fair.Value()
	case passing.Flows > 0:
		return passing.Value()
	}
	return float64(len(n.Flows)) / float64(max(1, len(heard)))
}

func (x Traced) node(n route.Node, share float64) NodeReport {
	o := NodeReport{Address: text(n.Addr), Name: x.Names[n.Addr], Share: share, Flows: len(n.Flows), Answered: n.Answered,
		RTTMs: millis(route.MedianOf(n.RTTs)), Labels: []string{}, Interface: n.Interface, Rewritten: text(n.Rewritten), Refusal: n.Refusal, MTU: n.MTU, Target: n.Target}
	if owner, ok := x.Owners.Of(n.Addr); ok {
		o.Owner, o.Segment = owner.Name, string(owner.Kind)
	}
	for _, l := range n.Labels {
		o.Labels = append(o.Labels, l.String())
	}
	if v, ok := n.HopsBack.Get(); ok {
		o.HopsBack = &v
	}
	if v, ok := n.DSCP.Get(); ok {
		o.DSCP = &v
	}
	return o
}

func (x Traced) comparison() *Comparison {
	d := route.Compare(*x.Earlier, x.Route)
	c := &Comparison{With: x.When, Changed: d.Changed, StepMs: millis(d.Step), Lines: []DiffLine{}}
	for _, l := range d.Lines {
		c.Lines = append(c.Lines, DiffLine{Change: l.Change.String(), Address: text(l.Addr), Name: x.Names[l.Addr], TTLWas: l.Was, TTLIs: l.Is,
			ShareWas: l.ShareWas, ShareIs: l.ShareIs, MsWas: millis(l.MedianWas), MsIs: millis(l.MedianIs)})
	}
	return c
}

// Route is what a report says of the route, as far as a comparison needs it: of
// round-trip times the medians only.
func (r TraceReport) Route() route.Route {
	addr := func(s string) netip.Addr {
		a, _ := netip.ParseAddr(s)
		return a
	}
	one := func(ms *float64) []time.Duration {
		if ms == nil {
			return nil
		}
		return []time.Duration{time.Duration(*ms * float64(time.Millisecond))}
	}
	out := route.Route{Target: addr(r.Address), Reached: r.Reached, RTTs: one(r.RTTMs)}
	for _, h := range r.Hops {
		hop := route.Hop{TTL: h.TTL, PerPacket: h.PerPacket, Loss: loss.Ratio{Sent: h.Probes, Lost: h.Probes - h.Answered}, RTTs: one(h.RTTMs)}
		for _, n := range h.Nodes {
			hop.Nodes = append(hop.Nodes, route.Node{Addr: addr(n.Address), Answered: n.Answered, Flows: make([]int, n.Flows), RTTs: one(n.RTTMs), Target: n.Target, Refusal: n.Refusal, MTU: n.MTU})
		}
		out.Hops = append(out.Hops, hop)
	}
	whole := 0
	for _, b := range r.Branches {
		whole += b.Flows
	}
	for _, b := range r.Branches {
		branch := route.Branch{Share: route.Share{Flows: b.Flows, Of: whole}, Dead: b.Dead, Flows: make([]int, b.Flows), Own: slices.Clone(b.Own), RTTs: one(b.RTTMs)}
		for _, a := range b.Hops {
			branch.Hops = append(branch.Hops, addr(a))
		}
		out.Branches = append(out.Branches, branch)
	}
	return out
}

// Names are those that a report knows, by address.
func (r TraceReport) Names() map[netip.Addr]string {
	names := map[netip.Addr]string{}
	for _, h := range r.Hops {
		for _, n := range h.Nodes {
			if a, err := netip.ParseAddr(n.Address); err == nil && n.Name != "" {
				names[a] = n.Name
			}
		}
	}
	return names
}

// CompareWith puts a trace beside an earlier one of the same target, and adds what is
// to be said of the difference. What was compared before is replaced.
func (r *TraceReport) CompareWith(earlier TraceReport, what string) {
	was := earlier.Route()
	x := Traced{Route: r.Route(), Names: r.Names(), Earlier: &was, When: what}
	for a, name := range earlier.Names() {
		if x.Names[a] == "" {
			x.Names[a] = name
		}
	}
	r.Compared = x.comparison()
	at := earlier.StartedAt
	r.Compared.At = &at
	r.Findings = slices.DeleteFunc(r.Findings, func(f Finding) bool { return f.Code == RouteChanged })
	r.Findings = append(r.Findings, x.changed()...)
}

// BesideBack lays the trace back from the target beside one, and adds what is to be
// said of the difference.
func (r *TraceReport) BesideBack(back TraceReport) {
	other := back.Route()
	x := Traced{Route: r.Route(), Names: r.Names(), Back: &other}
	for a, name := range back.Names() {
		x.Names[a] = name
	}
	r.Back = &back
	r.Findings = slices.DeleteFunc(r.Findings, func(f Finding) bool { return f.Code == RouteAsymmetric })
	r.Findings = append(r.Findings, x.turned()...)
}

// Own says of each hop who has it, by a table of prefixes.
func (r *TraceReport) Own(table route.Owners) {
	if table.Empty() {
		return
	}
	for i := range r.Hops {
		for k := range r.Hops[i].Nodes {
			n := &r.Hops[i].Nodes[k]
			a, err := netip.ParseAddr(n.Address)
			if err != nil {
				continue
			}
			if o, ok := table.Of(a); ok {
				n.Owner, n.Segment = o.Name, string(o.Kind)
			}
			if k == 0 {
				r.Hops[i].Owner, r.Hops[i].Segment = n.Owner, n.Segment
			}
		}
	}
	for i := range r.Findings { // what names a hop is told whose that is
		f := &r.Findings[i]
		ttl := int(f.Figures["hop"])
		if ttl < 1 || ttl > len(r.Hops) || r.Hops[ttl-1].Owner == "" || strings.Contains(f.Advice, belongs) {
			continue
		}
		f.Advice += owned(r.Hops[ttl-1].Owner, route.Segment(r.Hops[ttl-1].Segment))
	}
	if r.Back != nil {
		r.Back.Own(table)
	}
}
