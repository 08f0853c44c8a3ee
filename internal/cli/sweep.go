package cli

import (
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/figure"
	"woodlark.example/core/reading"
	space "woodlark.example/core/sweep"
	standing "woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/probe/sweep"
	"woodlark.example/internal/report"
)

var sweepCommand = command{
	name: "sweep", summary: "which addresses of the given prefixes answer",
	usage: "[options] PREFIX …",
	example: "woodlark sweep 127.0.0.0/28\nwoodlark sweep -world demo/skerry.yaml -from ops.northquay.example 192.0.2.0/24 203.0.113.0/24\n" +
		"woodlark sweep -from northquay -via icmp,tcp:443 203.0.113.0/24          (through the demo's service)",
	more: "A prefix, a range such as 192.0.2.10-20 or 192.0.2.10-192.0.2.40, or an address. What\n" +
		"stays silent is asked a second time. The result is compared with the last sweep of\n" +
		"the same addresses from the same place: new, gone and slower ones are told.",
	run: runSweep,
}

type sweepOptions struct {
	from, world, file, via, rate, source, iface string
	exclude                                     listFlag
	wait                                        time.Duration
	rounds                                      int
	random, low, neighbours, beyond, names      bool
	apart                                       bool
	seed                                        uint64

	entries []string
	vias    []reading.Via
	pace    float64
	start   netip.Addr
	space   space.Space
}

// listFlag is an option that may be given several times, or with commas.
type listFlag []string

func (l *listFlag) String() string { return strings.Join(*l, ",") }

func (l *listFlag) Set(text string) error {
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			*l = append(*l, part)
		}
	}
	return nil
}

func (o *sweepOptions) register(f *flag.FlagSet) {
	f.StringVar(&o.from, "from", "", "agent of the service to sweep from, or with -world the host; this machine when left out")
	f.StringVar(&o.world, "world", "", "file of a simulated network to sweep in, or learn:NAME")
	f.StringVar(&o.file, "file", "", "file with more prefixes, one a line; - is standard input")
	f.Var(&o.exclude, "exclude", "prefix, range or address to leave out; may be given several times")
	f.StringVar(&o.via, "via", "icmp", "by what: icmp, tcp:PORT; several with commas")
	f.StringVar(&o.rate, "rate", "5000", "packets a second, or unlimited (within loopback and simulated networks)")
	f.DurationVar(&o.wait, "wait", time.Second, "how long to wait for answers after each round")
	f.IntVar(&o.rounds, "rounds", 2, "rounds; each after the first asks those that were silent")
	f.BoolVar(&o.random, "random", false, "in a random order")
	f.Uint64Var(&o.seed, "seed", 1, "of the random order")
	f.BoolVar(&o.low, "low", false, "of a large IPv6 prefix, the addresses that are given by hand")
	f.BoolVar(&o.neighbours, "neighbours", false, "also the addresses that this machine's links know")
	f.BoolVar(&o.names, "names", true, "look up the names of those that answer")
	f.BoolVar(&o.beyond, "beyond", false, "confirm a sweep of addresses that are neither private, own nor of documentation")
	f.StringVar(&o.source, "source", "", "address of this machine to send from")
	f.StringVar(&o.iface, "interface", "", "interface to send by")
	f.BoolVar(&o.apart, "background", false, "with -from: start it at the agent and do not wait")
}

func runSweep(c *call) error {
	var o sweepOptions
	c.withFormat()
	c.withService()
	o.register(c.flags)
	if err := c.parse(); err != nil {
		return err
	}
	if err := o.check(c); err != nil {
		return err
	}
	if o.from != "" && o.world == "" {
		return c.sweepThere(o)
	}
	r, err := c.sweepHere(o)
	if err != nil {
		return err
	}
	return c.writeSweep(r)
}

func (c *call) writeSweep(r space.Report) error {
	var err error
	switch c.format {
	case "json":
		err = report.SweepJSON(c.out, r)
	case "csv":
		err = report.SweepCSV(c.out, r)
	default:
		err = report.Sweep(c.out, c.ink, r, zone())
	}
	switch {
	case err != nil:
		return err
	case r.Sent == 0:
		return exit{exitUnmeasured, fmt.Errorf("nothing could be sent: %s", r.UnsentReason)}
	case r.Answered == 0 || len(r.Gone) > 0:
		return exit{status: exitNotGood}
	}
	return nil
}

func (o *sweepOptions) check(c *call) error {
	var err error
	switch {
	case o.wait <= 0 || o.wait > time.Minute:
		return wrongCall("-wait %v is not between 0 and 1m", o.wait)
	case o.rounds < 1 || o.rounds > 10:
		return wrongCall("-rounds %d is not between 1 and 10", o.rounds)
	case o.world != "" && o.from == "":
		return wrongCall("-world needs -from with one of its hosts")
	case o.apart && (o.from == "" || o.world != ""):
		return wrongCall("-background leaves a sweep to a service: name its agent with -from")
	}
	if o.vias, err = reading.ParseVias(o.via); err != nil {
		return wrongCall("-via: %v", err)
	}
	for _, v := range o.vias {
		if v.Kind != reading.ByICMP && v.Kind != reading.ByTCP {
			return wrongCall("-via %s: a sweep asks by icmp or tcp:PORT", v)
		}
	}
	if o.source != "" {
		if o.start, err = netip.ParseAddr(o.source); err != nil {
			return wrongCall("-source %q is not an IP address", short(o.source))
		}
	}
	if o.rate != "unlimited" {
		if o.pace, err = strconv.ParseFloat(o.rate, 64); err != nil || !(o.pace >= 1) || o.pace > 10_000_000 {
			return wrongCall("-rate %q is neither a number of packets a second from 1 to 10,000,000 nor unlimited", short(o.rate))
		}
	}
	return o.checkSpace(c)
}

// checkSpace reads what is to be swept, and whether it may be.
func (o *sweepOptions) checkSpace(c *call) error {
	o.entries = append(o.entries, c.args...)
	if o.file != "" {
		more, bad, err := c.readLines(o.file, func(text string) error {
			_, err := space.Parse([]string{text}, nil, space.Options{Low: o.low})
			return err
		})
		// A sweep of less than was asked for would be compared with the wrong one.
		if err = errors.Join(append(bad, err)...); err != nil {
			return exit{exitWrongCall, err}
		}
		o.entries = append(o.entries, more...)
	}
	if o.neighbours {
		known, err := standing.Ground{}.Reachable()
		if err != nil {
			return exit{exitUnmeasured, err}
		}
		for a := range known {
			if !a.IsLinkLocalUnicast() { // it would need its interface
				o.entries = append(o.entries, a.String())
			}
		}
	}
	var err error
	if o.space, err = space.Parse(o.entries, o.exclude, space.Options{Low: o.low}); err != nil {
		return exit{exitWrongCall, err}
	}
	if o.world != "" {
		return nil
	}
	if in, _ := o.space.Within(space.Loopback()); o.rate == "unlimited" && !in {
		return wrongCall("-rate unlimited is for loopback addresses and simulated networks; name a number")
	}
	if o.beyond {
		return nil
	}
	own, err := standing.Ground{}.Prefixes()
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	if in, a := o.space.Within(append(own, space.Nearby()...)); !in {
		return wrongCall("%s is neither private, of this machine's links nor of documentation: if you may sweep there, say so with -beyond", a)
	}
	return nil
}

// largeFrom is from how many addresses on a sweep is announced.
const largeFrom = 4096

// announce says what a large sweep will take.
func (c *call) announce(o sweepOptions) {
	for _, w := range o.space.Warnings() {
		fmt.Fprintf(c.err, "note: %s\n", w)
	}
	if o.space.Len() < largeFrom {
		return
	}
	packets := o.space.Len() * uint64(len(o.vias))
	text := fmt.Sprintf("%s addresses by %s: %s packets", report.Grouped(o.space.Len()), o.via, report.Grouped(packets))
	if o.pace > 0 {
		once := time.Duration(float64(packets) / o.pace * float64(time.Second))
		text += fmt.Sprintf(", %s at %s packets/s", figure.FormatSpan(once), report.Grouped(uint64(o.pace)))
		if o.rounds > 1 {
			text += fmt.Sprintf("; up to %s with %s for the silent ones", figure.FormatSpan(once*time.Duration(o.rounds)), plural(o.rounds-1, "more round"))
		}
	}
	fmt.Fprintf(c.err, "%s\n", text)
}

// sweepHere sweeps from this machine, or in a world, without a service.
func (c *call) sweepHere(o sweepOptions) (space.Report, error) {
	n, from, err := place(o.world, o.from)
	if err != nil {
		return space.Report{}, err
	}
	c.announce(o)
	holdMemory(o.space.Len())
	scope := o.space.Scope()
	kept := last{"sweeps", []string{hex.EncodeToString(scope[:]), o.world, from, o.via}}
	var before space.Report
	known, err := kept.read(&before)
	if err != nil {
		fmt.Fprintf(c.err, "note: %v\n", err)
	}
	q := sweep.Request{Space: o.space, Vias: o.vias, Rate: o.pace, Wait: o.wait, Rounds: o.rounds, Random: o.random, Seed: o.seed,
		Socket: network.SocketOptions{Source: o.start, Interface: o.iface}}
	if known {
		rtts := map[netip.Addr]time.Duration{}
		for _, h := range before.Heard() {
			rtts[h.Addr] = h.RTT
		}
		q.Before = func(a netip.Addr) time.Duration { return rtts[a] }
	}
	bar := c.progress(int(o.space.Len()) * len(o.vias))
	q.Sent = func(n uint64) { _ = bar.Set64(min(bar.GetMax64(), int64(n))) }
	result, err := sweep.Go(c.ctx, n, q)
	_ = bar.Finish()
	if err != nil {
		return space.Report{}, exit{exitUnmeasured, err}
	}
	r := result.Report(q)
	r.From, r.Excluded = from, append(r.Excluded, o.exclude...)
	if o.world == "" {
		if err := sweep.AddLinks(&r, o.space, standing.Ground{}); err != nil {
			return r, exit{exitUnmeasured, err}
		}
	}
	if o.names && !r.Cut {
		sweep.AddNames(c.ctx, n, &r)
	}
	if known {
		r.CompareWith(before)
	}
	if !r.Cut { // one that was cut is not what the next is to be compared with
		if err := kept.write(r); err != nil {
			fmt.Fprintf(c.err, "note: this sweep is not kept for comparison: %v\n", err)
		}
	}
	return r, nil
}

// holdMemory lets the program's memory grow to a limit before any is looked for
// that could be given back: a sweep is short, and needs little in the middle.
func holdMemory(addresses uint64) {
	const base, each = 64 << 20, 64 // bytes
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(base + int64(addresses)*each)
}

var errNoState = errors.New("there is no folder for it")
