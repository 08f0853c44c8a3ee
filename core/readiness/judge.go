package readiness

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"woodlark.example/core/acceptance"
	"woodlark.example/core/capacity"
)

// Answer is whether a place is fit.
type Answer string

// The answers.
const (
	Fit     Answer = "fit"
	Limited Answer = "fit_with_limits"
	NotFit  Answer = "not_fit"
	NotTold Answer = "not_told"
)

// Criterion is one thing that the need asks, and what came of it.
type Criterion struct {
	Part     Part               `json:"part"`
	What     string             `json:"what"`          // that is measured, in words
	Way      string             `json:"way,omitempty"` // there or back; empty for a round trip
	Seats    int                `json:"seats,omitempty"`
	Measured *float64           `json:"measured,omitempty"`
	Low      *float64           `json:"low,omitempty"` // an interval in which it surely lies
	High     *float64           `json:"high,omitempty"`
	Limit    float64            `json:"limit,omitempty"`
	Unit     string             `json:"unit,omitempty"` // ms, bit/s, ratio, bytes, mos
	AtLeast  bool               `json:"at_least,omitempty"`
	Verdict  acceptance.Verdict `json:"verdict"`
	Why      string             `json:"why,omitempty"`
	Advice   string             `json:"advice,omitempty"` // what to do about a miss
	// Lesser says that the service works without it, though not as well.
	Lesser bool `json:"lesser,omitempty"`
}

// Result is the answer, and what it rests on.
type Result struct {
	Answer   Answer      `json:"answer"`
	Seats    int         `json:"seats"`    // that were asked for
	FitFor   *int        `json:"fit_for"`  // for how many it is fit; null where that is not known
	Sentence string      `json:"sentence"` // the answer in words
	Criteria []Criterion `json:"criteria"` // all that was asked, from near to far
	Advice   []string    `json:"advice"`   // what to do, the most important first
	Notes    []string    `json:"notes,omitempty"`
}

// judging is one judgement.
type judging struct {
	n     Need
	seats int
	f     Facts
	r     Result
}

// Judge holds facts to a need of so many seats.
func Judge(n Need, seats int, f Facts) Result {
	j := &judging{n: n, seats: n.SeatsOr(seats), f: f}
	j.r.Seats = j.seats
	j.near()
	j.names()
	j.ports()
	j.trip()
	j.packets()
	j.streams()
	j.rates()
	j.priority()
	j.conclude()
	return j.r
}

func (j *judging) add(c Criterion) { j.r.Criteria = append(j.r.Criteria, c) }

// untold notes what could not be measured: it does not count as passed.
func (j *judging) untold(p Part, what, way string) {
	why := j.f.Untold[p]
	if why == "" {
		why = "it was not measured"
	}
	j.add(Criterion{Part: p, What: what, Way: way, Verdict: acceptance.Unknown, Why: why})
}

// held holds a figure, of which an interval may be known, to a limit.
func held(c Criterion, v *float64, low, high *float64, limit float64, atLeast bool) Criterion {
	c.Measured, c.Low, c.High, c.Limit, c.AtLeast = v, low, high, limit, atLeast
	if v == nil {
		c.Verdict = acceptance.Unknown
		if c.Why == "" {
			c.Why = "it was not measured"
		}
		return c
	}
	lo, hi := *v, *v
	if low != nil {
		lo = *low
	}
	if high != nil {
		hi = *high
	}
	if atLeast {
		lo, hi, limit = -hi, -lo, -limit
	}
	switch {
	case hi <= limit:
		c.Verdict = acceptance.Pass
	case lo > limit:
		c.Verdict = acceptance.Fail
	default:
		c.Verdict = acceptance.Unknown
		c.Why = "the limit lies within what is known of the figure"
	}
	return c
}

// near looks at the first hop: it is asked for nothing, but what goes wrong there goes wrong
// everywhere.
func (j *judging) near() {
	t := j.f.Near
	if t == nil || t.Sent == 0 {
		return
	}
	if ratio := float64(t.Lost) / float64(t.Sent); t.Lost < t.Sent && ratio > 0.02 && t.Lost > 2 {
		j.r.Notes = append(j.r.Notes, fmt.Sprintf("already the first hop, %s, leaves %d of %d probes unanswered: look at the cable or the radio of this place, if it is no habit of that device", j.f.Gateway, t.Lost, t.Sent))
	}
}

func (j *judging) names() {
	if j.n.Resolver <= 0 {
		return
	}
	if len(j.f.Names) == 0 {
		j.untold(Names, "time to find a name", "")
		return
	}
	for _, l := range j.f.Names {
		c := Criterion{Part: Names, What: "time to find " + l.Name, Unit: "ms", Lesser: true}
		if l.Problem != "" {
			c.Verdict, c.Why, c.Lesser = acceptance.Fail, l.Problem, false
			c.Advice = fmt.Sprintf("The name %s is not found: ask who runs the resolver of this place.", l.Name)
			j.add(c)
			continue
		}
		c = held(c, l.TookMs, nil, nil, ms64(j.n.Resolver), false)
		if c.Verdict == acceptance.Fail {
			c.Advice = "Names are found slowly: use a nearer resolver, or one with a cache on the spot."
		}
		j.add(c)
	}
}

func ms64(s acceptance.Span) float64 { return float64(s.D()) / 1e6 }

func (j *judging) ports() {
	for _, h := range j.n.Hosts {
		for _, x := range []struct {
			list []int
			udp  bool
			name string
		}{{h.TCP, false, "TCP"}, {h.UDP, true, "UDP"}} {
			for _, port := range x.list {
				j.port(h.Name, port, x.udp, x.name)
			}
		}
	}
}

func (j *judging) port(host string, port int, udp bool, name string) {
	c := Criterion{Part: Ports, What: fmt.Sprintf("%s %d of %s", name, port, host)}
	i := slices.IndexFunc(j.f.Ports, func(p Port) bool { return p.Host == host && p.Port == port && p.UDP == udp })
	if i < 0 {
		j.untold(Ports, c.What, "")
		return
	}
	p := j.f.Ports[i]
	c.Why = p.Problem
	switch {
	case p.State == Open:
		c.Verdict, c.Measured, c.Unit = acceptance.Pass, p.TookMs, "ms"
	case p.State == Refused:
		c.Verdict = acceptance.Fail
		c.Advice = fmt.Sprintf("%s refuses %s %d: nothing listens there, or a filter refuses it; open it on the way, or ask who runs it.", host, name, port)
	case p.State == Silent && udp:
		c.Verdict, c.Why = acceptance.Unknown, "nothing came back: of UDP that tells neither open nor filtered"
	case p.State == Silent:
		c.Verdict = acceptance.Fail
		c.Advice = fmt.Sprintf("Nothing comes back from %s %d of %s: a filter on the way swallows it; let it through.", name, port, host)
	default:
		c.Verdict = acceptance.Unknown
	}
	j.add(c)
}

func (j *judging) trip() {
	if j.n.Limits.RTT <= 0 {
		return
	}
	c := Criterion{Part: Rest, What: "round trip at rest", Unit: "ms", Why: j.f.Untold[Rest]}
	var v *float64
	if j.f.Rest != nil {
		v = j.f.Rest.MedianMs
	}
	c = held(c, v, nil, nil, ms64(j.n.Limits.RTT), false)
	if c.Verdict == acceptance.Fail {
		c.Advice = "The way there is long by itself: a nearer server, or a line that takes a shorter way; no other rate changes that."
	}
	j.add(c)
}

func (j *judging) packets() {
	if j.n.MTU <= 0 {
		return
	}
	for _, there := range []bool{true, false} {
		c := Criterion{Part: Packets, What: "IP packets that come through whole", Way: wayOf(there), Unit: "bytes", Why: j.f.Untold[Packets], Lesser: true}
		var v *float64
		if m := j.f.MTU; m != nil {
			x := float64(m.There)
			if !there {
				x = float64(m.Back)
			}
			v = &x
		}
		c = held(c, v, nil, nil, float64(j.n.MTU), true)
		if c.Verdict == acceptance.Fail {
			c.Advice = fmt.Sprintf("Packets of more than %.0f bytes do not come through %s: let ICMP's packet-too-big through, or lower the MTU or TCP's segment size at this place.", *v, c.Way)
		}
		j.add(c)
	}
}

func wayOf(there bool) string {
	if there {
		return "there"
	}
	return "back"
}

// streams judges those of all seats; where they were tried with fewer, too, it says for how many
// they are good.
func (j *judging) streams() {
	l := j.n.Limits
	for _, s := range j.n.Streams {
		for _, there := range []bool{true, false} {
			x := j.seen(s.Name, j.seats, there)
			if x == nil {
				j.untold(Streams, "stream "+s.Name, wayOf(there))
				continue
			}
			list := j.criteriaOf(s, *x)
			others := slices.ContainsFunc(list, func(c Criterion) bool { return c.Unit != "mos" && c.Verdict == acceptance.Fail })
			for _, c := range list {
				if c.Unit != "mos" || !others { // what makes calls sound bad is said already
					c.Advice = j.adviceOf(s, c)
				}
				j.add(c)
			}
		}
	}
	if len(j.n.Streams) == 0 && (l.Delay > 0 || l.Loss.Given) {
		j.untold(Streams, "delay and loss", "")
	}
}

func (j *judging) seen(stream string, seats int, there bool) *StreamSeen {
	for i := range j.f.Streams {
		if x := &j.f.Streams[i]; x.Stream == stream && x.Seats == seats && x.There == there {
			return x
		}
	}
	return nil
}

// leastSent is of how many packets loss and variation say something.
const leastSent = 100

// criteriaOf holds one direction of a stream to the limits.
func (j *judging) criteriaOf(s Stream, x StreamSeen) (list []Criterion) {
	l := j.n.Limits
	base := Criterion{Part: Streams, Way: wayOf(x.There), Seats: x.Seats}
	few := ""
	if x.Sent < leastSent {
		few = fmt.Sprintf("only %d packets were sent: too few to tell", x.Sent)
	}
	take := func(what, unit string, v, low, high *float64, limit float64, atLeast bool) {
		c := base
		c.What, c.Unit = s.Name+": "+what, unit
		if c = held(c, v, low, high, limit, atLeast); c.Verdict != acceptance.Fail && few != "" {
			c.Verdict, c.Why = acceptance.Unknown, few
		}
		if late := float64(x.LateSent); c.Verdict == acceptance.Fail && x.Sent > 0 && late > 0.05*float64(x.Sent) && unit != "mos" && what != "loss" {
			c.Verdict, c.Why = acceptance.Unknown, fmt.Sprintf("%d of %d packets left late, by a host's own doing", x.LateSent, x.Sent)
		}
		list = append(list, c)
	}
	if l.Loss.Given {
		low, high := x.LossLow, x.LossHigh
		if x.Lost != nil && *x.Lost == 0 { // of which nothing was lost the ratio itself counts
			high = x.LossRatio
		}
		take("loss", "ratio", x.LossRatio, low, high, l.Loss.Value, false)
	}
	if l.Delay > 0 {
		low, high := x.DelayMs, x.DelayMs
		if x.DelayMs != nil {
			a, b := *x.DelayMs-x.DelayErrMs, *x.DelayMs+x.DelayErrMs
			low, high = &a, &b
		}
		take("mean delay", "ms", x.DelayMs, low, high, ms64(l.Delay), false)
	}
	if l.Variation > 0 {
		take("delay variation", "ms", x.VariationMs, nil, nil, ms64(l.Variation), false)
	}
	if l.MOS > 0 && s.Codec != "" && x.MOS != nil {
		take("how calls sound", "mos", x.MOS, nil, nil, l.MOS, true)
	}
	return list
}

// carried reports whether all streams held all limits with so many seats, both ways; told is false
// where that is not known.
func (j *judging) carried(seats int) (is, told bool) {
	is, told = true, true
	for _, s := range j.n.Streams {
		for _, there := range []bool{true, false} {
			x := j.seen(s.Name, seats, there)
			if x == nil {
				told = false
				continue
			}
			for _, c := range j.criteriaOf(s, *x) {
				switch c.Verdict {
				case acceptance.Fail:
					is = false
				case acceptance.Unknown:
					told = false
				}
			}
		}
	}
	return is, told || !is
}

// Carrying is whether streams held their limits.
type Carrying int

// The answers.
const (
	NotKnown Carrying = iota
	Does
	DoesNot
)

// Carried tells whether the streams of so many seats held all limits, both ways, by facts.
func Carried(n Need, f Facts, seats int) Carrying {
	j := &judging{n: n, seats: n.SeatsOr(seats), f: f}
	switch is, told := j.carried(seats); {
	case !is:
		return DoesNot
	case told:
		return Does
	}
	return NotKnown
}

// adviceOf is what to do where a stream missed a limit.
func (j *judging) adviceOf(s Stream, c Criterion) string {
	if c.Verdict != acceptance.Fail {
		return ""
	}
	fewer, at := false, 0
	for _, n := range j.f.Tried {
		if n < c.Seats {
			if is, told := j.carried(n); is && told {
				fewer, at = true, max(at, n)
			}
		}
	}
	rest := j.f.Rest != nil && j.f.Rest.Sent >= 20 && j.f.Rest.Lost > 0
	switch {
	case fewer:
		return fmt.Sprintf("With %d seats it holds, with %d it does not: %s, the line is full. Raise its rate, let fewer work at once, or give this service precedence (%s).", at, c.Seats, c.Way, orNone(s.DSCP))
	case strings.HasSuffix(c.What, "loss") && rest:
		return fmt.Sprintf("Packets are lost %s, and already while nothing else is sent: look for a bad cable, a full line or a radio link on the way (woodlark trace, woodlark walk).", c.Way)
	case strings.HasSuffix(c.What, "loss"):
		return fmt.Sprintf("Packets are lost %s while all seats are at work: look whether the rate of the line, or a policer, is below %v.", c.Way, capacity.Rate(j.n.BpsOf(c.Seats, c.Way == "there")))
	case strings.HasSuffix(c.What, "variation"):
		return fmt.Sprintf("Delay varies %s: something else fills a queue on the way, or a radio link sends anew; give this service precedence (%s), or shape what fills the line.", c.Way, orNone(s.DSCP))
	case strings.HasSuffix(c.What, "delay"):
		return fmt.Sprintf("The way %s takes long: a nearer far end, or a queue on the way that is always full.", c.Way)
	}
	return fmt.Sprintf("Calls sound bad %s, though no other limit is missed: each of loss, delay and variation does a part of it.", c.Way)
}

func orNone(s string) string {
	if s == "" {
		return "a service class of its own"
	}
	return s
}

// rates judges whether all seats fit, and the round trip while the line is full.
func (j *judging) rates() {
	for _, there := range []bool{true, false} {
		need := j.n.BpsOf(j.seats, there)
		asked := j.n.Rate.Of(there).Value > 0
		if !asked {
			continue
		}
		c := Criterion{Part: Rates, What: "rate", Way: wayOf(there), Unit: "bit/s", Seats: j.seats, Why: j.f.Untold[Rates]}
		x := j.rate(there)
		if x == nil || x.Bps == nil {
			if x != nil && x.Problem != "" {
				c.Why = x.Problem
			}
			j.add(held(c, nil, nil, nil, need, true))
			continue
		}
		c = held(c, x.Bps, nil, nil, need, true)
		switch {
		case c.Verdict == acceptance.Fail && x.OfHost:
			c.Verdict, c.Why = acceptance.Unknown, "a host itself sends or receives no more: the line may carry it"
		case c.Verdict == acceptance.Fail && x.Rising:
			c.Verdict, c.Why = acceptance.Unknown, "it still rose when the time was over: the line may carry more"
		}
		if c.Verdict == acceptance.Fail {
			c.Advice = fmt.Sprintf("The line carries %v %s, and %d seats need %v: raise its rate, or let at most %d work at once.", capacity.Rate(*x.Bps), wayOf(there), j.seats, capacity.Rate(need), j.seatsFor(there))
		}
		j.add(c)
	}
	if l := j.n.Limits.LoadedRTT; l > 0 {
		j.loaded(ms64(l))
	}
}

func (j *judging) loaded(limit float64) {
	if len(j.f.Rates) == 0 {
		j.untold(Loaded, "round trip while the line is full", "")
		return
	}
	for _, x := range j.f.Rates {
		c := held(Criterion{Part: Loaded, What: "round trip while the line is full", Way: wayOf(x.There), Unit: "ms", Why: x.Problem, Lesser: true}, x.LoadedMs, nil, nil, limit, false)
		if c.Verdict == acceptance.Fail {
			c.Advice = fmt.Sprintf("A full line %s makes everybody wait: a queue on the way is deep. Shape to a little below the line's rate at this place, with a queue for each flow.", c.Way)
		}
		j.add(c)
	}
}

func (j *judging) rate(there bool) *RateSeen {
	for i := range j.f.Rates {
		if j.f.Rates[i].There == there {
			return &j.f.Rates[i]
		}
	}
	return nil
}

// seatsFor is for how many seats the rate of a direction is enough.
func (j *judging) seatsFor(there bool) int {
	x, one := j.rate(there), j.n.BpsOf(1, there)
	if x == nil || x.Bps == nil || one <= 0 {
		return 0
	}
	return int(math.Floor(*x.Bps / one * (1 + 1e-9)))
}

// priority judges whether service classes arrive as they were sent.
func (j *judging) priority() {
	for _, s := range j.n.Streams {
		if s.DSCP == "" {
			continue
		}
		for _, there := range []bool{true, false} {
			c := Criterion{Part: Priority, What: s.Name + ": arrives as " + s.DSCP, Way: wayOf(there), Unit: "ratio", Lesser: true, Why: j.f.Untold[Priority]}
			x := j.seen(s.Name, j.seats, there)
			if x == nil || x.Kept == nil {
				if x == nil && c.Why == "" {
					c.Why = j.f.Untold[Streams]
				}
				j.add(held(c, nil, nil, nil, 1, true))
				continue
			}
			c = held(c, x.Kept, nil, nil, 0.999, true)
			if c.Verdict == acceptance.Fail {
				c.Why = "the rest arrived as " + x.Arrived
				c.Advice = fmt.Sprintf("%s is not kept %s (it arrives as %s): ask for it where the line is bought, or mark again at the edge; until then it has no precedence there.", s.DSCP, c.Way, x.Arrived)
			}
			j.add(c)
		}
	}
}
