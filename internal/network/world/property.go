package world

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"woodlark.example/internal/network/world/link"
	"woodlark.example/wire"
)

// NodeProperties are what a file can say of a node and change later; exported only
// because the YAML reader cannot fill an embedded type that is not.
type NodeProperties struct {
	Up              *bool                `yaml:"up"`
	ICMP            *Manner              `yaml:"icmp"`
	Silent          *bool                `yaml:"silent"`
	ICMPLimit       *string              `yaml:"icmp_limit"`
	AnswerDelay     *string              `yaml:"answer_delay"`
	AnswerVariation *string              `yaml:"answer_variation"`
	AnswerFrom      []string             `yaml:"answer_from"`
	Hidden          *bool                `yaml:"hidden"`
	Labels          []uint32             `yaml:"labels"`
	Refuse          *Refuses             `yaml:"refuse"`
	Balance         *string              `yaml:"balance"`
	Routes          []FixedRoute         `yaml:"routes"`
	TCP             map[string]PortState `yaml:"tcp"`
	UDP             map[string]PortState `yaml:"udp"`
	Resolver        *Resolving           `yaml:"resolver"`
	ResolverDelay   *string              `yaml:"resolver_delay"`
	Records         map[string][]string  `yaml:"records"`
	Clock           *string              `yaml:"clock"`
	Skew            *string              `yaml:"skew"`
}

// FixedRoute is a route as a file gives it.
type FixedRoute struct {
	To  string `yaml:"to"`
	Via string `yaml:"via"`
}

// LinkProperties are the same of a link.
type LinkProperties struct {
	Delay      *string `yaml:"delay"`
	Variation  *string `yaml:"variation"`
	Memory     *string `yaml:"memory"`
	Loss       *string `yaml:"loss"`
	Duplicates *string `yaml:"duplicates"`
	Reorders   *string `yaml:"reorders"`
	Order      *string `yaml:"order"`
	Load       *string `yaml:"load"`
	Rate       *string `yaml:"rate"`
	Queue      *string `yaml:"queue"`
	Policer    *string `yaml:"policer"`
	MTU        *int    `yaml:"mtu"`
	TooBig     *string `yaml:"too_big"`
	Metric     *int    `yaml:"metric"`
	Linked     *bool   `yaml:"linked"`
}

// setters gathers what a place in the file sets.
type setters[T any] struct {
	r     *reader
	place string
	sets  []func(*T)
}

func (s *setters[T]) add(set func(*T)) { s.sets = append(s.sets, set) }

// read parses a text, when there is one, and adds what it sets.
func (s *setters[T]) read(key string, text *string, parse func(string) (func(*T), error)) {
	if text == nil {
		return
	}
	set, err := parse(*text)
	if err != nil {
		s.r.wrong(s.place+"."+key, "%s: %v", key, err)
		return
	}
	s.add(set)
}

// all is one function for all; nil when nothing is set.
func (s *setters[T]) all() func(*T) {
	if len(s.sets) == 0 {
		return nil
	}
	return func(to *T) {
		for _, set := range s.sets {
			set(to)
		}
	}
}

// linkSetter reads properties of a link; nil when none is given.
func (r *reader) linkSetter(place string, p LinkProperties) func(*link.Properties) {
	s := setters[link.Properties]{r: r, place: place}
	s.read("delay", p.Delay, func(text string) (func(*link.Properties), error) {
		d, err := span(text)
		return func(l *link.Properties) { l.Delay = d }, err
	})
	s.read("variation", p.Variation, func(text string) (func(*link.Properties), error) {
		v, err := variation(text)
		return func(l *link.Properties) { l.Variation = v }, err
	})
	s.read("memory", p.Memory, func(text string) (func(*link.Properties), error) {
		m, err := memory(text)
		return func(l *link.Properties) { l.Memory = m }, err
	})
	s.read("loss", p.Loss, func(text string) (func(*link.Properties), error) {
		v, err := loss(text)
		return func(l *link.Properties) { l.Loss = v }, err
	})
	s.read("duplicates", p.Duplicates, func(text string) (func(*link.Properties), error) {
		v, err := ratio(text, 1)
		return func(l *link.Properties) { l.Duplicates = v }, err
	})
	s.read("reorders", p.Reorders, func(text string) (func(*link.Properties), error) {
		part, held, err := reorders(text)
		return func(l *link.Properties) { l.Reorders, l.HeldBack = part, held }, err
	})
	s.read("load", p.Load, func(text string) (func(*link.Properties), error) {
		part, steady := strings.CutSuffix(text, " steady")
		v, err := ratio(part, 10)
		return func(l *link.Properties) { l.Load, l.Ripple = v, !steady }, err
	})
	s.read("rate", p.Rate, func(text string) (func(*link.Properties), error) {
		if text == "unlimited" {
			return func(l *link.Properties) { l.Rate = 0 }, nil
		}
		bps, err := rate(text)
		return func(l *link.Properties) { l.Rate = bps }, err
	})
	s.read("queue", p.Queue, func(text string) (func(*link.Properties), error) {
		q, err := queue(text)
		return func(l *link.Properties) { l.Queue = q }, err
	})
	s.read("policer", p.Policer, func(text string) (func(*link.Properties), error) {
		v, err := policer(text)
		return func(l *link.Properties) { l.Policer = v }, err
	})
	s.read("too_big", p.TooBig, func(text string) (func(*link.Properties), error) {
		if text != "told" && text != "swallowed" {
			return nil, fmt.Errorf("%q is neither told nor swallowed", text)
		}
		return func(l *link.Properties) { l.Swallow = text == "swallowed" }, nil
	})
	oneOf(&s, "order", p.Order, []string{"kept", "free"}, func(l *link.Properties, v string) { l.Unordered = v == "free" })
	r.linkNumbers(&s, p)
	return s.all()
}

func (r *reader) linkNumbers(s *setters[link.Properties], p LinkProperties) {
	if p.MTU != nil {
		if *p.MTU != 0 && (*p.MTU < 68 || *p.MTU > 65535) {
			r.wrong(s.place+".mtu", "mtu: %d is neither 0, for none, nor between 68 and 65535", *p.MTU)
		}
		s.add(func(l *link.Properties) { l.MTU = *p.MTU })
	}
	if p.Metric != nil {
		if *p.Metric < 1 || *p.Metric > 1_000_000 {
			r.wrong(s.place+".metric", "metric: %d is not between 1 and 1000000", *p.Metric)
		}
		s.add(func(l *link.Properties) { l.Metric = *p.Metric })
	}
	if p.Linked != nil {
		s.add(func(l *link.Properties) { l.Up = *p.Linked })
	}
}

// oneOf sets a value that must be one of a few.
func oneOf[T ~string, S any](s *setters[S], key string, value *T, allowed []T, set func(*S, T)) {
	if value == nil {
		return
	}
	if !slices.Contains(allowed, *value) {
		var names []string
		for _, a := range allowed {
			names = append(names, string(a))
		}
		s.r.wrong(s.place+"."+key, "%s %q is none of %s", key, *value, strings.Join(names, ", "))
	}
	s.add(func(to *S) { set(to, *value) })
}

// nodeSetter reads properties of a node; nil when none is given.
func (r *reader) nodeSetter(place string, node int, p NodeProperties) func(*nodeState) {
	s := setters[nodeState]{r: r, place: place}
	for _, b := range []struct {
		value *bool
		set   func(*nodeState, bool)
	}{
		{p.Up, func(n *nodeState, v bool) { n.up = v }},
		{p.Silent, func(n *nodeState, v bool) { n.silent = v }},
		{p.Hidden, func(n *nodeState, v bool) { n.hidden = v }},
	} {
		if b.value != nil {
			s.add(func(n *nodeState) { b.set(n, *b.value) })
		}
	}
	oneOf(&s, "icmp", p.ICMP, []Manner{Answers, Drops, Prohibits}, func(n *nodeState, v Manner) { n.icmp = v })
	oneOf(&s, "refuse", p.Refuse, []Refuses{RefusesNothing, Unreachable, Prohibited}, func(n *nodeState, v Refuses) { n.refuse = v })
	oneOf(&s, "balance", p.Balance, []string{"flow", "packet"}, func(n *nodeState, v string) { n.perPacket = v == "packet" })
	oneOf(&s, "resolver", p.Resolver, []Resolving{NoResolver, ResolverGood, ResolverFails, ResolverSilent, ResolverDenies}, func(n *nodeState, v Resolving) { n.resolver = v })
	r.answering(&s, p)
	r.services(&s, p)
	if p.Routes != nil {
		routes := r.fixedRoutes(place, node, p.Routes)
		s.add(func(n *nodeState) { n.routes = routes })
	}
	return s.all()
}

// answering is how a node sends ICMP of its own, and its clock.
func (r *reader) answering(s *setters[nodeState], p NodeProperties) {
	s.read("icmp_limit", p.ICMPLimit, func(text string) (func(*nodeState), error) {
		limit, burst, err := allowance(text)
		return func(n *nodeState) { n.limit, n.burst = limit, burst }, err
	})
	s.read("answer_delay", p.AnswerDelay, func(text string) (func(*nodeState), error) {
		d, err := span(text)
		return func(n *nodeState) { n.answerDelay = d }, err
	})
	s.read("answer_variation", p.AnswerVariation, func(text string) (func(*nodeState), error) {
		v, err := variation(text)
		return func(n *nodeState) { n.answerVariation = v }, err
	})
	s.read("resolver_delay", p.ResolverDelay, func(text string) (func(*nodeState), error) {
		d, err := span(text)
		return func(n *nodeState) { n.resolverDelay = d }, err
	})
	s.read("clock", p.Clock, func(text string) (func(*nodeState), error) {
		d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
		if err != nil {
			err = fmt.Errorf("%q is not an offset such as \"+350ms\"", text)
		}
		return func(n *nodeState) { n.offset = d }, err
	})
	s.read("skew", p.Skew, func(text string) (func(*nodeState), error) {
		v, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(text, "ppm")), 64)
		if err != nil || !strings.HasSuffix(text, "ppm") || v < -1000 || v > 1000 {
			err = fmt.Errorf("%q is not a skew such as \"20ppm\", at most 1000", text)
		}
		return func(n *nodeState) { n.skew = v / 1e6 }, err
	})
	if p.AnswerFrom != nil {
		from := r.addresses(s.place+".answer_from", p.AnswerFrom)
		s.add(func(n *nodeState) { n.answerFrom = from })
	}
	if p.Labels != nil {
		var labels []wire.Label
		for i, v := range p.Labels {
			if v >= 1<<20 {
				r.wrong(fmt.Sprintf("%s.labels[%d]", s.place, i), "label %d is not below %d", v, 1<<20)
			}
			labels = append(labels, wire.Label{Value: v, TTL: 1})
		}
		s.add(func(n *nodeState) { n.labels = labels })
	}
}

func (r *reader) addresses(place string, texts []string) []netip.Addr {
	var out []netip.Addr
	for i, text := range texts {
		a, err := netip.ParseAddr(text)
		if err != nil {
			r.wrong(fmt.Sprintf("%s[%d]", place, i), "%q is not an IP address", text)
			continue
		}
		out = append(out, a)
	}
	return out
}

// services are a host's ports and records.
func (r *reader) services(s *setters[nodeState], p NodeProperties) {
	if p.TCP != nil {
		tcp := r.ports(s.place+".tcp", p.TCP)
		s.add(func(n *nodeState) { n.tcp = tcp })
	}
	if p.UDP != nil {
		udp := r.ports(s.place+".udp", p.UDP)
		s.add(func(n *nodeState) { n.udp = udp })
	}
	if p.Records != nil {
		records := map[string][]netip.Addr{}
		for name, texts := range p.Records {
			records[strings.ToLower(strings.TrimSuffix(name, "."))] = r.addresses(s.place+".records."+name, texts)
		}
		s.add(func(n *nodeState) { n.records = records })
	}
}

func (r *reader) ports(place string, texts map[string]PortState) ports {
	var out ports
	for text, state := range texts {
		first, last, isRange := strings.Cut(text, "-")
		if !isRange {
			last = first
		}
		a, err1 := strconv.ParseUint(strings.TrimSpace(first), 10, 16)
		b, err2 := strconv.ParseUint(strings.TrimSpace(last), 10, 16)
		if err1 != nil || err2 != nil || a > b {
			r.wrong(place, "%q is neither a port nor a range of ports such as \"8000-8099\"", text)
		}
		if !slices.Contains([]PortState{Open, Echoes, Reflects, Closed, Filtered, Rejected}, state) {
			r.wrong(place, "port %s: %q is none of open, echo, reflect, closed, filtered, rejected", text, state)
		}
		out = append(out, portRange{uint16(a), uint16(b), state})
	}
	// The narrower range goes before, so that it can make an exception.
	slices.SortFunc(out, func(a, b portRange) int {
		return (int(a.last)-int(a.first)-int(b.last)+int(b.first))<<20 + int(a.first) - int(b.first)
	})
	return out
}

func (r *reader) fixedRoutes(place string, node int, routes []FixedRoute) []fixedRoute {
	var out []fixedRoute
	for i, f := range routes {
		at := fmt.Sprintf("%s.routes[%d]", place, i)
		via, err := r.m.Find(f.Via)
		if err != nil {
			r.wrong(at+".via", "%v", err)
			continue
		}
		var over []int32
		for d, l := range r.m.links {
			if l.from == node && l.to == via {
				over = append(over, int32(d))
			}
		}
		if len(over) == 0 {
			r.wrong(at+".via", "%q is no neighbour of %q", f.Via, r.m.nodes[node].Name)
			continue
		}
		prefixes, err := r.routePrefixes(f.To)
		if err != nil {
			r.wrong(at+".to", "%v", err)
		}
		for _, p := range prefixes {
			out = append(out, fixedRoute{p, over})
		}
	}
	return out
}

// routePrefixes is where a fixed route leads: a prefix, or all the addresses of
// a node.
func (r *reader) routePrefixes(to string) ([]netip.Prefix, error) {
	if p, err := netip.ParsePrefix(to); err == nil {
		return []netip.Prefix{p.Masked()}, nil
	}
	n, err := r.m.Find(to)
	if err != nil {
		return nil, fmt.Errorf("%q is neither a prefix nor a node", to)
	}
	var out []netip.Prefix
	for _, a := range r.m.nodes[n].Addresses {
		out = append(out, netip.PrefixFrom(a, a.BitLen()))
	}
	return out, nil
}
