package live

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"woodlark.example/internal/network"
	"woodlark.example/wire"
)

const (
	dnsPort     = 53
	answerWait  = 2 * time.Second // for an answer of one resolver
	askedRounds = 2
	firstPort   = 49152 // of the ports that questions are asked from, RFC 6335 §6
)

// asking is a question on its way.
type asking struct {
	port   uint16
	news   chan struct{}
	answer []byte // under the network's lock
}

// Resolvers are those of the host.
func (h *Host) Resolvers() []netip.Addr { return h.n.m.Nodes()[h.node].Resolvers }

// Lookup finds a host's addresses by its name: through the world's resolvers, by
// packets that cross it, where the host has any, else from the world itself. In
// virtual time it must be called from a goroutine that the clock started.
func (h *Host) Lookup(ctx context.Context, name string, f wire.Family) (network.Resolved, error) {
	resolvers := h.Resolvers()
	if len(resolvers) == 0 {
		if found := h.n.m.Addresses(name, f); len(found) > 0 {
			return network.Resolved{Addrs: found}, nil
		}
		return network.Resolved{}, fmt.Errorf("%q: %w in world %q", name, network.ErrNoName, h.n.m.Name)
	}
	return h.lookup(ctx, resolvers, askedRounds, name, f)
}

// LookupAt asks one resolver, once.
func (h *Host) LookupAt(ctx context.Context, resolver netip.Addr, name string, f wire.Family) (network.Resolved, error) {
	return h.lookup(ctx, []netip.Addr{resolver}, 1, name, f)
}

func (h *Host) lookup(ctx context.Context, resolvers []netip.Addr, rounds int, name string, f wire.Family) (network.Resolved, error) {
	if h.n.pump != nil {
		if err := h.n.pump.start(); err != nil {
			return network.Resolved{}, err
		}
		defer h.n.pump.stop()
	}
	began := h.n.clock.Now()
	var r network.Resolved
	var errs []error
	for _, family := range []wire.Family{wire.IPv4, wire.IPv6} {
		if f != 0 && f != family {
			continue
		}
		kind := dnsmessage.TypeA
		if family == wire.IPv6 {
			kind = dnsmessage.TypeAAAA
		}
		m, who, err := h.ask(ctx, resolvers, rounds, name, kind)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		r.Resolver = who.String()
		r.Addrs = append(r.Addrs, addressesIn(m, family)...)
	}
	r.Took = h.n.clock.Now().Sub(began)
	if len(r.Addrs) > 0 {
		return r, nil
	}
	if len(errs) > 0 {
		return r, errors.Join(errs...)
	}
	return r, fmt.Errorf("%q: %w in world %q", name, network.ErrNoName, h.n.m.Name)
}

// Reverse asks for the name of an address.
func (h *Host) Reverse(ctx context.Context, a netip.Addr) (string, error) {
	none := fmt.Errorf("%s: %w in world %q", a, network.ErrNoName, h.n.m.Name)
	resolvers := h.Resolvers()
	if len(resolvers) == 0 {
		if name := h.n.m.Reverse(a); name != "" {
			return name, nil
		}
		return "", none
	}
	if h.n.pump != nil {
		if err := h.n.pump.start(); err != nil {
			return "", err
		}
		defer h.n.pump.stop()
	}
	m, _, err := h.ask(ctx, resolvers, askedRounds, reverseName(a), dnsmessage.TypePTR)
	if err != nil {
		return "", err
	}
	for _, r := range m.Answers {
		if body, ok := r.Body.(*dnsmessage.PTRResource); ok {
			return strings.TrimSuffix(body.PTR.String(), "."), nil
		}
	}
	return "", none
}

// reverseName is an address as a name (RFC 1035 §3.5, RFC 3596 §2.5).
func reverseName(a netip.Addr) string {
	var b strings.Builder
	if a.Is4() {
		four := a.As4()
		for _, x := range []byte{four[3], four[2], four[1], four[0]} {
			fmt.Fprintf(&b, "%d.", x)
		}
		return b.String() + "in-addr.arpa"
	}
	six := a.As16()
	for i := len(six) - 1; i >= 0; i-- {
		fmt.Fprintf(&b, "%x.%x.", six[i]&0xf, six[i]>>4)
	}
	return b.String() + "ip6.arpa"
}

// ask puts a question to one resolver after the other, and returns the answer
// and whose it is.
func (h *Host) ask(ctx context.Context, resolvers []netip.Addr, rounds int, name string, kind dnsmessage.Type) (dnsmessage.Message, netip.Addr, error) {
	var last error
	for range rounds {
		for _, r := range resolvers {
			answer, err := h.question(ctx, r, name, kind)
			if err == nil {
				var m dnsmessage.Message
				if m, err = parseAnswer(answer); err == nil {
					return m, r, nil
				}
				return m, r, err
			}
			last = err
		}
	}
	return dnsmessage.Message{}, netip.Addr{}, last
}

func (h *Host) question(ctx context.Context, resolver netip.Addr, name string, kind dnsmessage.Type) ([]byte, error) {
	full, err := dnsmessage.NewName(strings.TrimSuffix(name, ".") + ".")
	if err != nil {
		return nil, fmt.Errorf("%q is no name: %w", name, err)
	}
	a := h.begin()
	defer h.end(a)
	m := dnsmessage.Message{Header: dnsmessage.Header{ID: a.port, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: full, Type: kind, Class: dnsmessage.ClassINET}}}
	query, err := m.Pack()
	if err != nil {
		return nil, fmt.Errorf("ask for %q: %w", name, err)
	}
	from, ok := h.n.m.Nodes()[h.node].Addr(wire.FamilyOf(resolver))
	if !ok {
		return nil, fmt.Errorf("%s has no address to ask resolver %s from", h.name, resolver)
	}
	datagram := wire.UDP{SrcPort: a.port, DstPort: dnsPort, Payload: query}.Marshal(from, resolver)
	sent, err := h.n.send(h.node, wire.IP{Src: from, Dst: resolver, Protocol: wire.ProtocolUDP, TTL: 64, ID: a.port}.Marshal(datagram))
	if err != nil {
		return nil, err
	}
	for {
		over := h.n.clock.Until(ctx, sent.Add(answerWait), a.news)
		if answer := h.answerTo(a); answer != nil {
			return answer, nil
		}
		if err := ctx.Err(); err != nil {
			return nil, fmt.Errorf("ask for %q: %w", name, err)
		}
		if over {
			return nil, fmt.Errorf("resolver %s did not answer for %q within %v", resolver, name, answerWait)
		}
	}
}

func (h *Host) answerTo(a *asking) []byte {
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	return a.answer
}

// begin takes a free port for a question.
func (h *Host) begin() *asking {
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	a := &asking{port: firstPort, news: make(chan struct{}, 1)}
	for slices.ContainsFunc(h.asked, func(x *asking) bool { return x.port == a.port }) {
		a.port++
	}
	h.asked = append(h.asked, a)
	return a
}

func (h *Host) end(a *asking) {
	h.n.mu.Lock()
	defer h.n.mu.Unlock()
	h.asked = slices.DeleteFunc(h.asked, func(x *asking) bool { return x == a })
}

// takeAnswer gives a datagram to the question that it answers.
func (h *Host) takeAnswer(u wire.UDP) bool {
	for _, a := range h.asked {
		if a.port == u.DstPort && u.SrcPort == dnsPort {
			a.answer = slices.Clone(u.Payload)
			h.n.delivered = true
			select {
			case a.news <- struct{}{}:
			default:
			}
			return true
		}
	}
	return false
}

func parseAnswer(answer []byte) (dnsmessage.Message, error) {
	var m dnsmessage.Message
	if err := m.Unpack(answer); err != nil {
		return m, fmt.Errorf("answer of a resolver: %w", err)
	}
	if m.RCode != dnsmessage.RCodeSuccess && m.RCode != dnsmessage.RCodeNameError {
		return m, fmt.Errorf("the resolver answered %s", strings.TrimPrefix(m.RCode.String(), "RCode"))
	}
	return m, nil
}

func addressesIn(m dnsmessage.Message, f wire.Family) []netip.Addr {
	var found []netip.Addr
	for _, r := range m.Answers {
		switch body := r.Body.(type) {
		case *dnsmessage.AResource:
			found = append(found, netip.AddrFrom4(body.A))
		case *dnsmessage.AAAAResource:
			found = append(found, netip.AddrFrom16(body.AAAA))
		}
	}
	return slices.DeleteFunc(found, func(a netip.Addr) bool { return wire.FamilyOf(a) != f })
}
