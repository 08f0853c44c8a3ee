package finding

import (
	"fmt"
	"net/netip"
	"slices"

	"woodlark.example/core/figure"
	"woodlark.example/core/loss"
	"woodlark.example/core/reading"
)

const (
	// NeighbourUnresolved: the gateway's ARP or ND entry does not resolve.
	NeighbourUnresolved Code = "neighbour_unresolved"
	// GatewayLossy: loss already stands at the gateway.
	GatewayLossy Code = "gateway_lossy"
	// BeyondGateway: the gateway is clean and the target is not.
	BeyondGateway Code = "beyond_gateway"
)

// Walk is what was met from near to far. Steps that were not reached are nil.
type Walk struct {
	// Gateway is the first hop; not valid when the target is on the own link.
	Gateway netip.Addr
	// Unresolved says that its neighbour entry, or the target's on the own link,
	// does not resolve; State is how the kernel calls it.
	Unresolved bool
	State      string
	AtGateway  *Asked
	Name       *Name
	AtTarget   *Asked
	AtPort     *Asked
	// AtOther is the target asked by another kind of probe, because by the first it
	// lost some and the gateway did not; nil when it was not, or answers none.
	AtOther *Asked
}

// Step is one step of a walk, as it is told.
type Step struct {
	Name    string           `json:"step" enum:"way,neighbour,gateway,resolver,address,name,port"`
	Good    *bool            `json:"good" doc:"null where it cannot be told"`
	About   string           `json:"about" doc:"The address or name"`
	Says    string           `json:"says"`
	Figures *reading.Figures `json:"figures,omitempty" doc:"Of what was measured"`
	TookMs  *float64         `json:"took_ms" doc:"Of a resolver; else null"`
}

// WalkReport is a walk as it is written for machines.
type WalkReport struct {
	From     string    `json:"from"`
	Target   string    `json:"target"`
	Address  string    `json:"address" doc:"That was measured; empty when none was known"`
	Steps    []Step    `json:"steps" doc:"From near to far, as far as it went"`
	Findings []Finding `json:"findings"`
}

// OfWalk concludes where it breaks, nearest first.
func OfWalk(w Walk) []Finding {
	if w.Unresolved {
		return []Finding{unresolved(w)}
	}
	found := []Finding{}
	ports := []Asked{}
	if w.AtTarget != nil {
		ports = append(ports, *w.AtTarget)
	}
	if w.AtPort != nil {
		ports = append(ports, *w.AtPort)
	}
	if w.AtOther != nil {
		ports = append(ports, *w.AtOther)
	}
	kinds := OfKinds(ports)
	sparing := slices.ContainsFunc(kinds, func(f Finding) bool { return f.Code == LossSparing })
	if f, ok := nearOrFar(w); ok && !(sparing && f.Code == BeyondGateway) {
		found = append(found, f)
	}
	if f, ok := slowAtHome(w); ok {
		found = append(found, f)
	}
	if w.Name != nil {
		name := *w.Name
		name.AddressAnswers = w.AtTarget != nil && w.AtTarget.there() || w.AtPort != nil && w.AtPort.there()
		found = append(found, OfName(name)...)
	}
	found = append(found, kinds...)
	if a := w.AtTarget; a != nil && !a.there() && len(kinds) == 0 {
		if a.Reading.Refused > 0 {
			found = append(found, OfReading(a.Reading, a.Probes)...)
		} else if len(found) == 0 {
			found = append(found, silence(a.Reading))
		}
	}
	return found
}

func unresolved(w Walk) Finding {
	who := "The target on the own link"
	if w.Gateway.IsValid() {
		who = fmt.Sprintf("The gateway %s", w.Gateway)
	}
	return Finding{
		Code:     NeighbourUnresolved,
		Sentence: fmt.Sprintf("%s does not say its hardware address: its neighbour entry is %s.", who, w.State),
		Figures:  map[string]float64{},
		Sure:     observed,
		Advice:   "Nothing beyond it can be reached from here. Check the cable, the port, the VLAN, and whether that machine is up.",
	}
}

// slowAtHome says that most of the delay to the target already stands at the gateway, and
// that it is more than a link at home takes. A gateway that only answers slowly shows
// delay that the target behind it does not.
func slowAtHome(w Walk) (Finding, bool) {
	if w.AtTarget == nil || w.AtGateway == nil {
		return Finding{}, false
	}
	lowG, highG, okG := medianInterval(w.AtGateway.Probes)
	_, highT, okT := medianInterval(w.AtTarget.Probes)
	gateway, target := w.AtGateway.Reading.RTT.Median.Or(0), w.AtTarget.Reading.RTT.Median.Or(0)
	if !okG || !okT || lowG < leastAdded || lowG > highT || gateway < target/2 {
		return Finding{}, false
	}
	return Finding{
		Code: GatewayLossy,
		Sentence: fmt.Sprintf("It takes %s to the gateway %s and back already, of %s to the target: the delay is at home.",
			figure.FormatMs(figure.Millis(gateway)), w.Gateway, figure.FormatMs(figure.Millis(target))),
		Figures: map[string]float64{"gateway_rtt_ms": figure.Millis(gateway), "gateway_rtt_low_ms": figure.Millis(lowG), "gateway_rtt_high_ms": figure.Millis(highG), "target_rtt_ms": figure.Millis(target)},
		Sure:    interval,
		Advice:  "A cable takes less than 1 ms: look at this host's radio or tunnel, at what else loads its link ('woodlark here'), and at the gateway itself.",
	}, true
}

// least loss that is worth a word, when it is sure.
const leastLoss = 0.002

// nearOrFar tells loss that stands at the gateway from loss beyond it. A gateway
// that spares its answers shows loss that the target does not.
func nearOrFar(w Walk) (Finding, bool) {
	if w.AtTarget == nil || w.AtTarget.Reading.Sent == 0 {
		return Finding{}, false
	}
	target := w.AtTarget.Reading
	lowT, highT, _ := target.Loss().Interval()
	filtered := !w.AtTarget.there() && (w.AtPort != nil && w.AtPort.there() || target.Refused > 0)
	if filtered || w.AtGateway == nil || w.AtGateway.Reading.Answered == 0 {
		return Finding{}, false
	}
	gateway := w.AtGateway.Reading
	lowG, highG, _ := gateway.Loss().Interval()
	figures := map[string]float64{"gateway_loss_ratio": gateway.Loss().Value().Or(0), "target_loss_ratio": target.Loss().Value().Or(0)}
	ratio := func(r loss.Ratio) string { return figure.FormatRatio(r.Value().Or(0)) }
	switch {
	case lowG > leastLoss && highT >= lowG:
		return Finding{
			Code: GatewayLossy,
			Sentence: fmt.Sprintf("%s of the probes are lost already at the gateway %s (at the target %s): the fault is at home.",
				ratio(gateway.Loss()), w.Gateway, ratio(target.Loss())),
			Figures: figures, Sure: interval,
			Advice: "Check this host's cable or radio, its interface's error counters ('woodlark here'), and the gateway itself.",
		}, true
	case lowT > leastLoss && lowT > highG:
		f := Finding{
			Code:     BeyondGateway,
			Sentence: fmt.Sprintf("The gateway %s answers cleanly (%s lost), the target loses %s: the fault is beyond the gateway.", w.Gateway, ratio(gateway.Loss()), ratio(target.Loss())),
			Figures:  figures, Sure: interval,
			Advice: "Trace the route to see from which hop on the loss is carried.",
		}
		if target.Answered == 0 {
			f.Sentence = fmt.Sprintf("The gateway %s answers, the target answers nothing: what is wrong lies beyond the gateway.", w.Gateway)
			f.Advice = "Trace the route to see how far it reaches; ask a TCP port too, for the target may drop ICMP."
		}
		return f, true
	}
	return Finding{}, false
}
