package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"

	"woodlark.example/internal/host"
	"woodlark.example/internal/kind"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/kernel"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/paced"
	"woodlark.example/internal/probe/respond"
	"woodlark.example/internal/probe/session"
	"woodlark.example/internal/probe/trace"
)

// here measures from this machine, or in a world, without a service.
func (m *measuring) here() error {
	h, stop, err := m.place()
	if err != nil {
		return err
	}
	defer stop()
	j := &kind.Job{Host: h, Spec: m.spec, Targets: m.targets, Before: m.before}
	if m.kind.TwoEnds {
		end, err := m.farEnd(j)
		if err != nil {
			return err
		}
		defer end()
	}
	m.announce()
	j.Lanes = m.kind.Lanes(m.spec).Locate(m.ctx, h.Network, m.targets)
	j.Last = func(lane int, into any) (bool, error) { return m.last(h.Name, j.Lanes[lane]).read(into) }
	file, err := m.captured()
	if err != nil {
		return err
	}
	if file != nil {
		j.Packets = file.Packet
	}
	show := m.showing(h.Name, j.Lanes)
	j.Heard = show.heard
	outcomes, err := m.kind.Run(show.ctx, j)
	show.close()
	if file != nil {
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		return m.unmeasured(err)
	}
	list := make([]result, len(outcomes))
	for i, o := range outcomes {
		list[i] = result{j.Lanes[i], o.State, o.Reason, o.Result}
		if o.Result != nil {
			m.beside(h.Name, list[i])
		}
	}
	m.made = list
	return m.finish(list)
}

// unmeasured turns an error into a status.
func (m *measuring) unmeasured(err error) error {
	var e exit
	switch {
	case errors.As(err, &e):
		return err
	case errors.Is(err, kind.ErrInvalid):
		return exit{exitWrongCall, plainly(kind.ByFlag(m.spec, err))}
	}
	return exit{exitUnmeasured, err}
}

// last is where the last of the same measurement from here is kept.
func (m *measuring) last(from string, lane kind.Lane) last {
	same := []string{m.world, from}
	if m.kind.Same != nil {
		same = append(same, m.kind.Same(m.spec, m.targets, lane)...)
	}
	return last{m.kind.Name + "s", same}
}

// beside lays a result beside the last of the same, where that is asked for, and keeps it for
// the next.
func (m *measuring) beside(from string, r result) {
	x, is := r.outcome.(compared)
	if !is || m.kind.Same == nil {
		return
	}
	kept := m.last(from, r.lane)
	if m.kind.Remembers || m.compare == "last" {
		before := m.kind.Result()
		known, err := kept.read(before)
		switch {
		case err != nil:
			fmt.Fprintf(m.err, "note: %v\n", err)
		case known:
			x.Compare(before, "the last "+m.kind.Name, nil)
		case m.compare == "last":
			fmt.Fprintf(m.err, "note: there is no earlier %s of %s by %s from here to compare with\n", m.kind.Name, r.lane.Target, r.lane.Via)
		}
	}
	if r.state == kind.Cancelled { // the next is not to be compared with half of one
		return
	}
	if err := kept.write(r.outcome); err != nil && (m.kind.Remembers || !errors.Is(err, errNoState)) {
		fmt.Fprintf(m.err, "note: this %s is not kept for comparison: %v\n", m.kind.Name, err)
	}
}

var errNoState = errors.New("there is no folder for it")

// place is the host to measure from: this machine, or one of a world.
func (m *measuring) place() (kind.Host, func(), error) {
	n, from, err := m.network()
	if err != nil {
		return kind.Host{}, nil, err
	}
	h := kind.Host{Name: from, Network: n, Beyond: m.world != "", Links: host.Ground{}, LinkTo: host.LinkTo, End: session.Here(from, Version)}
	if g, ok := n.(kind.Ground); ok {
		h.Ground = g
	} else {
		h.Ground = host.Ground{}
	}
	if m.world != "" {
		h.Links, h.LinkTo = nil, nil
		h.End, h.Wall = inWorld(n.(*live.Host), from)
	}
	if x, ok := n.(interface {
		Neighbouring(a netip.Addr) (network.Network, string, error)
	}); ok {
		h.Beside = x.Neighbouring
	}
	return h, func() {}, nil
}

// network is what is measured through, and the name of the host.
func (m *measuring) network() (network.Network, string, error) {
	if m.moment == "" {
		return place(m.world, m.from)
	}
	if m.world == "" {
		return nil, "", wrongCall("-moment belongs to -world")
	}
	h, err := momentHost(m.world, m.from, m.moment, m.kind.TwoEnds)
	return h, m.from, err
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

// largeFrom is from how many packets on a measurement is announced.
const largeFrom = 4096

// announce says what a measurement will take, when that is much.
func (m *measuring) announce() {
	if m.kind.Announce == nil {
		return
	}
	for _, line := range m.kind.Announce(m.spec, m.targets, largeFrom) {
		fmt.Fprintln(m.err, line)
	}
	if packets := m.kind.Cost(m.spec, m.targets).Packets; m.kind.Lanes(m.spec).Whole && (m.from == "" || m.world != "") {
		holdMemory(uint64(packets))
	}
}

// holdMemory lets the program's memory grow to a limit before any is looked for
// that could be given back: a sweep is short, and needs little in the middle. One of many addresses is
// not: its memory is to go by what answers, not by what is asked.
func holdMemory(addresses uint64) {
	const base, each = 64 << 20, 64 // bytes
	if addresses > 1<<20 {
		return
	}
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(base + int64(addresses)*each)
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

// noFar reports whether the target is no far end of ours, but a reflector.
func (m *measuring) noFar() bool {
	x, is := m.spec.(interface{ NoFar() bool })
	return is && x.NoFar()
}

// farEnd makes ready to measure with the far end that the target names: by its key, or in a
// world by putting one there. The function that it returns is called in the end.
func (m *measuring) farEnd(j *kind.Job) (func(), error) {
	none := func() {}
	reflector := m.noFar()
	if reflector && (m.key != "" || m.keyFile != "") {
		return none, wrongCall("a reflector sends back what it gets: leave out %s, or run 'woodlark respond' at the target and leave out -reflector", strings.Join(m.given("key", "key-file"), ", "))
	}
	key, err := sharedKey(m.key, m.keyFile)
	if err == nil && m.world == "" && key == "" && !reflector {
		err = wrongCall("a far end lets in who has its key: give it with -key, -key-file or WOODLARK_KEY")
	}
	if err != nil {
		return none, err
	}
	if m.world == "" {
		if !reflector {
			j.Far.Key = session.KeyFrom(key)
		}
		return none, nil
	}
	name, port, err := kind.SplitPort(m.targets[0], m.spec.(interface{ FarPort() uint16 }).FarPort())
	if err != nil {
		return none, exit{exitWrongCall, plainly(err)}
	}
	x, _ := m.spec.(interface{ FarFamily() kind.Family })
	family := kind.Family("")
	if x != nil {
		family = x.FarFamily()
	}
	addr, err := kind.Address(m.ctx, j.Network, name, family.One())
	if err != nil {
		return none, exit{exitUnmeasured, err}
	}
	var stampKey []byte
	if s, is := m.spec.(interface{ ReflectorKey() []byte }); is {
		stampKey = s.ReflectorKey()
	}
	return worldFar(j, netip.AddrPortFrom(addr, port), stampKey)
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

// worldFar puts a far end at an address of the same simulated network. It reflects STAMP too,
// in authenticated mode when there is a key for that.
func worldFar(j *kind.Job, at netip.AddrPort, stampKey []byte) (func(), error) {
	there, name, err := j.Beside(at.Addr())
	if err != nil {
		return func() {}, exit{exitWrongCall, err}
	}
	secret := make([]byte, 16)
	_, _ = rand.Read(secret)
	key := hex.EncodeToString(secret)
	j.Far.Key = session.KeyFrom(key)
	limits := respond.Usual()
	limits.Reflect, limits.ReflectAll = 1_000_000, 1_000_000
	end, wall := inWorld(there.(*live.Host), name)
	o := respond.Options{Network: there, Listen: at, Keys: respond.Shared(key), Limits: limits, StampOpen: stampKey == nil, StampKey: stampKey, Wall: wall, End: func() session.End { return end }}
	if g, is := there.(trace.Ground); is {
		o.Trace = func(ctx context.Context, to netip.Addr) ([]string, error) { return trace.Hops(ctx, there, g, to) }
	}
	r, err := respond.New(o)
	if err != nil {
		return func() {}, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	var owned sync.WaitGroup
	owned.Go(func() { _ = r.Run(ctx) })
	return func() {
		cancel()
		owned.Wait()
	}, nil
}

// given are those of some options that the call names.
func (c *call) given(names ...string) (found []string) {
	c.flags.Visit(func(f *flag.Flag) {
		for _, name := range names {
			if f.Name == name {
				found = append(found, "-"+f.Name)
			}
		}
	})
	return found
}

// progress is a bar on standard error, at a terminal only.
func (c *call) progress(total int) *progressbar.ProgressBar {
	if !isTerminal(c.err) {
		return progressbar.DefaultSilent(int64(total))
	}
	return progressbar.NewOptions(total, progressbar.OptionSetWriter(c.err), progressbar.OptionSetDescription("probes"),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionShowCount())
}
