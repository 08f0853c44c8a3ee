package fleet

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"woodlark.example/internal/kind"
	"woodlark.example/wire"
)

const (
	bySite  = "site:"
	byLabel = "label:"
)

// IsSelector reports whether a word means agents by what they have in common: site:NAME or
// label:WORD.
func IsSelector(word string) bool {
	return strings.HasPrefix(word, bySite) || strings.HasPrefix(word, byLabel)
}

// Select are the agents that a word means, by name: those of a site or with a label, or the one
// of that name. The error, which wraps kind.ErrInvalid, says which there are.
func (f *Fleet) Select(word string) (list []*Agent, err error) {
	if !IsSelector(word) {
		a, err := f.Named(word)
		if err != nil {
			return nil, err
		}
		return []*Agent{a}, nil
	}
	site, isSite := strings.CutPrefix(word, bySite)
	label, _ := strings.CutPrefix(word, byLabel)
	var sites, labels []string
	for _, a := range f.All() {
		own := a.LabelList()
		if isSite && a.Site == site && site != "" || !isSite && slices.Contains(own, label) {
			list = append(list, a)
		}
		if a.Site != "" {
			sites = append(sites, a.Site)
		}
		labels = append(labels, own...)
	}
	if len(list) > 0 {
		return list, nil
	}
	what, there := "label", labels
	if isSite {
		what, there = "site", sites
	}
	slices.Sort(there)
	there = slices.Compact(there)
	if len(there) == 0 {
		return nil, fmt.Errorf("%w: %s matches no agent, and none has a %s", kind.ErrInvalid, kind.Shorten(word), what)
	}
	return nil, fmt.Errorf("%w: %s matches no agent; there is %s:%s", kind.ErrInvalid, kind.Shorten(word), what, strings.Join(there[:min(len(there), 20)], ", "+what+":"))
}

// LabelList are the agent's labels.
func (a *Agent) LabelList() (list []string) {
	for _, l := range strings.Split(a.Labels, ",") {
		if l = strings.TrimSpace(l); l != "" {
			list = append(list, l)
		}
	}
	return list
}

// Stands is where an agent is measured that a target names: an address of the family, or the
// name of its host; "" when the target is no agent's name, or nothing is known of where it is.
func (f *Fleet) Stands(target string, family wire.Family) string {
	a, err := f.Named(target)
	if err != nil {
		return ""
	}
	for _, text := range append([]string{a.Address}, a.addresses()...) {
		addr, err := netip.ParseAddr(text)
		if text != "" && err != nil { // a host's name
			return text
		}
		if err == nil && (family == 0 || wire.FamilyOf(addr) == family) && !addr.IsLinkLocalUnicast() {
			return text
		}
	}
	return ""
}
