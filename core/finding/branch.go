package finding

import (
	"cmp"
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
	// BranchLossy: one branch of several loses more.
	BranchLossy Code = "branch_lossy"
	// BranchDead: one branch of several lets nothing through.
	BranchDead Code = "branch_dead"
	// BranchSlow: one branch of several is slower.
	BranchSlow Code = "branch_slow"
	// RouteChanged: hops differ from an earlier route.
	RouteChanged Code = "route_changed"
	// RouteAsymmetric: the way back differs from the way there.
	RouteAsymmetric Code = "route_asymmetric"
)

// leastBranchStep is how much slower a branch must be: less is seldom felt.
const leastBranchStep = 2 * time.Millisecond

// branches tells which branches are worse from end to end than the best, where no
// link was found that explains it.
func (x Traced) branches() (found []Finding) {
	if len(x.Branches) < 2 {
		return nil
	}
	slow, lossy := false, false
	located := slices.ContainsFunc(x.Faults, func(f route.Fault) bool { return !f.Share.All() })
	for i, b := range x.Branches {
		if b.Dead {
			continue // told by itself
		}
		if f, ok := x.lossy(i, b); ok && !located && !x.TargetSpares {
			found, lossy = append(found, f), true
		}
		if f, ok := x.slow(i, b); ok {
			found, slow = append(found, f), true
		}
	}
	if !slow {
		found = append(found, x.apartByDelay()...)
	}
	if f, ok := x.apartByLoss(); ok && !lossy && !located {
		found = append(found, f)
	}
	return found
}

func (x Traced) lossy(i int, b route.Branch) (Finding, bool) {
	value := b.Loss.Value().Or(0)
	rest, mine, others := x.better(i, func(f route.FlowFigures) float64 { return f.Loss.Value().Or(math.NaN()) })
	var other loss.Ratio
	for _, r := range rest {
		other.Lost, other.Sent = other.Lost+r.Loss.Lost, other.Sent+r.Loss.Sent
	}
	low, high, ok := b.Loss.Interval()
	_, limit, known := other.Interval()
	if !ok || !known || low <= limit || value < leastLoss || !x.surely(mine, others) {
		return Finding{}, false
	}
	f := Finding{
		Code:    BranchLossy,
		Figures: map[string]float64{"loss_ratio": value, "low_ratio": low, "high_ratio": high, "hop": float64(firstOwn(b))},
		Sure:    interval,
		Advice:  "Connections that are put on it suffer, others do not: tell who runs that branch, with this trace." + x.whose(x.ownAddr(b)),
	}
	f.Sentence = fmt.Sprintf("The branch by %s loses %s of its probes, %s %s; the flows that take it are %s.",
		x.by(b), figure.FormatRatio(value), theOthers(rest), figure.FormatRatio(other.Value().Or(0)), f.shared(b.Share))
	return f, true
}

func (x Traced) slow(i int, b route.Branch) (Finding, bool) {
	rest, mine, others := x.better(i, func(f route.FlowFigures) float64 { return f.RTT })
	step := route.Shift(mine, others)
	// Each of its flows stands by the median of its own probes; how long they take there
	// and back is that of the whole branch.
	took, ok := route.MedianOf(b.RTTs).Get()
	if !ok || len(others) == 0 || figure.FromMillis(step) < leastBranchStep || step < least(others)/10 || !x.surely(mine, others) {
		return Finding{}, false
	}
	f := Finding{
		Code:    BranchSlow,
		Figures: map[string]float64{"added_ms": step, "rtt_ms": figure.Millis(took), "hop": float64(firstOwn(b))},
		Sure:    interval,
		Advice:  "Connections that are put on it are slower than others: ask who runs the balancing router whether that is meant." + x.whose(x.ownAddr(b)),
	}
	f.Sentence = fmt.Sprintf("The branch by %s takes %s longer than %s; the flows that take it are %s.", x.by(b),
		figure.FormatMs(step), theOthers(rest), f.shared(b.Share))
	return f, true
}

const fromThere = "Trace from the other end to this one, to see which way back it is: -both-ways, with an agent there."

// leastApart is how many flows each of two kinds must have to be told.
const leastApart = 2

// apartByDelay tells that some flows take longer than others whichever of the ways there they
// take: then it is ways back that part, which a trace does not see.
func (x Traced) apartByDelay() []Finding {
	var all []route.FlowFigures
	for _, b := range x.Branches {
		for _, f := range b.ByFlow {
			if !b.Dead && !math.IsNaN(f.RTT) && f.Low < f.High { // one probe has no interval
				all = append(all, f)
			}
		}
	}
	if len(all) == 0 {
		return nil
	}
	base := slices.MinFunc(all, func(a, b route.FlowFigures) int { return cmp.Compare(a.High, b.High) })
	least := max(figure.Millis(leastBranchStep), base.RTT/10)
	var quick, slow []float64
	for _, f := range all {
		switch {
		case f.Low > base.High+least:
			slow = append(slow, f.RTT)
		case f.Low <= base.High:
			quick = append(quick, f.RTT)
		}
	}
	if len(quick) < leastApart || len(slow) < leastApart {
		return nil
	}
	step := route.Shift(slow, quick)
	f := Finding{Code: BranchSlow, Figures: map[string]float64{"added_ms": step, "flows": float64(len(all))}, Sure: interval,
		Advice: fromThere}
	f.Sentence = fmt.Sprintf("Some connections take %s longer than others, whichever of the ways there they are put on: ways part on the way back, and one is slower. The flows that meet it are %s.",
		figure.FormatMs(step), f.shared(route.Share{Flows: len(slow), Of: len(all)}))
	return []Finding{f}
}

// apartByLoss tells that some flows lose more than others whichever of the ways there they
// take: their losses differ by more than chance, and no branch explains it.
func (x Traced) apartByLoss() (Finding, bool) {
	var all []route.FlowFigures
	var pooled loss.Ratio
	for _, b := range x.Branches {
		for _, f := range b.ByFlow {
			if !b.Dead && f.Loss.Sent > 0 {
				all = append(all, f)
				pooled.Lost, pooled.Sent = pooled.Lost+f.Loss.Lost, pooled.Sent+f.Loss.Sent
			}
		}
	}
	whole := pooled.Value().Or(0)
	if x.TargetSpares || whole < leastLoss || route.Uneven(all) > 1-unevenSure {
		return Finding{}, false
	}
	var more, less loss.Ratio
	var share route.Share
	for _, f := range all {
		worse := f.Loss.Value().Or(0) > whole
		share.Count(worse)
		if worse {
			more.Lost, more.Sent = more.Lost+f.Loss.Lost, more.Sent+f.Loss.Sent
		} else {
			less.Lost, less.Sent = less.Lost+f.Loss.Lost, less.Sent+f.Loss.Sent
		}
	}
	if share.Flows < leastApart || share.Of-share.Flows < leastApart {
		return Finding{}, false
	}
	f := Finding{Code: BranchLossy, Figures: map[string]float64{"loss_ratio": more.Value().Or(0), "flows": float64(len(all))}, Sure: unevenSure, Advice: fromThere}
	f.Sentence = fmt.Sprintf("Some connections lose %s and others %s, whichever of the ways there they are put on: ways part on the way back, and one loses. The flows that meet it are %s.",
		figure.FormatRatio(more.Value().Or(0)), figure.FormatRatio(less.Value().Or(0)), f.shared(share))
	return f, true
}

// unevenSure is how sure it must be that flows lose unevenly.
const unevenSure = 0.999

// better are the branches that are better than one by the mean of a figure of their flows,
// with the figure of its flows and of theirs.
func (x Traced) better(i int, of func(route.FlowFigures) float64) (rest []route.Branch, mine, others []float64) {
	each := func(b route.Branch) (list []float64) {
		for _, f := range b.ByFlow {
			if v := of(f); !math.IsNaN(v) {
				list = append(list, v)
			}
		}
		return list
	}
	mine = each(x.Branches[i])
	for k, b := range x.Branches {
		if list := each(b); k != i && !b.Dead && len(list) > 0 && mean(list) < mean(mine) {
			rest, others = append(rest, b), append(others, list...)
		}
	}
	return rest, mine, others
}

// surely reports whether flows show more than others by the way that they take, whichever
// branch was looked at.
func (x Traced) surely(mine, others []float64) bool {
	alive := 0
	for _, b := range x.Branches {
		if !b.Dead {
			alive++
		}
	}
	return route.Chance(mine, others)*float64(alive) <= route.Unlikely
}

func mean(list []float64) (m float64) {
	for _, v := range list {
		m += v / float64(len(list))
	}
	return m
}

func least(list []float64) float64 { return slices.Min(list) }

// theOthers names those that a branch is compared with.
func theOthers(rest []route.Branch) string {
	if len(rest) == 1 {
		return "the other"
	}
	return fmt.Sprintf("the %d better ones", len(rest))
}

func firstOwn(b route.Branch) int {
	if len(b.Own) == 0 {
		return 0
	}
	return b.Own[0]
}

// ownAddr is the first hop that the branch does not share.
func (x Traced) ownAddr(b route.Branch) netip.Addr {
	if n := firstOwn(b); n > 0 && n <= len(b.Hops) {
		return b.Hops[n-1]
	}
	return netip.Addr{}
}

// by names a branch by the hops that are its own.
func (x Traced) by(b route.Branch) string {
	var names []string
	for _, ttl := range b.Own {
		if ttl <= len(b.Hops) && b.Hops[ttl-1].IsValid() {
			names = append(names, x.name(b.Hops[ttl-1]))
		}
	}
	switch {
	case len(names) == 0:
		return "hops that do not answer"
	case len(names) > 3:
		return fmt.Sprintf("%s, %s and %d more", names[0], names[1], len(names)-2)
	}
	return strings.Join(names, ", ")
}

// Before is a way that a trace saw before another took its place.
type Before struct {
	Route  route.Route
	Faults []route.Fault
	Dead   []route.Dead
	// Until is when it was seen last, and Doubt how much later the next one was first
	// seen; Between is what was sent to the target in that time, and lost.
	Until   time.Time
	Doubt   time.Duration
	Between loss.Ratio
}

// before says when the route became another while it was traced, and what was lost on
// the ways before.
func (x Traced) before() (found []Finding) {
	for i, b := range x.Before {
		next := x.Route
		if i+1 < len(x.Before) {
			next = x.Before[i+1].Route
		}
		f, ok := x.change(b.Route, next)
		if !ok {
			continue
		}
		f.Sentence = fmt.Sprintf("The route changed at %s (within %s): %s.", b.Until.UTC().Format("15:04:05 UTC"), b.Doubt.Round(10*time.Millisecond), f.Sentence)
		f.Figures["doubt_ms"] = figure.Millis(b.Doubt)
		if b.Between.Sent > 0 {
			f.Figures["lost_meanwhile"] = float64(b.Between.Lost)
			f.Sentence += fmt.Sprintf(" Meanwhile %d of %s to the target were lost.", b.Between.Lost, count(b.Between.Sent, "probe"))
		}
		found = append(found, f)
		old := x
		old.Route, old.Faults, old.Dead, old.Before = b.Route, b.Faults, b.Dead, nil
		for _, f := range append(old.vanishing(), old.losses()...) {
			f.Sentence = fmt.Sprintf("On the way until %s: %s", b.Until.UTC().Format("15:04:05 UTC"), f.Sentence)
			found = append(found, f)
		}
	}
	return found
}

// changed says what differs from an earlier route.
func (x Traced) changed() []Finding {
	if x.Earlier == nil {
		return nil
	}
	f, ok := x.change(*x.Earlier, x.Route)
	if !ok {
		return nil
	}
	f.Sentence = "The route differs from " + x.When + ": " + f.Sentence + "."
	return []Finding{f}
}

// change says what one route has that another had not, as a clause.
func (x Traced) change(was, is route.Route) (Finding, bool) {
	d := route.Compare(was, is)
	if !d.Changed {
		return Finding{}, false
	}
	var fresh, gone []string
	for _, l := range d.Lines {
		switch l.Change {
		case route.New:
			fresh = append(fresh, x.who(l.Is, l.Addr))
		case route.Gone:
			gone = append(gone, x.who(l.Was, l.Addr))
		}
	}
	f := Finding{Code: RouteChanged, Figures: map[string]float64{"hop": float64(d.First), "new": float64(len(fresh)), "gone": float64(len(gone))}, Sure: interval,
		Advice: "Ask who runs these hops whether the change was meant; the comparison lists all lines."}
	switch {
	case len(fresh) > 0 && len(gone) > 0:
		f.Sentence = fmt.Sprintf("%s in place of %s", some(fresh), some(gone))
	case len(fresh) > 0:
		f.Sentence = some(fresh) + " came in"
	case len(gone) > 0:
		f.Sentence = some(gone) + " dropped out"
	default:
		f.Sentence = fmt.Sprintf("the target is %d hops away, before it was %d", len(is.Hops), len(was.Hops))
	}
	if step, ok := d.Step.Get(); ok {
		f.Figures["step_ms"] = figure.Millis(step)
		word := "longer"
		if step < 0 {
			word = "shorter"
		}
		f.Sentence += fmt.Sprintf("; the round trip is %s %s", figure.FormatMs(figure.Millis(max(step, -step))), word)
	}
	return f, true
}

// some names the first few.
func some(list []string) string {
	if len(list) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:2], ", "), len(list)-2)
	}
	return strings.Join(list, ", ")
}

// turned says how the way back differs. A router answers each way with the address
// of another of its interfaces, so addresses are compared by who they belong to,
// as far as names tell; else it takes a different number of hops.
func (x Traced) turned() []Finding {
	if x.Back == nil || !x.Reached || !x.Back.Reached {
		return nil
	}
	there, back := x.routers(x.Route), x.routers(*x.Back)
	var only []string
	for _, n := range back {
		if !slices.Contains(there, n) {
			only = append(only, n)
		}
	}
	missing := 0
	for _, n := range there {
		if !slices.Contains(back, n) {
			missing++
		}
	}
	// Addresses alone differ on a symmetric way too: each router shows two. Only a
	// different length, or some hops in common and others not, tells.
	common := len(there) - missing
	longer := len(x.Back.Hops) != len(x.Hops)
	if !longer && (common == 0 || len(only) == 0) {
		return nil
	}
	f := Finding{Code: RouteAsymmetric, Figures: map[string]float64{"hops_there": float64(len(x.Hops)), "hops_back": float64(len(x.Back.Hops)), "only_back": float64(len(only))},
		Sure: interval, Advice: "Loss and delay on the way back belong to other routers than those of this trace: look at both ways."}
	f.Sentence = fmt.Sprintf("The way back is another: %d hops there, %d back", len(x.Hops), len(x.Back.Hops))
	if common > 0 && len(only) > 0 {
		f.Sentence += "; only the way back passes " + some(only)
	}
	f.Sentence += "."
	return []Finding{f}
}

// routers are the names, or else the addresses, of the hops between the ends.
func (x Traced) routers(r route.Route) (list []string) {
	for i, h := range r.Hops {
		if i == len(r.Hops)-1 {
			break
		}
		for _, n := range h.Nodes {
			name := x.Names[n.Addr]
			if name == "" {
				name = n.Addr.String()
			}
			list = append(list, name)
		}
	}
	return list
}
