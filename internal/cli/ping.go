package cli

import (
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"woodlark.example/core/dscp"
	"woodlark.example/core/finding"
	"woodlark.example/core/objective"
	"woodlark.example/core/reading"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/ping"
	"woodlark.example/internal/report"
)

var pingCommand = command{
	name: "ping", summary: "reachability, round-trip time, jitter and loss to one or more targets",
	usage: "[options] TARGET …",
	example: "woodlark ping -probes 50 -every 20ms 127.0.0.1 ::1\nwoodlark ping -from northquay terminal.holm.example       (through the demo's service)\n" +
		"woodlark ping -world demo/skerry.yaml -from ops.northquay.example terminal.holm.example\n" +
		"woodlark ping -world learn:ping-says-dead -from desk.northquay.example -via icmp,tcp:443 terminal.holm.example",
	more: "Several kinds of -via are sent at the same time and printed side by side, and so are\n" +
		"the families and addresses of one name. At a terminal a run of 10 s or more is drawn\n" +
		"as it goes: 's' prints the summary so far, Ctrl-C ends it and keeps what there is.",
	run: runPing,
}

type pingOptions struct {
	from, world, family, dscp, file      string
	via, source, iface, objective        string
	stampKey                             string
	probes, payload, ttl                 int
	every, wait, duration                time.Duration
	random, all, whole, mtu, live, apart bool
	seed                                 uint64
	targets                              []string
	bad                                  []error // lines of the file that name no target

	vias  []reading.Via
	goal  *objective.Objective
	start netip.Addr // source
}

func runPing(c *call) error {
	var o pingOptions
	c.withFormat()
	c.flags.Lookup("format").Usage = "text, json or csv; ndjson for each probe as its fate is known"
	c.formats = []string{"ndjson"}
	c.withService()
	o.register(c.flags)
	if err := c.parse(); err != nil {
		return err
	}
	if err := o.check(c); err != nil {
		return err
	}
	if err := c.ping(o); err != nil && (len(o.bad) == 0 || err.Error() != "") {
		return err
	}
	if len(o.bad) > 0 {
		return exit{exitUnmeasured, fmt.Errorf("the rest was measured, but %w", errors.Join(o.bad...))}
	}
	return nil
}

func (c *call) ping(o pingOptions) error {
	if o.from != "" && o.world == "" {
		if c.format == "ndjson" {
			return wrongCall("-format ndjson is not for a measurement at an agent")
		}
		return c.pingThere(o)
	}
	results, err := c.pingHere(o)
	if err != nil {
		return err
	}
	if err := c.writePing(results); err != nil {
		return err
	}
	return pingStatus(results)
}

func (o *pingOptions) register(f *flag.FlagSet) {
	f.StringVar(&o.from, "from", "", "agent of the service to measure from, or with -world the host; this machine when left out")
	f.StringVar(&o.world, "world", "", "file of a simulated network to measure in, or learn:NAME")
	f.StringVar(&o.file, "file", "", "file with more targets, one a line; - is standard input")
	f.StringVar(&o.via, "via", "icmp", "by what: icmp, tcp:PORT, udp:PORT, stamp; several with commas, to compare them")
	f.StringVar(&o.stampKey, "stamp-key", "", "with -via stamp: key of STAMP's authenticated mode")
	f.StringVar(&o.family, "family", "", "4, 6 or both; of targets that are names (default 4, else 6)")
	f.BoolVar(&o.all, "all-addresses", false, "measure every address of a name, not the first")
	f.IntVar(&o.probes, "probes", 10, "probes to send to each target")
	f.DurationVar(&o.duration, "for", 0, "how long to send, instead of -probes")
	f.DurationVar(&o.every, "every", 200*time.Millisecond, "time between probes to a target")
	f.DurationVar(&o.wait, "wait", 2*time.Second, "how long to wait for an answer")
	f.IntVar(&o.payload, "payload", ping.DefaultPayload, "bytes after the ICMP or UDP header")
	f.BoolVar(&o.whole, "dont-fragment", false, "refuse probes that do not fit instead of cutting them up")
	f.BoolVar(&o.mtu, "path-mtu", false, "search for the largest packet that arrives whole, too")
	f.StringVar(&o.dscp, "dscp", "", "service class, by name such as EF or by number")
	f.IntVar(&o.ttl, "ttl", 0, "TTL or hop limit, 1 to 255; the system's when left out")
	f.StringVar(&o.source, "source", "", "address of this machine to send from")
	f.StringVar(&o.iface, "interface", "", "interface to send by")
	f.BoolVar(&o.random, "random", false, "random intervals (Poisson) instead of even ones")
	f.Uint64Var(&o.seed, "seed", 1, "of the random intervals")
	f.StringVar(&o.objective, "objective", "", "judge by this objective, such as voice")
	f.BoolVar(&o.live, "live", false, "draw it as it goes, also when it is short")
	f.BoolVar(&o.apart, "background", false, "with -from: start it at the agent and do not wait")
}

func (o *pingOptions) check(c *call) error {
	set := map[string]bool{}
	c.flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	var err error
	switch {
	case len(c.args) == 0 && o.file == "":
		return wrongCall("name at least one target, or a -file of them")
	case set["for"] && set["probes"]:
		return wrongCall("-for and -probes exclude each other")
	case o.every <= 0:
		return wrongCall("-every %v is not above zero", o.every)
	case o.every < time.Millisecond:
		return wrongCall("-every %v is less than 1ms", o.every)
	case set["for"] && o.duration <= 0:
		return wrongCall("-for %v is not above zero", o.duration)
	case o.wait <= 0 || o.wait > time.Minute:
		return wrongCall("-wait %v is not between 0 and 1m", o.wait)
	case o.payload < ping.MinPayload || o.payload > 65000:
		return wrongCall("-payload %d is not between %d bytes (it carries the mark by which an answer is known) and 65000", o.payload, ping.MinPayload)
	case o.ttl < 0 || o.ttl > 255:
		return wrongCall("-ttl %d is not between 1 and 255", o.ttl)
	case o.family != "" && o.family != "4" && o.family != "6" && o.family != "both":
		return wrongCall("-family %q is none of 4, 6, both", short(o.family))
	case o.world != "" && o.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	case o.apart && (o.from == "" || o.world != ""):
		return wrongCall("-background leaves a measurement to a service: name its agent with -from")
	}
	if o.vias, err = reading.ParseVias(o.via); err != nil {
		return wrongCall("-via: %v", err)
	}
	if o.stampKey != "" && !slices.ContainsFunc(o.vias, func(v reading.Via) bool { return v.Kind == reading.ByStamp }) {
		return wrongCall("-stamp-key goes with -via stamp")
	}
	if o.objective != "" {
		goal, err := objective.Find(o.objective)
		if err != nil {
			return wrongCall("-objective: %v", err)
		}
		o.goal = &goal
	}
	if o.source != "" {
		if o.start, err = netip.ParseAddr(o.source); err != nil {
			return wrongCall("-source %q is not an IP address", short(o.source))
		}
	}
	if set["for"] {
		o.probes = int(o.duration / o.every)
	}
	if o.probes < 1 || o.probes > 10_000_000 {
		return wrongCall("-probes %d is not between 1 and 10,000,000", o.probes)
	}
	if _, err := dscp.Parse(o.dscp); err != nil {
		return wrongCall("%v", err)
	}
	if o.targets, o.bad, err = c.targets(o.file); err != nil {
		return exit{exitWrongCall, err}
	}
	return nil
}

// socket is how the probes leave.
func (o *pingOptions) socket() network.SocketOptions {
	point, _ := dscp.Parse(o.dscp)
	return network.SocketOptions{DSCP: uint8(point), TTL: o.ttl, Source: o.start, Interface: o.iface, DontFragment: o.whole}
}

// place is the network to measure through and its name: this machine, or a host
// of a world.
func place(file, from string) (network.Network, string, error) {
	if file == "" {
		name, err := os.Hostname()
		if err != nil {
			name = "this machine"
		}
		return kernel.Host(), name, nil
	}
	m, err := readWorld(file, time.Time{})
	if err != nil {
		return nil, "", err
	}
	n, err := live.New(m).At(from)
	if err != nil {
		return nil, "", exit{exitWrongCall, err}
	}
	return n, from, nil
}

func (c *call) writePing(results []report.PingResult) error {
	switch c.format {
	case "json":
		return report.JSON(c.out, results)
	case "csv":
		return report.PingCSV(c.out, results)
	case "ndjson": // each probe is written already
		return nil
	}
	return report.Ping(c.out, c.ink, results)
}

// pingStatus is the status that results end with: the worst of them.
func pingStatus(results []report.PingResult) error {
	measured, bad := 0, 0
	for _, r := range results {
		if r.Sent > 0 {
			measured++
			if r.Answered == 0 || r.Objective != nil && r.Objective.State == objective.Missed || slices.ContainsFunc(r.Findings, finding.Finding.Bad) {
				bad++
			}
		}
	}
	switch {
	case bad > 0:
		return exit{status: exitNotGood}
	case measured < len(results):
		return exit{status: exitUnmeasured}
	}
	return nil
}

func joined(list []string) string { return strings.Join(list, ", ") }

// plural writes a count of things.
func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
