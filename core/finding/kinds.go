package finding

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/delay"
	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

const (
	// ICMPFiltered: ICMP gets no answer, a port does.
	ICMPFiltered Code = "icmp_filtered"
	// PortClosed: the port refuses, so the host is there.
	PortClosed Code = "port_closed"
	// PortFiltered: the port gives no answer, and the host is there.
	PortFiltered Code = "port_filtered"
	// FamilyDiffers: IPv4 and IPv6 to the same name differ.
	FamilyDiffers Code = "family_differs"
	// NearbyCopy: an address of a name answers much faster than its others allow.
	NearbyCopy Code = "nearby_copy"
)

// Asked is what one target gave when asked in one way.
type Asked struct {
	Addr    netip.Addr
	Via     string // "icmp", "tcp:443", "udp:53", "stamp"
	Reading reading.Reading
	Probes  []reading.Probe
}

func (a Asked) port() bool {
	return strings.HasPrefix(a.Via, "tcp:") || strings.HasPrefix(a.Via, "udp:")
}

// There reports whether the target itself said something.
func (a Asked) There() bool { return a.there() }

func (a Asked) there() bool { return a.Reading.Answered > 0 || a.shut() }

// shut reports whether the target's own port refused.
func (a Asked) shut() bool {
	return slices.ContainsFunc(a.Probes, func(p reading.Probe) bool { return p.Outcome == reading.Refused && p.Shut }) ||
		a.Reading.Refused > 0 && strings.HasPrefix(a.Reading.Cause, reading.PortRefused)
}

// turnedAway is what somebody else than the target's port said.
func (a Asked) turnedAway() string {
	for _, p := range a.Probes {
		if p.Outcome == reading.Refused && !p.Shut {
			return p.Cause
		}
	}
	if a.Reading.Refused > 0 && !a.shut() {
		return a.Reading.Cause
	}
	return ""
}

// OfKinds concludes what the differences mean between the ways in which one
// target was asked at the same time.
func OfKinds(list []Asked) []Finding {
	found := []Finding{}
	for _, a := range list {
		if a.Reading.Sent == 0 {
			continue
		}
		alive := slices.IndexFunc(list, func(x Asked) bool { return x.Addr == a.Addr && x.Via != a.Via && x.there() })
		switch {
		case a.port() && a.shut() && a.Reading.Answered == 0:
			found = append(found, portClosed(a))
		case a.port() && !a.there() && alive >= 0:
			found = append(found, portFiltered(a, list[alive]))
		case a.Via == "icmp" && !a.there() && alive >= 0:
			found = append(found, icmpFiltered(a, list[alive]))
		}
	}
	found = append(found, ofSparing(list)...)
	found = append(found, ofFamilies(list)...)
	return append(found, ofCopies(list)...)
}

// ofSparing compares the ways of asking one address: where one of them surely loses less
// than another, the way there carries what that other one lost.
func ofSparing(list []Asked) (found []Finding) {
	for _, a := range list {
		if f, ok := sparing(a, list); ok {
			found = append(found, f)
		}
	}
	return found
}

// Spares reports whether what one way of asking lost is answers that the target spared: of
// the same address, another way surely loses less.
func Spares(a Asked, list []Asked) bool {
	_, ok := sparing(a, list)
	return ok
}

// sparing says of one way of asking that its losses are answers spared, by another that
// loses least.
func sparing(a Asked, list []Asked) (Finding, bool) {
	low, high, ok := a.Reading.Loss().Interval()
	if !ok || a.Reading.Answered == 0 || low < leastLoss {
		return Finding{}, false
	}
	var best *Asked
	least := low
	for i, b := range list {
		if b.Addr != a.Addr || b.Via == a.Via || b.Reading.Lost >= b.Reading.Sent {
			continue
		}
		if _, most, ok := b.Reading.Loss().Interval(); ok && most < least {
			best, least = &list[i], most
		}
	}
	if best == nil {
		return Finding{}, false
	}
	ratio := a.Reading.Loss().Value().Or(0)
	return Finding{
		Code: LossSparing,
		Sentence: fmt.Sprintf("%s leaves %s of the probes by %s unanswered, but by %s it loses %s (%d of %d): it spares its answers to the one kind, and the way to it is sound so far.",
			a.Addr, figure.FormatRatio(ratio), a.Via, best.Via, figure.FormatRatio(best.Reading.Loss().Value().Or(0)), best.Reading.Lost, best.Reading.Sent),
		Figures: map[string]float64{"loss_ratio": ratio, "loss_low_ratio": low, "loss_high_ratio": high, "other_loss_ratio": best.Reading.Loss().Value().Or(0), "other_sent": float64(best.Reading.Sent)},
		Sure:    interval,
		Advice:  fmt.Sprintf("Measure it by %s: that is what the way carries.", best.Via),
	}, true
}

func portOf(via string) float64 {
	var n float64
	_, port, _ := strings.Cut(via, ":")
	_, _ = fmt.Sscan(port, &n)
	return n
}

func silent(a Asked) float64 {
	n := a.Reading.Lost
	return sure(loss.Ratio{Lost: n, Sent: n}.AtLeast(0.5))
}

func portClosed(a Asked) Finding {
	return Finding{
		Code:     PortClosed,
		Sentence: fmt.Sprintf("%s refuses at %s: the host is there, and nothing listens at that port (or its own firewall says so).", a.Addr, a.Via),
		Figures:  map[string]float64{"port": portOf(a.Via), "refused": float64(a.Reading.Refused), "sent": float64(a.Reading.Sent)},
		Sure:     observed,
		Advice:   "See at the host whether the service runs and on which port ('woodlark here -port' there).",
	}
}

func portFiltered(a, alive Asked) Finding {
	f := Finding{
		Code:     PortFiltered,
		Sentence: fmt.Sprintf("%s does not answer at %s, though the host is there: it answers by %s.", a.Addr, a.Via, alive.Via),
		Figures:  map[string]float64{"port": portOf(a.Via), "sent": float64(a.Reading.Sent)},
		Sure:     silent(a),
		Advice:   "Look for a filter on the way or at the host; a trace by that port shows how far it gets.",
	}
	if why := a.turnedAway(); why != "" {
		f.Sentence = fmt.Sprintf("%s at %s is turned away (%s), though the host is there: it answers by %s.", a.Addr, a.Via, why, alive.Via)
		f.Sure = observed
	}
	return f
}

func icmpFiltered(a, alive Asked) Finding {
	f := Finding{
		Code:     ICMPFiltered,
		Sentence: fmt.Sprintf("%s gives no answer to ICMP but answers at %s: ICMP is filtered, the host is up.", a.Addr, alive.Via),
		Figures:  map[string]float64{"sent": float64(a.Reading.Sent)},
		Sure:     silent(a),
		Advice:   fmt.Sprintf("Measure it by %s.", alive.Via),
	}
	if alive.port() {
		f.Figures["port"] = portOf(alive.Via)
	}
	if why := a.turnedAway(); why != "" {
		f.Sure = observed
		f.Sentence = fmt.Sprintf("ICMP to %s is turned away (%s) but %s answers: the host is up.", a.Addr, why, alive.Via)
	}
	return f
}

// ofFamilies compares IPv4 with IPv6 for each way of asking.
func ofFamilies(list []Asked) []Finding {
	var found []Finding
	for _, four := range list {
		if !four.Addr.Is4() {
			continue
		}
		i := slices.IndexFunc(list, func(x Asked) bool { return x.Addr.Is6() && x.Via == four.Via })
		if i < 0 || slices.ContainsFunc(found, func(f Finding) bool { return f.Code == FamilyDiffers }) {
			continue
		}
		if says, figures, sureness := difference(four, list[i], "IPv4", "IPv6"); says != "" {
			found = append(found, Finding{Code: FamilyDiffers, Sentence: says, Figures: figures, Sure: sureness,
				Advice: "Programs choose one family by themselves, so users differ: trace both and compare."})
		}
	}
	return found
}

// The least differences of delay that matter.
const (
	differenceMs    = 2.0
	differenceRatio = 0.2
)

// difference says how two readings differ surely: in loss, by intervals that do
// not meet; in delay, by the intervals of their medians.
func difference(a, b Asked, nameA, nameB string) (says string, figures map[string]float64, sureness float64) {
	figures = map[string]float64{}
	var parts []string
	lowA, highA, okA := a.Reading.Loss().Interval()
	lowB, highB, okB := b.Reading.Loss().Interval()
	if okA && okB && (lowA > highB || lowB > highA) {
		ra, rb := a.Reading.Loss().Value().Or(0), b.Reading.Loss().Value().Or(0)
		figures["loss_ratio_a"], figures["loss_ratio_b"] = ra, rb
		parts = append(parts, fmt.Sprintf("%s loses %s, %s %s", nameA, figure.FormatRatio(ra), nameB, figure.FormatRatio(rb)))
	}
	for _, x := range []struct {
		turned, other         Asked
		nameTurned, nameOther string
	}{{a, b, nameA, nameB}, {b, a, nameB, nameA}} {
		if r := x.turned.Reading; r.Answered == 0 && r.Refused > 0 && x.other.Reading.Answered > 0 {
			figures["refused"], figures["sent"] = float64(r.Refused), float64(r.Sent)
			return fmt.Sprintf("%s is turned away (%s), %s is answered.", x.nameTurned, r.Cause, x.nameOther), figures, observed
		}
	}
	la, ha, oka := medianInterval(a.Probes)
	lb, hb, okb := medianInterval(b.Probes)
	ma, mb := figure.Millis(a.Reading.RTT.Median.Or(0)), figure.Millis(b.Reading.RTT.Median.Or(0))
	if oka && okb && (la > hb || lb > ha) && math.Abs(ma-mb) > max(differenceMs, differenceRatio*min(ma, mb)) {
		figures["rtt_ms_a"], figures["rtt_ms_b"] = ma, mb
		parts = append(parts, fmt.Sprintf("%s takes %s, %s %s", nameA, figure.FormatMs(ma), nameB, figure.FormatMs(mb)))
	}
	if len(parts) == 0 {
		return "", nil, 0
	}
	return strings.Join(parts, "; ") + ".", figures, interval
}

// medianInterval is the 95 % interval of the median by order statistics: no
// shape of the distribution is assumed.
func medianInterval(probes []reading.Probe) (low, high time.Duration, ok bool) {
	var rtts []time.Duration
	for _, p := range probes {
		if p.Outcome == reading.Answered {
			rtts = append(rtts, p.RTT)
		}
	}
	if len(rtts) < 6 {
		return 0, 0, false
	}
	slices.Sort(rtts)
	low, high = delay.MedianInterval(rtts)
	return low, high, true
}

// How much faster an address must answer than another of its name to be called a
// copy nearby.
const (
	copyFactor = 5
	copyMs     = 5.0
)

// ofCopies compares the addresses of one family.
func ofCopies(list []Asked) []Finding {
	var near, far *Asked
	var found []Finding
	for _, is4 := range []bool{true, false} {
		near, far = nil, nil
		for i, a := range list {
			if a.Addr.Is4() != is4 || !a.Reading.RTT.Min.IsSet() {
				continue
			}
			least := a.Reading.RTT.Min.Or(0)
			if near == nil || least < near.Reading.RTT.Min.Or(0) {
				near = &list[i]
			}
			if far == nil || least > far.Reading.RTT.Min.Or(0) {
				far = &list[i]
			}
		}
		if near == nil || near.Addr == far.Addr {
			continue
		}
		a, b := figure.Millis(near.Reading.RTT.Min.Or(0)), figure.Millis(far.Reading.RTT.Min.Or(0))
		if b < copyFactor*a || b-a < copyMs {
			continue
		}
		found = append(found, Finding{
			Code:     NearbyCopy,
			Sentence: fmt.Sprintf("%s answers within %s, %s of the same name needs %s: the near one is a copy, not the far machine.", near.Addr, figure.FormatMs(a), far.Addr, figure.FormatMs(b)),
			Figures:  map[string]float64{"near_rtt_ms": a, "far_rtt_ms": b},
			Sure:     interval,
			Advice:   "Say by address which of them is meant, and measure that.",
		})
	}
	return found
}
