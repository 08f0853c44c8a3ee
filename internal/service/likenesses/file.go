package likenesses

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/likeness"
	"woodlark.example/core/reading"
	"woodlark.example/wire"
)

// file is a world file under way.
type file struct {
	from, to       string // agent and target
	family         wire.Family
	via            string
	source, target string // addresses, where a trace told them
	what           string
	by             []string // what it was made of
	names          map[string]bool
	taken          map[netip.Addr]bool
	b              strings.Builder
}

// node is one in the file.
type node struct {
	name, address string
	rest          string
}

func (f *file) near() string { return name(f.from, "here") }

func (f *file) far() string {
	far := name(f.to, "there")
	if far == f.near() {
		far += "-far"
	}
	return far
}

// name is what a host of a world can be called.
func name(text, otherwise string) string {
	text = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(text), "."))
	ok := text != "" && len(text) <= 253
	for _, r := range text {
		ok = ok && (r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '.')
	}
	if _, err := netip.ParseAddr(text); err == nil || !ok || strings.Trim(text, "-.") != text {
		return otherwise
	}
	return text
}

// write is the file.
func (f *file) write(l *likeness.Likeness) string {
	f.names, f.taken = map[string]bool{}, map[netip.Addr]bool{}
	f.line("# What %s was like.", f.what)
	for _, by := range f.by {
		f.line("#   by %s", by)
	}
	if len(l.Notes) > 0 {
		f.line("#\n# What was not measured, and how it is given:")
	}
	for _, n := range l.Notes {
		f.line("#   %s", n)
	}
	f.line("\nworld: %q", f.what)
	f.line("nodes:")
	nodes := f.nodes(l)
	for _, n := range nodes {
		f.line("  - {name: %s, addresses: [%q]%s}", n.name, n.address, n.rest)
	}
	f.line("links:")
	links := l.Hops
	if len(links) == 0 {
		links = []likeness.Link{{ThereMs: l.There.DelayMs, BackMs: l.Back.DelayMs}}
	}
	for i, x := range links {
		there, back := "delay: "+span(x.ThereMs), "delay: "+span(x.BackMs)
		if i == len(links)-1 { // see the likeness's notes
			there, back = there+properties(&l.There), back+properties(&l.Back)
			if l.MTU > 0 {
				there, back = there+fmt.Sprintf(", mtu: %d", l.MTU), back+fmt.Sprintf(", mtu: %d", l.MTU)
			}
		}
		f.line("  - between: [%s, %s]", nodes[i].name, nodes[i+1].name)
		f.line("    toward:")
		f.line("      %s: {%s}", nodes[i+1].name, there)
		f.line("      %s: {%s}", nodes[i].name, back)
	}
	f.changes(l, nodes)
	return f.b.String()
}

func (f *file) line(format string, args ...any) {
	fmt.Fprintf(&f.b, format+"\n", args...)
}

// changes are the outages, at the same moments after the start.
func (f *file) changes(l *likeness.Likeness, nodes []node) {
	from, to := nodes[len(nodes)-2].name, nodes[len(nodes)-1].name
	first := true
	for _, d := range []struct {
		list   []likeness.Outage
		toward string
	}{{l.There.Outages, to}, {l.Back.Outages, from}} {
		for _, o := range d.list {
			if first {
				f.line("changes:")
				first = false
			}
			f.line("  - {link: [%s, %s], toward: %s, from: start+%s, until: start+%s, set: {loss: 100%%}}", from, to, d.toward, seconds(o.FromS), seconds(o.ToS))
		}
	}
}

func seconds(s float64) string { return time.Duration(s * 1e9).Round(time.Millisecond).String() }

// nodes are the two hosts and the routers between them.
func (f *file) nodes(l *likeness.Likeness) (list []node) {
	for _, h := range l.Hops { // addresses that are known are not given to others
		if a, err := netip.ParseAddr(h.Address); err == nil {
			f.taken[a.Unmap()] = true
		}
	}
	for _, text := range []string{f.source, f.target} {
		if a, err := netip.ParseAddr(text); err == nil {
			f.taken[a.Unmap()] = true
		}
	}
	f.names[f.near()], f.names[f.far()] = true, true
	list = append(list, node{name: f.near(), address: f.address(f.source)})
	for i, h := range l.Hops {
		if i == len(l.Hops)-1 {
			break
		}
		n := node{name: f.unique(name(h.Name, ""), i+1), address: f.address(h.Address), rest: ", router: true"}
		if h.Address == "" {
			n.rest += ", silent: true"
		}
		list = append(list, n)
	}
	target := f.target
	if target == "" {
		if a, err := netip.ParseAddr(f.to); err == nil {
			target = a.String()
		}
	}
	return append(list, node{name: f.far(), address: f.address(target), rest: f.port()})
}

// unique is the name of a hop; one that another has, or none, is told apart by its number.
func (f *file) unique(n string, ttl int) string {
	if n == "" {
		n = "hop-" + strconv.Itoa(ttl)
	}
	for f.names[n] {
		n = strings.TrimSuffix(n, ".") + "-" + strconv.Itoa(ttl)
	}
	f.names[n] = true
	return n
}

// address is one that is known, or else one for documentation that nobody else has (RFC 5737, RFC 3849).
func (f *file) address(text string) string {
	if a, err := netip.ParseAddr(text); err == nil {
		return a.Unmap().WithZone("").String()
	}
	a := netip.MustParseAddr("192.0.2.1")
	if f.family == wire.IPv6 {
		a = netip.MustParseAddr("2001:db8::1")
	}
	for f.taken[a] {
		a = a.Next()
	}
	f.taken[a] = true
	return a.String()
}

// port is what the path is asked at, which answers.
func (f *file) port() string {
	v, err := reading.ParseVia(f.via)
	if err != nil || v.Port == 0 {
		return ""
	}
	transport, _, _ := strings.Cut(f.via, ":")
	switch transport {
	case "tcp":
		return fmt.Sprintf(", tcp: {%d: open}", v.Port)
	case "udp":
		return fmt.Sprintf(", udp: {%d: echo}", v.Port)
	}
	return fmt.Sprintf(", udp: {%d: reflect}", v.Port)
}

// span is a time as world files have it, to the nanosecond.
func span(ms float64) string { return time.Duration(ms * 1e6).String() }

func percent(part float64) string { return strconv.FormatFloat(part*100, 'g', 6, 64) + "%" }

// properties are those of a direction beside its delay.
func properties(d *likeness.Direction) string {
	var b strings.Builder
	add := func(format string, args ...any) { fmt.Fprintf(&b, ", "+format, args...) }
	if len(d.Varies) > 0 {
		var bins []string
		for _, x := range d.Varies {
			bins = append(bins, fmt.Sprintf("%s-%s:%s", span(x.FromMs), span(x.ToMs), strconv.FormatFloat(x.Part*100, 'g', 6, 64)))
		}
		add("variation: %q", "histogram "+strings.Join(bins, " "))
		if d.MemoryMs > 0 && d.MemoryShare > 0 {
			memory := span(d.MemoryMs)
			if d.MemoryShare < 1 {
				memory += " share " + percent(d.MemoryShare)
			}
			add("memory: %q", memory)
		}
	}
	switch {
	case d.LossEvery > 0:
		add("loss: every %d", d.LossEvery)
	case d.LossRun > 0 && d.LossRatio > 0 && d.LossRatio < 1:
		leave := 1 / d.LossRun
		add("loss: bursts enter %s leave %s", percent(min(1, d.LossRatio*leave/(1-d.LossRatio))), percent(leave))
	case d.LossRatio > 0:
		add("loss: %s", percent(d.LossRatio))
	}
	if d.Duplicates > 0 {
		add("duplicates: %s", percent(d.Duplicates))
	}
	if d.Reorders > 0 && d.HeldMs > 0 {
		add("reorders: %s %s", percent(d.Reorders), span(d.HeldMs))
	}
	switch {
	case d.RateBps > 0 && d.Policed:
		add("policer: %sbit/s 64kB", strconv.FormatFloat(d.RateBps, 'f', 0, 64))
	case d.RateBps > 0:
		add("rate: %sbit/s", strconv.FormatFloat(d.RateBps, 'f', 0, 64))
		if d.QueueMs > 0 {
			add("queue: %s", span(d.QueueMs))
		}
	}
	return b.String()
}
