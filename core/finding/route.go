package finding

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/route"
)

const (
	// LossCarried: loss begins at a hop and all hops behind it show it.
	LossCarried Code = "loss_carried"
	// LossSparing: a hop shows loss that does not carry on.
	LossSparing Code = "loss_sparing"
	// DelayCarried: delay is added at a hop and carries on.
	DelayCarried Code = "delay_carried"
	// DelaySparing: a hop answers slowly, those behind it do not.
	DelaySparing Code = "delay_sparing"
	// RouteLoop: the same hops repeat.
	RouteLoop Code = "route_loop"
)

// Traced is what a trace found, and what else is known of it.
type Traced struct {
	route.Route
	Faults []route.Fault
	Spared []route.Spared
	Dead   []route.Dead
	// Before are the ways that the trace itself saw before this one, the oldest first.
	Before []Before
	Names  map[netip.Addr]string // of hops that have one
	Owners route.Owners
	MTU    RouteMTU
	// ByOther is the kind of probe that reaches the target where this one does not,
	// such as "tcp:443"; empty when none was tried or none does.
	ByOther string
	// Other is the same target asked by another kind of probe, where it alone left
	// probes unanswered; nil when it was not, without probes when it answers none.
	Other *OtherKind
	// TargetSpares says that the target limits its answers: what looks lost there may
	// not be.
	TargetSpares bool
	Earlier      *route.Route // to compare with; nil when there is none
	When         string       // in words, what Earlier is: "the last trace, of …"
	Back         *route.Route // from the target, traced at the same time; nil when it was not
}

// OtherKind is what a target lost of another kind of probe.
type OtherKind struct {
	Via  string
	Loss loss.Ratio
}

// RouteMTU is where along a route packets of what size get on. Sizes are those of
// whole IP packets in bytes.
type RouteMTU struct {
	Link   int        // of the own link; 0 when it was not asked
	Path   int        // the largest that got as far as any does
	TTL    int        // of the hop beyond which less fits; 0 when none is
	By     netip.Addr // who said so; not valid when larger ones vanish
	Before netip.Addr // the last hop that larger ones got to, when they vanish
	Lost   bool       // larger ones vanish
}

// who names a hop.
func (x Traced) who(ttl int, a netip.Addr) string {
	if !a.IsValid() {
		return fmt.Sprintf("hop %d", ttl)
	}
	return fmt.Sprintf("hop %d, %s", ttl, x.name(a))
}

func (x Traced) name(a netip.Addr) string {
	if n := x.Names[a]; n != "" {
		return fmt.Sprintf("%s (%s)", n, a)
	}
	return a.String()
}

// whose says in which segment a hop lies, with a space before it; empty when the
// table of owners does not say.
func (x Traced) whose(a netip.Addr) string {
	o, ok := x.Owners.Of(a)
	if !ok || !a.IsValid() {
		return ""
	}
	return owned(o.Name, o.Kind)
}

const belongs = " It belongs to "

func owned(name string, kind route.Segment) string {
	return fmt.Sprintf("%s%s (%s).", belongs, name, kind)
}

// The least added delay that is worth a word: of a slow answer, and of what carries
// on, which distance adds too: some 2,000 km there and back.
const (
	leastSlow  = 10 * time.Millisecond
	leastAdded = 20 * time.Millisecond
)

// leastRTTs of a hop allow a word on its delay: fewer have no 95 % interval of the
// median.
const leastRTTs = 6

// OfTrace concludes where along a route loss and delay begin, which branches are
// worse, how it ends, what changed, and what size of packet passes.
func OfTrace(x Traced) []Finding {
	found := []Finding{}
	if f, ok := x.miserly(); ok {
		found = append(found, f)
		x = x.trusting()
	}
	if f, ok := x.loop(); ok {
		return append(found, f)
	}
	if !x.Reached {
		found = append(found, x.ends())
	}
	if len(x.Hops) == 0 {
		return found
	}
	lossy, branches := append(x.vanishing(), x.losses()...), x.branches()
	if slices.ContainsFunc(branches, func(f Finding) bool { return f.Code == BranchLossy }) {
		lossy = slices.DeleteFunc(lossy, x.ofTargetAlone) // it is told of whom
	}
	found = append(append(found, lossy...), branches...)
	if len(lossy)+len(branches) == 0 && !x.TargetSpares {
		found = append(found, x.unplaced()...)
	}
	found = append(found, x.before()...)
	found = append(found, x.delays(len(branches) > 0)...)
	found = append(found, x.spared()...)
	found = append(found, x.sizes()...)
	found = append(found, x.changed()...)
	return append(found, x.turned()...)
}

// ofTargetAlone reports whether a finding is of loss that the target alone shows.
func (x Traced) ofTargetAlone(f Finding) bool {
	return f.Code == LossCarried && f.Figures["hop"] == float64(len(x.Hops)) && f.Figures["share_ratio"] == 1
}

// losses are the links where loss begins that carries on.
func (x Traced) losses() (found []Finding) {
	for _, f := range x.Faults {
		if x.TargetSpares && f.To == x.Target {
			continue // what it left unanswered would be taken for loss
		}
		if f.Ratio >= leastLoss {
			found = append(found, x.loses(f))
		}
	}
	return found
}

// loses says of a fault where it is, as far as that can be told.
func (x Traced) loses(f route.Fault) Finding {
	out := Finding{
		Code: LossCarried,
		Figures: map[string]float64{"hop": float64(f.TTL), "from_hop": float64(f.FromTTL), "carried_loss_ratio": f.Ratio, "low_ratio": f.Low, "high_ratio": f.High,
			"end_loss_ratio": f.End.Value().Or(0), "share_ratio": f.Share.Value()},
		Sure:   sure(chance(f.Evidence)),
		Advice: "The fault is on that link, on the way there or back, or at one of its ends: tell who runs it, with this trace." + x.whose(f.To),
	}
	share := ""
	if !f.Share.All() {
		out.Code, share = BranchLossy, ", of the flows that pass there, which are "+out.shared(f.Share)
	}
	before := "this host"
	if f.From.IsValid() {
		before = x.who(f.FromTTL, f.From)
	}
	lost := fmt.Sprintf("%s (%s to %s) is lost there%s.", figure.FormatRatio(f.Ratio), figure.FormatRatio(f.Low), figure.FormatRatio(f.High), share)
	switch {
	case len(f.Between) > 0:
		out.Code = BranchLossy
		var names []string
		for _, a := range f.Between {
			names = append(names, x.name(a))
		}
		out.Sentence = fmt.Sprintf("Packets are spread one by one over %s, and %s is lost on these ways and carries on to the end: on which of them, packets spread like that do not tell.",
			strings.Join(names, " and "), figure.FormatRatio(f.Ratio))
		if f.Even {
			out.Code = BranchDead
			out.Sentence += " It is as much as one of them would cost that lets nothing through."
		}
		out.Advice = "Measure each of these ways by itself, from the router that spreads them." + x.whose(f.Between[0])
	case f.Even:
		out.Sentence = fmt.Sprintf("Loss begins behind %s, on the way to %s or beside it, and carries on to the end: %s So much also costs one dead way of a few where packets are spread over them one by one; then the way that answers is sound.", before, x.who(f.TTL, f.To), lost)
		out.Advice = "See at the router there which of its ways forward are down." + x.whose(f.From)
	default:
		out.Sentence = fmt.Sprintf("Loss begins between %s and %s and carries on to the end: %s", before, x.who(f.TTL, f.To), lost)
	}
	switch {
	case f.To != x.Target || x.Other == nil:
	case x.Other.Loss.Sent == 0:
		out.Sentence += " Only the target shows it, and it answers no other kind of probe that was tried: it may spare its answers instead."
		out.Sure = min(out.Sure, 0.5)
	default:
		as := "it loses less, but not surely on all ways back"
		if _, most, _ := x.Other.Loss.Interval(); f.Low <= most {
			as = "the target loses as much"
		}
		out.Sentence += fmt.Sprintf(" By %s %s (%d of %d).", x.Other.Via, as, x.Other.Loss.Lost, x.Other.Loss.Sent)
	}
	return out
}

// shared puts a share of the flows among a finding's figures, and says it.
func (f Finding) shared(s route.Share) string {
	low, high := s.Interval()
	f.Figures["share_ratio"], f.Figures["share_low_ratio"], f.Figures["share_high_ratio"] = s.Value(), low, high
	return fmt.Sprintf("%s of all (%s to %s)", figure.FormatRatio(s.Value()), figure.FormatRatio(low), figure.FormatRatio(high))
}

// vanishing are the ways by flow that let nothing through.
func (x Traced) vanishing() (found []Finding) {
	for _, d := range x.Dead {
		if x.TargetSpares && d.TTL >= len(x.Hops) {
			continue
		}
		f := Finding{Code: BranchDead, Sure: sure(d.Chance), Figures: map[string]float64{"hop": float64(d.TTL), "from_hop": float64(d.FromTTL), "flows": float64(len(d.Flows))},
			Advice: "Connections that are put on that way fail, others work: see at the last hop that answers which of its ways forward is down." + x.whose(d.From)}
		before := "this host"
		if d.From.IsValid() {
			before = x.who(d.FromTTL, d.From)
		}
		f.Sentence = fmt.Sprintf("One of several ways lets nothing through: behind %s some flows vanish, %s.", before, f.shared(d.Share))
		found = append(found, f)
	}
	return found
}

// unplaced says that loss was seen, and how many probes would show where it is.
func (x Traced) unplaced() []Finding {
	ratio := x.Loss.Value().Or(0)
	if !x.Reached || ratio < leastLoss {
		return nil
	}
	low, high, _ := x.Loss.Interval()
	const losses = 20 // that place a fault surely
	needed := int(math.Ceil(losses/ratio/10)) * 10
	if needed <= x.Loss.Sent {
		needed = 2 * x.Loss.Sent
	}
	return []Finding{{
		Code:     TooFewProbes,
		Sentence: fmt.Sprintf("%d of %d probes to the target were lost, too few to tell at which hop loss begins.", x.Loss.Lost, x.Loss.Sent),
		Figures:  map[string]float64{"loss_ratio": ratio, "low_ratio": low, "high_ratio": high, "probes_needed": float64(needed)},
		Sure:     observed,
		Advice:   fmt.Sprintf("About %d probes to each hop would tell: -probes %d.", needed, needed),
	}}
}

// delays are the hops that add much which carries on.
func (x Traced) delays(byBranch bool) (found []Finding) {
	rtts := make([][]time.Duration, len(x.Hops))
	for i, h := range x.Hops {
		rtts[i] = h.RTTs
	}
	added := route.Add(rtts)
	for i, h := range x.Hops {
		if len(h.RTTs) < leastRTTs {
			continue
		}
		d := added[i].Carried.Or(0)
		if d >= leastAdded && d >= half(added, len(x.Hops)) && !byBranch {
			found = append(found, Finding{
				Code:     DelayCarried,
				Sentence: fmt.Sprintf("%s adds %s, which carries on to the end.", capitalise(x.who(h.TTL, h.Addr())), figure.FormatMs(figure.Millis(d))),
				Figures:  map[string]float64{"hop": float64(h.TTL), "added_ms": figure.Millis(d), "rtt_ms": figure.Millis(added[i].Median.Or(0))},
				Sure:     interval,
				Advice:   "Distance adds about 1 ms for each 100 km there and back; what is far beyond that waits in a queue or goes a long way round." + x.whose(h.Addr()),
			})
		}
		if added[i].Slow && added[i].Delay.Or(0)-added[i].Carried.Or(0) >= leastSlow {
			found = append(found, Finding{
				Code: DelaySparing,
				Sentence: fmt.Sprintf("%s takes %s to answer, but hops behind it answer sooner: it answers slowly and forwards as fast as others.",
					capitalise(x.who(h.TTL, h.Addr())), figure.FormatMs(figure.Millis(added[i].Median.Or(0)))),
				Figures: map[string]float64{"hop": float64(h.TTL), "rtt_ms": figure.Millis(added[i].Median.Or(0)), "added_ms": figure.Millis(added[i].Delay.Or(0))},
				Sure:    interval,
				Advice:  "That is no fault; look at what carries on to the target.",
			})
		}
	}
	return found
}

// half of the delay to the last hop: a hop that adds so much is where it is.
func half(added []route.Added, n int) time.Duration { return added[n-1].Median.Or(0) / 2 }

func (x Traced) loop() (Finding, bool) {
	seen := map[netip.Addr]int{}
	for i, h := range x.Hops {
		a := h.Addr()
		if !a.IsValid() || len(h.Nodes) > 1 {
			continue
		}
		before, again := seen[a]
		// The same hop twice in a row answers for one that forwards without
		// counting down; what comes back after another is a loop, if that one
		// comes back as well.
		if again && i-before > 1 && !x.Reached && i+1 < len(x.Hops) && x.Hops[i+1].Addr() == x.Hops[before+1].Addr() {
			return Finding{
				Code: RouteLoop,
				Sentence: fmt.Sprintf("The route turns in a circle between %s and %s: they come again at hops %d and %d.",
					x.who(x.Hops[before].TTL, a), x.who(x.Hops[before+1].TTL, x.Hops[before+1].Addr()), h.TTL, h.TTL+1),
				Figures: map[string]float64{"hop": float64(x.Hops[before].TTL), "again": float64(h.TTL)},
				Sure:    observed,
				Advice:  "Two routers send to each other what neither wants: tell who runs them, with this trace." + x.whose(a),
			}, true
		}
		if !again {
			seen[a] = i
		}
	}
	return Finding{}, false
}

// ends says how a route ends short of the target.
func (x Traced) ends() Finding {
	var last route.Hop
	for _, h := range x.Hops {
		if len(h.Nodes) > 0 {
			last = h
		}
	}
	a := last.Addr()
	f := Finding{Code: Refusals, Figures: map[string]float64{"hop": float64(last.TTL)}, Sure: observed, Advice: "Ask who runs the next hop behind it, with this trace." + x.whose(a)}
	switch {
	case x.Refusal != "":
		f.Sentence = fmt.Sprintf("The route ends at %s, which refuses: %s.", x.who(last.TTL, a), x.Refusal)
		f.Advice = "Ask who runs that hop why it refuses." + x.whose(a)
	case x.ByOther != "":
		f.Code = ICMPFiltered
		f.Sentence = fmt.Sprintf("The target answers no probe of this kind, but by %s it does: it is there, and something keeps these probes or their answers away.", x.ByOther)
		f.Advice = fmt.Sprintf("Trace it by what it answers: -via %s.", x.ByOther)
	case last.TTL == 0:
		f.Sentence = "No hop answers, not even the first."
		f.Advice = "Walk from near to far: 'woodlark here -walk'."
	default:
		f.Sentence = fmt.Sprintf("Nothing answers beyond %s.", x.who(last.TTL, a))
	}
	return f
}

// sizes says where less fits than before.
func (x Traced) sizes() []Finding {
	m := x.MTU
	if m.TTL == 0 || m.Path == 0 || m.Path >= m.Link {
		return nil
	}
	figures := map[string]float64{"mtu_bytes": float64(m.Path), "link_mtu_bytes": float64(m.Link), "hop": float64(m.TTL)}
	if m.Lost {
		return []Finding{{
			Code:     MTUBlackHole,
			Sentence: fmt.Sprintf("Packets of more than %d bytes vanish with no word behind %s.", m.Path, x.who(m.TTL, m.Before)),
			Figures:  figures,
			Sure:     interval,
			Advice:   "Let the routers there send 'packet too big' messages, or hold senders to segments that fit (MSS)." + x.whose(m.Before),
		}}
	}
	return []Finding{{
		Code:     MTUReduced,
		Sentence: fmt.Sprintf("From %s on, packets may have %d bytes only, the link here takes %d.", x.who(m.TTL, m.By), m.Path, m.Link),
		Figures:  figures,
		Sure:     observed,
		Advice:   "Expect a tunnel or an access link with a smaller MTU there; it is told, so senders can adapt." + x.whose(m.By),
	}}
}

// chance is that of such a gain in likelihood, twice its logarithm, by chance
// alone: the tail of the chi-square distribution with one degree of freedom, for
// any of the links that were tried.
func chance(evidence float64) float64 {
	const links = 30
	return min(1, links*math.Erfc(math.Sqrt(evidence/2)))
}
