package kind

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"woodlark.example/core/figure"
	"woodlark.example/core/finding"
	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

// Lane is what one result of a measurement is of.
type Lane struct {
	Target string      `json:"target"`           // as it was asked for
	Family wire.Family `json:"family,omitempty"` // 0 where the kind does not tell them apart
	Via    string      `json:"via,omitempty"`
	// Address is where the target is, once that is known.
	Address netip.Addr `json:"address,omitzero"`
	// Named is how its name was resolved; nil for an address, and before it was.
	Named *Named `json:"named,omitempty"`
	// Problem is why it cannot be measured.
	Problem string `json:"problem,omitempty"`
}

// Named is what a name was resolved to.
type Named struct {
	Resolver  string            `json:"resolver"` // that answered; empty for the hosts file
	TookMs    float64           `json:"took_ms"`
	Addresses []string          `json:"addresses"`
	Findings  []finding.Finding `json:"findings,omitempty"`
}

// Conclusions are what is to be said of how the name was resolved.
func (n *Named) Conclusions() []finding.Finding {
	if n == nil {
		return nil
	}
	return n.Findings
}

// Rule is how the targets of a spec come to be lanes.
type Rule struct {
	// Whole says that all targets are one lane.
	Whole bool
	// Families says that the families of a target are lanes of their own, by Family.
	Families bool
	Family   Family
	All      bool     // every address of a name is a lane
	Vias     []string // each is a lane
}

// Definite reports whether the lanes are known without resolving names, for some targets.
func (r Rule) Definite(targets []string) bool {
	return !r.Families || r.Family != "" && !r.All || !slices.ContainsFunc(targets, isName)
}

func isName(target string) bool {
	_, err := netip.ParseAddr(target)
	return err != nil
}

// vias are those of the rule, or none.
func (r Rule) vias() []string {
	if len(r.Vias) == 0 {
		return []string{""}
	}
	return r.Vias
}

// Split makes lanes of targets without resolving names. Where it is left open by which family
// a name is measured it is IPv4.
func (r Rule) Split(targets []string) (list []Lane) {
	if r.Whole {
		return []Lane{{Target: named(targets)}}
	}
	for _, t := range targets {
		for _, f := range r.families(t) {
			for _, via := range r.vias() {
				list = append(list, Lane{Target: t, Family: f, Via: via})
			}
		}
	}
	return list
}

// named are all targets of one lane, as far as they can be shown.
func named(targets []string) string {
	const most = 200
	text := strings.Join(targets, ", ")
	if len(text) <= most {
		return text
	}
	return fmt.Sprintf("%s and %d more", targets[0], len(targets)-1)
}

func (r Rule) families(target string) []wire.Family {
	if !r.Families {
		return []wire.Family{0}
	}
	if a, err := netip.ParseAddr(target); err == nil {
		return []wire.Family{wire.FamilyOf(a)}
	}
	switch r.Family {
	case "6":
		return []wire.Family{wire.IPv6}
	case "both":
		return []wire.Family{wire.IPv4, wire.IPv6}
	}
	return []wire.Family{wire.IPv4}
}

const lookupsAtOnce = 32

// Locate makes lanes of targets where they are measured from: names are resolved there. What
// does not resolve is a lane with its problem.
func (r Rule) Locate(ctx context.Context, n network.Network, targets []string) (list []Lane) {
	if r.Whole || !r.Families {
		return r.Split(targets)
	}
	found := make([][]Lane, len(targets))
	gate := make(chan struct{}, lookupsAtOnce)
	var wg sync.WaitGroup
	for i, t := range targets {
		if a, err := netip.ParseAddr(t); err == nil {
			found[i] = []Lane{{Target: t, Family: wire.FamilyOf(a), Address: a}}
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			found[i] = r.resolve(ctx, n, t)
		})
	}
	wg.Wait()
	for _, lanes := range found {
		for _, l := range lanes {
			for _, via := range r.vias() {
				l.Via = via
				list = append(list, l)
				if l.Problem != "" {
					break // it is told once
				}
			}
		}
	}
	return list
}

// resolve finds the addresses of a name that are to be measured.
func (r Rule) resolve(ctx context.Context, n network.Network, name string) (list []Lane) {
	answer, named, err := lookUp(ctx, n, name, r.Family.One())
	if err != nil {
		return []Lane{{Target: name, Family: r.Family.One(), Named: named, Problem: err.Error()}}
	}
	for _, f := range []wire.Family{wire.IPv4, wire.IPv6} {
		taken := false
		for _, a := range answer {
			if wire.FamilyOf(a) == f && (r.All || !taken) && (r.All || r.Family == "both" || len(list) == 0) {
				list = append(list, Lane{Target: name, Family: f, Address: a, Named: named})
				taken = true
			}
		}
	}
	return list
}

// lookUp asks for the addresses of a name and says what is to be said of the answer.
func lookUp(ctx context.Context, n network.Network, name string, f wire.Family) ([]netip.Addr, *Named, error) {
	found, err := n.Lookup(ctx, name, f)
	answer := finding.NameAnswer{Resolver: found.Resolver, Addrs: found.Addrs, Took: found.Took}
	named := &Named{Resolver: found.Resolver, TookMs: figure.Millis(found.Took), Addresses: []string{}}
	for _, a := range found.Addrs {
		named.Addresses = append(named.Addresses, a.String())
	}
	if err != nil {
		answer.Err, answer.Absent = err.Error(), errors.Is(err, network.ErrNoName)
	}
	named.Findings = finding.OfName(finding.Name{Name: name, Answers: []finding.NameAnswer{answer}})
	return found.Addrs, named, err
}

// Resolve completes lanes whose addresses are not known yet, side by side.
func Resolve(ctx context.Context, n network.Network, lanes []Lane) {
	gate := make(chan struct{}, lookupsAtOnce)
	var wg sync.WaitGroup
	for i := range lanes {
		l := &lanes[i]
		if l.Address.IsValid() || l.Problem != "" {
			continue
		}
		if a, err := netip.ParseAddr(l.Target); err == nil {
			l.Address = a
			continue
		}
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			addrs, named, err := lookUp(ctx, n, l.Target, l.Family)
			l.Named = named
			if err != nil {
				l.Problem = err.Error()
				return
			}
			l.Address = addrs[0]
		})
	}
	wg.Wait()
}
