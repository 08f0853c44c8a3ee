package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"woodlark.example/internal/host"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/near"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/wire"
)

// responderPort is where a far end listens when nothing else is said.
const responderPort = 7474

// farOptions say where the far end is, and by which key it lets us in.
type farOptions struct {
	from, world, family, key, keyFile, source string
	stampKey                                  string // of a reflector
}

func (o *farOptions) register(f *flag.FlagSet) {
	f.StringVar(&o.from, "from", "", "agent of the service to measure from, or with -world the host; this machine when left out")
	f.StringVar(&o.world, "world", "", "file of a simulated network to measure in, or learn:NAME; a far end is put at the target")
	f.StringVar(&o.family, "family", "", "4 or 6, of a target that is a name (default 4, else 6)")
	f.StringVar(&o.source, "source", "", "address of this machine to send from")
	registerKey(f, &o.key, &o.keyFile)
}

func registerKey(f *flag.FlagSet, key, file *string) {
	f.StringVar(key, "key", "", "key that both ends share; better in WOODLARK_KEY or a -key-file, where other users do not see it")
	f.StringVar(file, "key-file", "", "file that holds the key")
}

// sharedKey is the key of the call, its file or the environment; empty when there is none.
func sharedKey(key, file string) (string, error) {
	switch {
	case key != "" && file != "":
		return "", wrongCall("-key and -key-file exclude each other")
	case file != "":
		b, err := os.ReadFile(file)
		if err != nil {
			return "", wrongCall("read the key: %v", err)
		}
		key = strings.TrimSpace(string(b))
		if key == "" {
			return "", wrongCall("%s holds no key", file)
		}
	case key == "":
		key = strings.TrimSpace(os.Getenv("WOODLARK_KEY"))
	}
	return key, nil
}

// inWorld is an end that is a host of a simulated network: its clock may be off.
func inWorld(h *live.Host, name string) (session.End, paced.Wall) {
	e := session.End{Name: name, Version: Version, System: "a simulated network", Clock: host.Clock{Known: true}}
	now := time.Now()
	off := h.WallAt(now).Sub(now)
	if again := h.WallAt(now.Add(time.Hour)).Sub(now.Add(time.Hour)); off == 0 && again == 0 {
		none := 0.0
		e.Clock.Synchronised, e.Clock.ErrorMs, e.Clock.OffsetMs = true, &none, &none
	}
	return e, func(t time.Time) time.Time { return h.WallAt(t).Round(0) }
}

// far makes ready to measure with the far end that a target names, and returns how to
// reach it and what to do in the end.
func (c *call) far(o farOptions, target string) (near.Options, func(), error) {
	key, err := sharedKey(o.key, o.keyFile)
	if err == nil && o.world == "" && key == "" {
		err = wrongCall("a far end lets in who has its key: give it with -key, -key-file or WOODLARK_KEY")
	}
	if err != nil {
		return near.Options{}, nil, err
	}
	options, err := c.ends(o, target, responderPort)
	if err != nil {
		return options, nil, err
	}
	if o.world == "" {
		options.Key = session.KeyFrom(key)
		return options, func() {}, nil
	}
	stop, err := worldFar(options.Network.(*live.Host), &options, nil)
	return options, stop, err
}

// reflectorAt makes ready to measure with the STAMP reflector that a target names.
func (c *call) reflectorAt(o farOptions, target string, key []byte) (near.Options, func(), error) {
	options, err := c.ends(o, target, wire.StampPort)
	if err != nil || o.world == "" {
		return options, func() {}, err
	}
	stop, err := worldFar(options.Network.(*live.Host), &options, key)
	return options, stop, err
}

// ends finds both ends of a measurement.
func (c *call) ends(o farOptions, target string, usual uint16) (near.Options, error) {
	options := near.Options{}
	if o.source != "" {
		a, err := netip.ParseAddr(o.source)
		if err != nil {
			return options, wrongCall("-source %q is not an IP address", short(o.source))
		}
		options.Source = a
	}
	family, err := familyOf(o.family)
	if err != nil {
		return options, err
	}
	name, port, err := splitPort(target, usual)
	if err != nil {
		return options, err
	}
	n, from, err := place(o.world, o.from)
	if err != nil {
		return options, err
	}
	addr, err := c.oneAddress(n, name, family)
	if err != nil {
		return options, err
	}
	options.Network, options.To, options.End = n, netip.AddrPortFrom(addr, port), session.Here(from, Version)
	return options, nil
}

// worldFar puts a far end at the target, which is a host of the same simulated network.
// It reflects STAMP too, in authenticated mode when there is a key for that.
func worldFar(h *live.Host, options *near.Options, stampKey []byte) (func(), error) {
	there, name, err := h.Neighbouring(options.To.Addr())
	if err != nil {
		return nil, exit{exitWrongCall, err}
	}
	secret := make([]byte, 16)
	_, _ = rand.Read(secret)
	key := hex.EncodeToString(secret)
	options.Key = session.KeyFrom(key)
	options.End, options.Wall = inWorld(h, options.End.Name)
	limits := respond.Usual()
	limits.Reflect, limits.ReflectAll = 1_000_000, 1_000_000
	end, wall := inWorld(there.(*live.Host), name)
	r, err := respond.New(respond.Options{Network: there, Listen: options.To, Keys: respond.Shared(key), Limits: limits, StampOpen: stampKey == nil, StampKey: stampKey, Wall: wall, End: func() session.End { return end }})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	return func() {
		cancel()
		owned.Wait()
	}, nil
}

// splitPort takes the port off a target; a bare IPv6 address has none.
func splitPort(target string, usual uint16) (string, uint16, error) {
	if _, err := netip.ParseAddr(target); err == nil {
		return target, usual, nil
	}
	name, text, err := net.SplitHostPort(target)
	if err != nil {
		if strings.Contains(target, ":") {
			return "", 0, wrongCall("%q is not ADDRESS:PORT; an IPv6 address with a port stands in brackets", short(target))
		}
		return target, usual, nil
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil || port == 0 || name == "" {
		return "", 0, wrongCall("%q is not ADDRESS:PORT", short(target))
	}
	return name, uint16(port), nil
}

// familyOf reads -family; 0 when it is not given.
func familyOf(text string) (int, error) {
	switch text {
	case "":
		return 0, nil
	case "4", "6":
		return int(text[0] - '0'), nil
	}
	return 0, wrongCall("-family %q is none of 4, 6", short(text))
}

// oneAddress is the address of a target.
func (c *call) oneAddress(n network.Network, name string, family int) (netip.Addr, error) {
	if a, err := netip.ParseAddr(name); err == nil {
		return a.Unmap(), nil
	}
	f := wire.Family(family)
	found, err := n.Lookup(c.ctx, name, f)
	if err != nil {
		return netip.Addr{}, exit{exitUnmeasured, err}
	}
	for _, a := range found.Addrs {
		if f != 0 || a.Is4() {
			return a, nil
		}
	}
	return found.Addrs[0], nil
}

// unmeasured turns an error of a measurement with two ends into a status.
func unmeasured(err error) error {
	var e exit
	if err == nil || errors.As(err, &e) {
		return err
	}
	return exit{exitUnmeasured, err}
}

// progressLine shows how far it is, on one line of a terminal.
func (c *call) progressLine(says func(step string, p near.Progress) string) (heard func(string, near.Progress), done func()) {
	if !isTerminal(c.err) {
		return nil, func() {}
	}
	return func(step string, p near.Progress) { fmt.Fprintf(c.err, "\r\x1b[K%s", says(step, p)) }, func() { fmt.Fprint(c.err, "\r\x1b[K") }
}
