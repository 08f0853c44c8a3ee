package finding

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/figure"
)

const (
	// NameUnresolved: the name gives no address.
	NameUnresolved Code = "name_unresolved"
	// NameSlow: it takes long to resolve.
	NameSlow Code = "name_slow"
	// NameDiffers: resolvers give different addresses for it.
	NameDiffers Code = "name_differs"
)

// SlowName is from when on a name takes long to resolve: a person notices it.
const SlowName = 500 * time.Millisecond

// Name is what the resolvers made of a name.
type Name struct {
	Name    string
	Answers []NameAnswer
	// AddressAnswers says that the target's address, known otherwise, answers.
	AddressAnswers bool
}

// NameAnswer is what one resolver made of it.
type NameAnswer struct {
	Resolver string // empty when no resolver was asked, as for a name of the hosts file
	Addrs    []netip.Addr
	Took     time.Duration
	Err      string // why there is no address; empty when there is one
	// Absent says that the resolver knows that there is no such name; else it
	// failed, or did not answer.
	Absent bool
}

func (a NameAnswer) who() string {
	if a.Resolver == "" {
		return "no resolver was needed"
	}
	return "resolver " + a.Resolver
}

// OfName concludes how a name stands.
func OfName(n Name) []Finding {
	found := []Finding{}
	good := slices.DeleteFunc(slices.Clone(n.Answers), func(a NameAnswer) bool { return len(a.Addrs) == 0 })
	if len(n.Answers) == 0 {
		return found
	}
	if len(good) == 0 {
		return append(found, nameUnresolved(n))
	}
	slowest := slices.MaxFunc(n.Answers, func(a, b NameAnswer) int { return int(a.Took - b.Took) })
	first := n.Answers[0]
	if slowest.Took >= SlowName && (first.Took >= SlowName || len(first.Addrs) == 0) {
		found = append(found, Finding{
			Code:     NameSlow,
			Sentence: fmt.Sprintf("The name %s takes %s to resolve (%s).", n.Name, figure.FormatMs(figure.Millis(slowest.Took)), slowest.who()),
			Figures:  map[string]float64{"took_ms": figure.Millis(slowest.Took)},
			Sure:     observed,
			Advice:   "Every first connection waits for it: look at the resolver, or put a faster one before it.",
		})
	}
	for _, a := range good[1:] {
		if alike(good[0].Addrs, a.Addrs) {
			continue
		}
		found = append(found, Finding{
			Code:     NameDiffers,
			Sentence: fmt.Sprintf("%s gives %s for %s, %s gives %s.", capitalise(good[0].who()), addresses(good[0].Addrs), n.Name, a.who(), addresses(a.Addrs)),
			Figures:  map[string]float64{"resolvers": float64(len(n.Answers))},
			Sure:     observed,
			Advice:   "Hosts that use different resolvers reach different machines: find which answer is meant.",
		})
		break
	}
	return found
}

// alike reports whether two sets of addresses share any of each family that both
// have: a name that rotates among many shares some.
func alike(a, b []netip.Addr) bool {
	for _, four := range []bool{true, false} {
		of := func(list []netip.Addr) []netip.Addr {
			return slices.DeleteFunc(slices.Clone(list), func(x netip.Addr) bool { return x.Is4() != four })
		}
		fa, fb := of(a), of(b)
		if len(fa) > 0 && len(fb) > 0 && !slices.ContainsFunc(fa, func(x netip.Addr) bool { return slices.Contains(fb, x) }) {
			return false
		}
	}
	return true
}

func nameUnresolved(n Name) Finding {
	f := Finding{Code: NameUnresolved, Figures: map[string]float64{"resolvers": float64(len(n.Answers))}, Sure: observed}
	absent := !slices.ContainsFunc(n.Answers, func(a NameAnswer) bool { return !a.Absent })
	says := []string{}
	for _, a := range n.Answers {
		says = append(says, a.Err)
	}
	slices.Sort(says)
	f.Sentence = fmt.Sprintf("The name %s does not resolve: %s.", n.Name, strings.Join(slices.Compact(says), "; "))
	f.Advice = "Ask who keeps the resolver why it does not answer."
	if absent {
		f.Sentence = fmt.Sprintf("There is no address for the name %s: the resolver says so.", n.Name)
		f.Advice = "Check the spelling and the name's zone."
	}
	if n.AddressAnswers {
		f.Sentence += " Its address answers, so only the name is at fault."
	}
	return f
}

func addresses(list []netip.Addr) string {
	texts := make([]string, len(list))
	for i, a := range list {
		texts[i] = a.String()
	}
	return strings.Join(texts, ", ")
}
