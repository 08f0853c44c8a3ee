package main

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/internal/probe/trace/proving"
	"woodlark.example/wire"
)

// routes measures what traces find in networks whose truth is known, how long they
// take, and what they cost.
func routes(ctx context.Context, dir, program string) error {
	for range 3 {
		if err := hopAnswers(ctx); err != nil {
			return err
		}
	}
	if err := twentyHops(ctx); err != nil {
		return err
	}
	if err := manyTraces(ctx, dir, program); err != nil {
		return err
	}
	return randomNetworks(ctx)
}

const (
	networks       = 1000
	probesToEach   = 1000
	networksAtOnce = 2
)

// randomNetworks traces a thousand of them.
func randomNetworks(ctx context.Context) error {
	var mu sync.Mutex
	var failed error
	var reached, wrong, parted, complete, lossy, named, blamed, sparing, calledLossy int
	seeds := make(chan uint64)
	var wg sync.WaitGroup
	for range networksAtOnce {
		wg.Go(func() {
			for seed := range seeds {
				v, err := proving.Try(ctx, seed, probesToEach)
				mu.Lock()
				if err != nil {
					failed = err
				}
				parted, complete, wrong, sparing = parted+v.Parted, complete+v.Complete, wrong+v.Wrong, sparing+v.Sparing
				for _, x := range []struct {
					is bool
					n  *int
				}{{v.Reached, &reached}, {v.Loss > 0, &lossy}, {v.Named, &named}, {v.Blamed, &blamed}, {v.Spared, &calledLossy}} {
					if x.is {
						*x.n++
					}
				}
				mu.Unlock()
			}
		})
	}
	for seed := range uint64(networks) {
		seeds <- seed
	}
	close(seeds)
	wg.Wait()
	if failed != nil {
		return failed
	}
	part := func(n, of int) float64 { return 100 * float64(n) / float64(max(1, of)) }
	alone(fmt.Sprintf("%d random networks, %d probes to each hop: reached", networks, probesToEach), "%", part(reached, networks))
	alone(fmt.Sprintf("  %d hops where flows part: all branches found", parted), "%", part(complete, parted))
	alone("  addresses put where they are not", "", float64(wrong))
	alone(fmt.Sprintf("  %d networks with 2 to 10 %% loss on a link: it is named", lossy), "%", part(named, lossy))
	alone("  networks in which loss is placed where there is none", "%", part(blamed, networks))
	alone(fmt.Sprintf("  of %d routers that spare answers, called lossy", sparing), "%", part(calledLossy, sparing))
	return nil
}

// longWay is a world of 19 routers in a row and many hosts behind the last.
func longWay(hosts int) string {
	var nodes, links strings.Builder
	nodes.WriteString("world: long way\nnodes:\n  - {name: here.example, addresses: [192.0.2.2]}\n")
	last := "here.example"
	for i := range 19 {
		name := fmt.Sprintf("r%d.example", i+1)
		fmt.Fprintf(&nodes, "  - {name: %s, router: true, addresses: [198.51.100.%d]}\n", name, i+1)
		fmt.Fprintf(&links, "  - {between: [%s, %s], delay: 2ms}\n", last, name)
		last = name
	}
	for i := range hosts {
		fmt.Fprintf(&nodes, "  - {name: h%d.example, addresses: [%s]}\n", i, hostAddr(i))
		fmt.Fprintf(&links, "  - {between: [%s, h%d.example], delay: 2ms}\n", last, i)
	}
	return nodes.String() + "links:\n" + links.String()
}

func hostAddr(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{203, 0, byte(113 + i/250), byte(i%250 + 1)})
}

// twentyHops tells how many round trips a trace takes.
func twentyHops(ctx context.Context) error {
	start := time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		what string
		one  bool
	}{{"20 hops, one flow: round trips that a trace takes", true}, {"  and with all branches sought", false}} {
		m, err := world.Read([]byte(longWay(1)), world.Options{Reference: start})
		if err != nil {
			return err
		}
		h, err := live.Virtual(m, start).At("here.example")
		if err != nil {
			return err
		}
		results, err := trace.Measure(ctx, h, h, trace.Options{Mark: 3}, trace.Request{Addr: hostAddr(0), OneFlow: c.one})
		if err != nil {
			return err
		}
		alone(c.what, "", float64(results[0].Took)/float64(80*time.Millisecond))
	}
	return nil
}

// mirror is a network that answers each probe at once, as 20 hops in a row would:
// what is left is what the tracing itself costs.
type mirror struct {
	network.Network
	mu     sync.Mutex
	came   []network.Packet
	bell   chan struct{}
	closed chan struct{}
	once   sync.Once
}

func (m *mirror) Open(network.Kind, wire.Family, network.SocketOptions) (network.Conn, error) {
	return m, nil
}
func (m *mirror) Clock() network.Clock { return network.SystemClock{} }
func (m *mirror) FirstHop(netip.Addr) (network.Hop, error) {
	return network.Hop{Source: netip.MustParseAddr("192.0.2.2"), MTU: 1500}, nil
}
func (m *mirror) Exact() bool   { return false }
func (m *mirror) FixedID() bool { return false }
func (m *mirror) Dropped() int  { return 0 }
func (m *mirror) Close() error {
	m.once.Do(func() { close(m.closed) })
	return nil
}
func (m *mirror) SendAll([]network.Outgoing) (int, error) { return 0, nil }
func (m *mirror) Poll([]network.Packet) (int, error)      { return 0, nil }

// Send makes the answer to a probe.
func (m *mirror) Send(to netip.AddrPort, packet []byte) (time.Time, error) {
	now := time.Now()
	p := network.Packet{Event: network.Answer, Peer: to.Addr(), TTL: 64, At: now, Seen: now, Protocol: wire.ProtocolICMP}
	if ttl := packet[8]; ttl < 20 {
		e := wire.NewICMPError(wire.IPv4, wire.TimeExpired, packet)
		p.Peer = netip.AddrFrom4([4]byte{198, 51, 100, ttl})
		p.Data = e.Marshal(p.Peer, netip.AddrFrom4([4]byte(packet[12:16])))
	} else {
		p.Data = slices.Clone(packet[20:])
		p.Data[0] = 0
		sum := uint32(p.Data[2])<<8 | uint32(p.Data[3])
		sum += 0x800
		sum += sum >> 16
		p.Data[2], p.Data[3] = byte(sum>>8), byte(sum)
	}
	m.mu.Lock()
	m.came = append(m.came, p)
	m.mu.Unlock()
	select {
	case m.bell <- struct{}{}:
	default:
	}
	return now, nil
}

func (m *mirror) Receive(packets []network.Packet) (int, error) {
	for {
		m.mu.Lock()
		n := copy(packets, m.came)
		m.came = append(m.came[:0], m.came[n:]...)
		m.mu.Unlock()
		if n > 0 {
			return n, nil
		}
		select {
		case <-m.bell:
		case <-m.closed:
			return 0, context.Canceled
		}
	}
}

// hopAnswers tells how many answers of hops one core handles a second: sending the
// probe, matching its answer and keeping its figures.
func hopAnswers(ctx context.Context) error {
	var requests []trace.Request
	for i := range 200 {
		requests = append(requests, trace.Request{Addr: hostAddr(i), Probes: 50, Interval: 10 * time.Millisecond})
	}
	m := &mirror{bell: make(chan struct{}, 1), closed: make(chan struct{})}
	before := processor()
	results, err := trace.Measure(ctx, m, m, trace.Options{}, requests...)
	if err != nil {
		return err
	}
	spent := processor() - before
	answers := 0
	for _, r := range results {
		answers += r.Sent
	}
	alone(fmt.Sprintf("%d answers of hops, of 200 traces at once: a second and core", answers), "", float64(answers)/spent)
	return nil
}

// processor is the processor time of this process in seconds.
func processor() float64 {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return float64(u.Utime.Sec+u.Stime.Sec) + float64(u.Utime.Usec+u.Stime.Usec)/1e6
}

// manyTraces makes a thousand traces at once by the program, in a world.
func manyTraces(ctx context.Context, dir, program string) error {
	floor, err := makeFloor(ctx, dir)
	if err != nil {
		return err
	}
	const hosts = 1000
	file := filepath.Join(dir, "long.yaml")
	if err := os.WriteFile(file, []byte(longWay(hosts)), 0o600); err != nil {
		return err
	}
	args := []string{"trace", "-world", file, "-from", "here.example", "-format", "csv", "-names=false", "-probes", "5"}
	for i := range hosts {
		args = append(args, hostAddr(i).String())
	}
	s, err := runProcess(ctx, floor, program, args...)
	if err != nil {
		return err
	}
	alone("1,000 traces of 20 hops at once, with their world: peak memory", "MiB", s.peakMiB)
	alone("  rows that came back, of 20,000", "", float64(strings.Count(string(s.out), "\n")-1))
	return nil
}
