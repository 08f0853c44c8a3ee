package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"woodlark.example/internal/client"
	standing "woodlark.example/internal/host"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world/link"
	"woodlark.example/internal/report/document"
)

var hereCommand = command{
	name: "here", summary: "this machine's own standing: addresses, gateway, neighbours, resolvers, clock",
	usage: "[options] [TARGET]", example: "woodlark here\nwoodlark here 127.0.0.1\nwoodlark here -port 22\n" +
		"woodlark here -world demo/skerry.yaml -from ops.northquay.example -walk -port 443 app.ticketing.example",
	more: "With a target: which address this machine would use towards it, and through which\ngateway. With -walk it goes there from near to far: neighbour, gateway, resolver, the\n" +
		"target by its address, by its name and by -port, and says where it breaks. It ends with\nstatus 1 when there is no way, nothing listens at the port, or the walk finds a fault.",
	run: runHere,
}

// hereResult is what the command finds out.
type hereResult struct {
	standing.Standing
	Ways      []standing.Way      `json:"ways,omitempty"`
	Listeners []standing.Listener `json:"listeners,omitempty"`
}

func runHere(c *call) error {
	var walks bool
	k := kind.All()[slices.IndexFunc(kind.All(), func(k *kind.Kind) bool { return k.Here })]
	c.flags.BoolVar(&walks, k.Name, false, "go to the target from near to far, and say where it breaks; as 'woodlark "+k.Name+"' does, whose options go with it")
	m := &measuring{call: c, kind: k, spec: k.New(kind.ByHand)}
	m.register()
	c.flags.Lookup("port").Usage = "who listens at this port here; with -" + k.Name + ", a TCP port of the target"
	if err := c.parse(); err != nil {
		return err
	}
	if walks {
		return m.run()
	}
	port, err := strconv.Atoi(c.flags.Lookup("port").Value.String())
	if err != nil {
		port = 0
	}
	switch {
	case len(c.args) > 1:
		return wrongCall("%q is one target too many", short(c.args[1]))
	case c.format == "csv":
		return wrongCall("-format csv does not fit what this command shows; use text or json")
	}
	if given := c.given("world", "address", "background", "family", "probes", "every", "wait"); len(given) > 0 {
		return wrongCall("%s: for -walk only", joined(given))
	}
	switch {
	case m.from != "" && (port > 0 || len(c.args) > 0):
		return wrongCall("-from tells where an agent stands; with a target it needs -walk")
	case m.from != "":
		return c.hereThere(m.from)
	}
	own, err := standing.Read()
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	r := hereResult{Standing: own}
	var missing error
	if len(c.args) == 1 {
		r.Ways, missing = c.waysToward(c.args[0])
	}
	if port > 0 {
		if r.Listeners, err = standing.Listening(port); err != nil {
			return exit{exitUnmeasured, err}
		}
		if len(r.Listeners) == 0 {
			missing = errors.Join(missing, fmt.Errorf("nothing listens at port %d here", port))
		}
	}
	if c.format == "json" {
		err = document.JSON(c.out, r)
	} else {
		err = c.writeHere(r)
	}
	if err != nil {
		return err
	}
	if missing != nil {
		return exit{exitNotGood, missing}
	}
	return nil
}

// hereThere tells where an agent of the service stands.
func (c *call) hereThere(agent string) error {
	api, err := c.client()
	if err != nil {
		return err
	}
	var r hereResult
	if err := api.Get(c.ctx, "/agents/"+client.Segment(agent)+"/standing", nil, &r.Standing); err != nil {
		return err
	}
	if c.format == "json" {
		return document.JSON(c.out, r)
	}
	return c.writeHere(r)
}

// waysToward is the way to each address of a target.
func (c *call) waysToward(target string) ([]standing.Way, error) {
	addrs := []netip.Addr{}
	if a, err := netip.ParseAddr(target); err == nil {
		addrs = append(addrs, a)
	} else {
		found, err := kernel.Host().Lookup(c.ctx, target, 0)
		if err != nil {
			return nil, err
		}
		addrs = found.Addrs
	}
	var ways []standing.Way
	var errs []error
	for _, a := range addrs {
		w, err := standing.Toward(a)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		ways = append(ways, w)
	}
	return ways, errors.Join(errs...)
}

func (c *call) writeHere(r hereResult) error {
	put := func(name, format string, args ...any) {
		fmt.Fprintf(c.out, "%-13s %s\n", name, fmt.Sprintf(format, args...))
	}
	put("Host", "%s", c.strong(r.Host))
	for _, w := range r.Ways {
		through := "on the link itself"
		if w.Gateway != "" {
			through = "through " + w.Gateway
		}
		put("Way", "to %s from %s by %s, %s, MTU %d", c.strong(w.Target), w.Source, w.Interface, through, w.MTU)
	}
	for _, l := range r.Listeners {
		put("Listens", "%s port %d at %s", strings.ToUpper(l.Protocol), l.Port, orAll(l.Address))
	}
	for _, i := range r.Interfaces {
		put("Interface", "%s  %s", c.strong(i.Name), interfaceText(i))
		for _, a := range i.Addresses {
			put("", "%s", a)
		}
	}
	for _, g := range r.Gateways {
		put("Gateway", "%s", gatewayText(g))
	}
	if len(r.Gateways) == 0 {
		put("Gateway", "none: this machine reaches only its own links")
	}
	for _, n := range r.Neighbours {
		put("Neighbour", "%s  %s  on %s, %s", n.Address, orNone(n.Hardware), n.Interface, n.State)
	}
	put("Resolvers", "%s", orNone(strings.Join(r.Resolvers, ", ")))
	if len(r.Search) > 0 {
		put("Search list", "%s", strings.Join(r.Search, ", "))
	}
	put("Clock", "%s", clockText(r.Clock))
	var may []string
	for _, s := range r.Sockets {
		if s.Allowed {
			may = append(may, s.Kind)
		}
	}
	put("May use", "%s", orNone(strings.Join(may, "; ")))
	for _, s := range r.Sockets {
		switch {
		case s.Allowed:
		case s.Grant != "":
			put("May not use", "%s; granted by: %s", s.Kind, s.Grant)
		default:
			put("May not use", "%s", s.Kind)
		}
	}
	return nil
}

func interfaceText(i standing.Interface) string {
	parts := []string{"up"}
	if !i.Up {
		parts[0] = "set down"
	} else if i.Carrier != "up" && i.Carrier != "unknown" {
		parts[0] = "up, its link is " + i.Carrier
	}
	if i.SpeedBPS != nil {
		parts = append(parts, link.RateText(*i.SpeedBPS))
	}
	parts = append(parts, fmt.Sprintf("MTU %d", i.MTU))
	if i.Hardware != "" {
		parts = append(parts, i.Hardware)
	}
	for _, x := range []struct {
		n    uint64
		says string
	}{{i.ReceiveErrors, "errors receiving"}, {i.SendErrors, "errors sending"}, {i.ReceiveDrops, "dropped receiving"}, {i.SendDrops, "dropped sending"}} {
		if x.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", x.n, x.says))
		}
	}
	return strings.Join(parts, ", ")
}

func gatewayText(g standing.Gateway) string {
	if g.Address == "" {
		return fmt.Sprintf("IPv%d: the link of %s itself", g.Family, g.Interface)
	}
	text := fmt.Sprintf("IPv%d: %s on %s", g.Family, g.Address, g.Interface)
	switch g.Neighbour {
	case "":
		return text + ", not asked for yet"
	case "failed", "incomplete":
		return text + ", its neighbour entry does not resolve"
	}
	return text + ", resolved (" + g.Neighbour + ")"
}

func clockText(k standing.Clock) string {
	switch {
	case !k.Known:
		return "the kernel does not tell"
	case !k.Synchronised:
		return "not synchronised: one-way figures of this machine are relative"
	}
	return fmt.Sprintf("synchronised, to within %.3g ms as it believes", *k.ErrorMs)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func orAll(s string) string {
	if s == "" {
		return "all addresses"
	}
	return s
}
