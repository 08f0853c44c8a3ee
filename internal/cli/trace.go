package cli

import (
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"time"

	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/internal/report"
)

var traceCommand = command{
	name: "trace", summary: "the route, its branches, and delay and carried loss along it",
	usage: "[options] TARGET …",
	example: "woodlark trace -world demo/skerry.yaml -from ops.northquay.example terminal.holm.example\n" +
		"woodlark trace -from northquay terminal.ternpoint.example            (through the demo's service)\n" +
		"woodlark trace -world learn:every-other-call-is-bad -from desk.northquay.example -probes 300 -every 100ms terminal.holm.example",
	more: "Loss and delay count where they carry on to the target: a router that spares its own\n" +
		"answers loses nothing. Branches are looked for until each hop's are found with 95 %\n" +
		"confidence. Without the right to make packets of its own, -via udp works all the same.\n" +
		"-owners is a CSV file of lines 'prefix, owner, kind'; kind is ours, access, transit or\n" +
		"far end. -compare takes last, baseline (with -from an agent) or a file that\n" +
		"-format json wrote.",
	run: runTrace,
}

type traceOptions struct {
	from, world, family, dscp, via, source, iface string
	owners, compare, capture                      string
	probes, payload, last, first, silent, retries int
	every, wait, duration                         time.Duration
	one, mtu, names, both, live, apart            bool
	all                                           bool

	kind    reading.Via
	start   netip.Addr
	table   route.Owners
	earlier *finding.TraceReport
}

func (o *traceOptions) register(f *flag.FlagSet) {
	f.StringVar(&o.from, "from", "", "agent of the service to trace from, or with -world the host; this machine when left out")
	f.StringVar(&o.world, "world", "", "file of a simulated network to trace in, or learn:NAME")
	f.StringVar(&o.via, "via", "icmp", "by what: icmp, udp, udp:PORT or tcp:PORT")
	f.StringVar(&o.family, "family", "", "4, 6 or both; of targets that are names (default 4, else 6)")
	f.IntVar(&o.probes, "probes", 5, "probes to each hop once the route is known; the flows take turns")
	f.DurationVar(&o.duration, "for", 0, "how long to measure, instead of -probes")
	f.DurationVar(&o.every, "every", time.Second, "time between probes to a hop; many routers answer one a second")
	f.DurationVar(&o.wait, "wait", time.Second, "how long to wait for an answer")
	f.IntVar(&o.payload, "payload", trace.DefaultPayload, "bytes after the ICMP or UDP header")
	f.StringVar(&o.dscp, "dscp", "", "service class, by name such as EF or by number")
	f.IntVar(&o.last, "ttl", trace.DefaultLast, "the largest TTL or hop limit, 1 to 255")
	f.IntVar(&o.first, "first", 1, "the TTL or hop limit to begin with")
	f.IntVar(&o.silent, "silent", trace.DefaultSilent, "hops in a row without an answer that end it")
	f.IntVar(&o.retries, "retries", trace.DefaultRetries, "more probes to a hop that is silent")
	f.BoolVar(&o.one, "one-flow", false, "follow one flow and look for no branches")
	f.BoolVar(&o.mtu, "path-mtu", false, "find the largest packet that each hop gets, too")
	f.BoolVar(&o.names, "names", true, "look up the names of hops")
	f.StringVar(&o.owners, "owners", "", "CSV file of prefixes and who has them")
	f.BoolVar(&o.both, "both-ways", false, "trace back from the target at the same time, where an agent (or with -world its host) stands")
	f.StringVar(&o.compare, "compare", "", "with last, baseline, or a FILE that -format json wrote")
	f.StringVar(&o.capture, "capture", "", "pcapng file to write the probes and their answers into")
	f.StringVar(&o.source, "source", "", "address of this machine to send from")
	f.StringVar(&o.iface, "interface", "", "interface to send by")
	f.BoolVar(&o.live, "live", false, "draw it as it goes, also when it is short")
	f.BoolVar(&o.apart, "background", false, "with -from: start it at the agent and do not wait")
}

func runTrace(c *call) error {
	var o traceOptions
	c.withFormat()
	c.flags.Lookup("format").Usage = "text, json or csv; dot or graphml for the graph of hops"
	c.formats = []string{"dot", "graphml"}
	c.withService()
	o.register(c.flags)
	if err := c.parse(); err != nil {
		return err
	}
	if err := o.check(c); err != nil {
		return err
	}
	if o.from != "" && o.world == "" {
		return c.traceThere(o)
	}
	return c.traceHere(o)
}

func (o *traceOptions) check(c *call) error {
	set := map[string]bool{}
	c.flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	switch {
	case len(c.args) == 0:
		return wrongCall("name at least one target")
	case set["for"] && set["probes"]:
		return wrongCall("-for and -probes exclude each other")
	case set["for"] && o.duration <= 0:
		return wrongCall("-for %v is not above zero", o.duration)
	case o.every < time.Millisecond:
		return wrongCall("-every %v is less than 1ms", o.every)
	case o.wait <= 0 || o.wait > time.Minute:
		return wrongCall("-wait %v is not between 0 and 1m", o.wait)
	case o.probes < 0 || o.probes > 1_000_000:
		return wrongCall("-probes %d is not between 0 and 1,000,000", o.probes)
	case o.payload < trace.LeastPayload || o.payload > 1400:
		return wrongCall("-payload %d is not between %d bytes (it carries the mark by which an answer is known) and 1400; -path-mtu looks for larger ones", o.payload, trace.LeastPayload)
	case o.last < 1 || o.last > trace.MaxTTL:
		return wrongCall("-ttl %d is not between 1 and %d", o.last, trace.MaxTTL)
	case o.first < 1 || o.first > o.last:
		return wrongCall("-first %d is not between 1 and -ttl, %d", o.first, o.last)
	case o.silent < 1:
		return wrongCall("-silent %d is not above zero", o.silent)
	case o.retries < 1 || o.retries > 20:
		return wrongCall("-retries %d is not between 1 and 20", o.retries)
	case o.family != "" && o.family != "4" && o.family != "6" && o.family != "both":
		return wrongCall("-family %q is none of 4, 6, both", short(o.family))
	case o.world != "" && o.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	case o.apart && (o.from == "" || o.world != ""):
		return wrongCall("-background leaves a trace to a service: name its agent with -from")
	case o.both && o.from == "":
		return wrongCall("-both-ways needs somebody at the target who traces back: an agent (name the service's agent to trace from with -from), or a host of a -world")
	case o.compare == "baseline" && (o.from == "" || o.world != ""):
		return wrongCall("a baseline is kept by a service: name its agent with -from, or compare with last or a file")
	}
	if err := o.readOptions(c); err != nil {
		return err
	}
	return c.checkTargets()
}

// readOptions reads what needs more than a look.
func (o *traceOptions) readOptions(c *call) (err error) {
	if o.kind, err = traceVia(o.via); err != nil {
		return err
	}
	if o.source != "" {
		if o.start, err = netip.ParseAddr(o.source); err != nil {
			return wrongCall("-source %q is not an IP address", short(o.source))
		}
	}
	if _, err := dscp.Parse(o.dscp); err != nil {
		return wrongCall("%v", err)
	}
	if o.owners != "" {
		if o.table, err = readOwners(o.owners); err != nil {
			return err
		}
	}
	if o.compare != "" && o.compare != "last" && o.compare != "baseline" {
		r, err := readTrace(o.compare)
		if err != nil {
			return err
		}
		o.earlier = &r
	}
	if o.capture != "" {
		if _, err := os.Lstat(o.capture); err == nil {
			return wrongCall("-capture %s is there already; name another file, or remove it", o.capture)
		}
	}
	return nil
}

// traceVia reads the kind of probe.
func traceVia(text string) (reading.Via, error) {
	if text == "udp" {
		return reading.Via{Kind: reading.ByUDP, Port: trace.DefaultPort}, nil
	}
	list, err := reading.ParseVias(text)
	switch {
	case err != nil:
		return reading.Via{}, wrongCall("-via: %v", err)
	case len(list) != 1 || !slices.Contains([]reading.Kind{reading.ByICMP, reading.ByUDP, reading.ByTCP}, list[0].Kind):
		return reading.Via{}, wrongCall("-via %s: a trace goes by one of icmp, udp, udp:PORT, tcp:PORT", short(text))
	}
	return list[0], nil
}

func readOwners(name string) (route.Owners, error) {
	f, err := os.Open(name)
	if err != nil {
		return route.Owners{}, wrongCall("read the owners of prefixes: %v", err)
	}
	defer f.Close()
	table, err := route.ParseOwners(f)
	if err != nil {
		return table, wrongCall("%s: %v", name, err)
	}
	return table, nil
}

// socket is how the probes leave.
func (o *traceOptions) socket() network.SocketOptions {
	return network.SocketOptions{Source: o.start, Interface: o.iface}
}

// writeTraces writes results, and returns the status to end with.
func (c *call) writeTraces(list []finding.TraceReport, failed []error) error {
	var err error
	switch c.format {
	case "json":
		if len(list) == 1 && len(failed) == 0 {
			err = report.JSON(c.out, list[0])
		} else {
			err = report.JSON(c.out, list)
		}
	case "csv":
		err = report.TraceCSV(c.out, list)
	case "dot":
		err = report.TraceDOT(c.out, list)
	case "graphml":
		err = report.TraceGraphML(c.out, list)
	default:
		for i, r := range list {
			if i > 0 {
				fmt.Fprintln(c.out)
			}
			if err = report.Trace(c.out, c.ink, r, zone()); err != nil {
				return err
			}
		}
	}
	switch {
	case err != nil:
		return err
	case len(failed) > 0:
		return exit{exitUnmeasured, joinErrors(failed)}
	}
	for _, r := range list {
		bad := !r.Reached || r.Compared != nil && r.Compared.Changed
		for _, f := range r.Findings {
			bad = bad || f.Bad()
		}
		if bad {
			return exit{status: exitNotGood}
		}
	}
	return nil
}
