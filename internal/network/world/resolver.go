package world

import (
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/net/dns/dnsmessage"

	"woodlark.example/wire"
)

const (
	dnsPort = 53
	dnsTTL  = 60 // seconds that an answer may be kept
)

// resolve answers a DNS query (RFC 1035) as the resolver in a state does; nil
// when it does not answer.
func (m *Model) resolve(s *nodeState, query []byte) []byte {
	var p dnsmessage.Parser
	h, err := p.Start(query)
	if err != nil || h.Response || s.resolver == ResolverSilent {
		return nil
	}
	q, err := p.Question()
	if err != nil {
		return nil
	}
	out := dnsmessage.Message{
		Header:    dnsmessage.Header{ID: h.ID, Response: true, RecursionDesired: h.RecursionDesired, RecursionAvailable: true, OpCode: h.OpCode},
		Questions: []dnsmessage.Question{q},
	}
	switch s.resolver {
	case ResolverFails:
		out.RCode = dnsmessage.RCodeServerFailure
	case ResolverDenies:
		out.RCode = dnsmessage.RCodeNameError
	default:
		var known bool
		if out.Answers, known = m.records(s, q); !known {
			out.RCode = dnsmessage.RCodeNameError
		}
	}
	b, err := out.Pack()
	if err != nil {
		return nil
	}
	return b
}

// records answer a question; known tells a name without such a record from one
// that there is not.
func (m *Model) records(s *nodeState, q dnsmessage.Question) (answers []dnsmessage.Resource, known bool) {
	name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
	head := dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: dnsmessage.ClassINET, TTL: dnsTTL}
	if q.Type == dnsmessage.TypePTR {
		a, ok := reverseAddress(name)
		i, has := m.byAddr[a]
		if !ok || !has || m.nodes[i].Reverse == "" {
			return nil, false
		}
		target, err := dnsmessage.NewName(m.nodes[i].Reverse + ".")
		if err != nil {
			return nil, false
		}
		return []dnsmessage.Resource{{Header: head, Body: &dnsmessage.PTRResource{PTR: target}}}, true
	}
	found, own := s.records[name]
	if !own {
		found = m.Addresses(name, 0)
	}
	for _, a := range found {
		switch {
		case q.Type == dnsmessage.TypeA && a.Is4():
			answers = append(answers, dnsmessage.Resource{Header: head, Body: &dnsmessage.AResource{A: a.As4()}})
		case q.Type == dnsmessage.TypeAAAA && a.Is6():
			answers = append(answers, dnsmessage.Resource{Header: head, Body: &dnsmessage.AAAAResource{AAAA: a.As16()}})
		}
	}
	return answers, own || len(found) > 0
}

// reverseAddress reads a name below in-addr.arpa (RFC 1035 §3.5) or ip6.arpa
// (RFC 3596 §2.5).
func reverseAddress(name string) (netip.Addr, bool) {
	if four, ok := strings.CutSuffix(name, ".in-addr.arpa"); ok {
		parts := strings.Split(four, ".")
		slices.Reverse(parts)
		a, err := netip.ParseAddr(strings.Join(parts, "."))
		return a, err == nil && wire.FamilyOf(a) == wire.IPv4
	}
	six, ok := strings.CutSuffix(name, ".ip6.arpa")
	digits := strings.Split(six, ".")
	if !ok || len(digits) != 32 {
		return netip.Addr{}, false
	}
	slices.Reverse(digits)
	var text strings.Builder
	for i, d := range digits {
		if i > 0 && i%4 == 0 {
			text.WriteByte(':')
		}
		text.WriteString(d)
	}
	a, err := netip.ParseAddr(text.String())
	return a, err == nil
}
