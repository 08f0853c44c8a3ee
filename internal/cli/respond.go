package cli

import (
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"woodlark.example/core/capacity"
	"woodlark.example/internal/host"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trace"
)

var respondCommand = command{
	name: "respond", summary: "be the far end of two-ended measurement, without a service",
	usage: "-key KEY [options]",
	example: "woodlark respond -listen 192.0.2.7:7474 -key-file /etc/woodlark/key\n" +
		"WOODLARK_KEY=gull woodlark respond",
	more: "One port, TCP and UDP. Who does not have the key gets a challenge of a fixed size and\n" +
		"nothing else; no datagram goes to an address that did not prove itself, and none is\n" +
		"larger than the one that came. -reflect answers STAMP packets (RFC 8762) of anyone, so\n" +
		"many a second; with -stamp-key those of its authenticated mode.",
	run: runRespond,
}

func runRespond(c *call) error {
	usual := respond.Usual()
	var listen, key, keyFile, rate, stampKey string
	var limits = usual
	var stateless, verbose bool
	c.flags.StringVar(&listen, "listen", ":"+strconv.Itoa(kind.UsualPort), "address and port, TCP and UDP; :PORT for all addresses")
	registerKey(c.flags, &key, &keyFile)
	c.flags.IntVar(&limits.Sessions, "sessions", usual.Sessions, "at most so many at once")
	c.flags.DurationVar(&limits.Time, "longest", usual.Time, "at most so long")
	c.flags.StringVar(&rate, "rate", "10G", "at most so many bits a second of datagrams, each way")
	c.flags.IntVar(&limits.Reflect, "reflect", 0, "STAMP packets a second of one source that are answered without a session; none when 0")
	c.flags.StringVar(&stampKey, "stamp-key", "", "answer STAMP packets in authenticated mode with this key; others only with -stamp-open")
	c.flags.BoolVar(&stateless, "stateless", false, "answer STAMP with the sender's sequence numbers")
	open := c.flags.Bool("stamp-open", false, "with -stamp-key: answer STAMP packets without it too")
	c.flags.BoolVar(&verbose, "verbose", false, "say when sessions begin and end")
	if err := c.parse(); err != nil {
		return err
	}
	if len(c.args) > 0 {
		return wrongCall("%q is not an option; the address goes with -listen", short(c.args[0]))
	}
	at, err := listenAt(listen)
	if err != nil {
		return err
	}
	shared, err := sharedKey(key, keyFile)
	if err != nil {
		return err
	}
	if shared == "" {
		return wrongCall("a far end needs a key that both ends share: -key, -key-file or WOODLARK_KEY")
	}
	if limits.Rate, err = capacity.ParseRate(rate); err != nil {
		return wrongCall("-rate: %v", err)
	}
	if limits.Sessions < 1 || limits.Time <= 0 || limits.Reflect < 0 {
		return wrongCall("-sessions and -longest are above zero, and -reflect is not below it")
	}
	if limits.Time > 24*time.Hour {
		return wrongCall("-longest %v is more than 24h", limits.Time)
	}
	o := respond.Options{Network: kernel.Host(), Listen: at, Keys: respond.Shared(shared), Limits: limits, StampOpen: stampKey == "" || *open, Stateless: stateless}
	if stampKey != "" {
		o.StampKey = []byte(stampKey)
	}
	_, name, _ := place("", "")
	o.Link = host.LinkTo
	o.Trace = func(ctx context.Context, to netip.Addr) ([]string, error) {
		return trace.Hops(ctx, o.Network, host.Ground{}, to)
	}
	o.End = func() session.End {
		e := session.Here(name, Version)
		e.Is = "responder"
		return e
	}
	if verbose {
		o.Log = slog.New(slog.NewTextHandler(c.err, nil))
	}
	r, err := respond.New(o)
	if err != nil {
		return exit{exitUnmeasured, err}
	}
	fmt.Fprintf(c.out, "Far end at %s, TCP and UDP; Ctrl-C ends it.\n", r.At())
	return r.Run(c.ctx)
}

// listenAt reads where to listen: ADDRESS:PORT, or :PORT for all addresses.
func listenAt(text string) (netip.AddrPort, error) {
	if port, ok := strings.CutPrefix(text, ":"); ok {
		text = "[::]:" + port
	}
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		return at, wrongCall("-listen %q is not ADDRESS:PORT with an IP address, or :PORT", short(text))
	}
	return at, nil
}
