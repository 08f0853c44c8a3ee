package world_test

import (
	"fmt"
	"math"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network/world"
	"woodlark.example/wire"
)

// reference is a Wednesday.
var reference = time.Date(2026, 11, 18, 15, 30, 0, 0, time.UTC)

func read(t *testing.T, text string) *world.Model {
	t.Helper()
	m, err := world.Read([]byte(text), world.Options{Reference: reference})
	require.NoError(t, err)
	return m
}

// pairText is two hosts with one link between them.
func pairText(link, changes string) string {
	return `
world: pair
seed: 3
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: b, addresses: [192.0.2.2]}
links:
  - {between: [a, b], ` + link + `}
` + changes
}

func pair(t *testing.T, link, changes string) *world.Model {
	t.Helper()
	return read(t, pairText(link, changes))
}

// fates sends n packets, one a millisecond.
func fates(m *world.Model, from, to int, at time.Time, n int) (rtts []float64, lost int) {
	w := m.Walker()
	for i := range n {
		f := w.Echo(from, m.Nodes()[to].Addresses[0], at.Add(time.Duration(i)*time.Millisecond), uint64(i))
		if !f.Answered {
			lost++
			continue
		}
		rtts = append(rtts, float64(f.RTT)/1e6)
	}
	return rtts, lost
}

func moments(values []float64) (mean, sd float64) {
	for _, v := range values {
		mean += v / float64(len(values))
	}
	for _, v := range values {
		sd += (v - mean) * (v - mean) / float64(len(values))
	}
	return mean, math.Sqrt(sd)
}

func TestDelayAndVariation(t *testing.T) {
	// Both ways of a round trip vary by themselves, so variances add.
	for _, c := range []struct {
		name, link string
		mean, sd   float64
	}{
		{"none", "delay: 5ms", 10, 0},
		{"uniform", "delay: 5ms, order: free, variation: uniform 1ms", 10, math.Sqrt(2.0 / 3)},
		{"normal", "delay: 5ms, order: free, variation: normal 1ms", 10, math.Sqrt2},
		{"gamma", "delay: 5ms, order: free, variation: gamma 1ms", 12, 1},
		{"one way slower", "delay: 5ms, toward: {b: {delay: 9ms}}", 14, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			rtts, lost := fates(pair(t, c.link, ""), 0, 1, reference, 100_000)
			assert.Zero(t, lost)
			mean, sd := moments(rtts)
			assert.InDelta(t, c.mean, mean, 4*c.sd/math.Sqrt(100_000)+1e-6)
			assert.InDelta(t, c.sd, sd, 0.02*c.sd+1e-6)
		})
	}
}

func TestLossPerDirection(t *testing.T) {
	for link, p := range map[string]float64{
		"delay: 1ms, loss: 2%":                   1 - 0.98*0.98,
		"delay: 1ms, toward: {b: {loss: 0.02}}":  0.02,
		"delay: 1ms, loss: 100%":                 1,
		"delay: 1ms, toward: {a: {loss: 0.1%}}":  0.001,
		"delay: 1ms, loss: 0%, variation: none ": 0,
	} {
		_, lost := fates(pair(t, link, ""), 0, 1, reference, 100_000)
		assert.InDelta(t, p*100_000, float64(lost), 4*math.Sqrt(100_000*p*(1-p))+1e-9, link)
	}
}

func TestSameSeedSameFates(t *testing.T) {
	const link = "delay: 5ms, variation: gamma 2ms, loss: 3%, load: 90%, rate: 10Mbit/s"
	m := pair(t, link, "")
	forth, _ := fates(m, 0, 1, reference, 2000)
	again, _ := fates(pair(t, link, ""), 0, 1, reference, 2000)
	assert.Equal(t, forth, again)
	other, _ := fates(read(t, strings.Replace(pairText(link, ""), "seed: 3", "seed: 4", 1)), 0, 1, reference, 2000)
	assert.NotEqual(t, forth, other, "another seed, other fates")
}

func TestAFullLinkQueuesAndDrops(t *testing.T) {
	quiet, lost := fates(pair(t, "delay: 5ms, rate: 10Mbit/s, queue: 40ms, load: 30%", ""), 0, 1, reference, 50_000)
	assert.Zero(t, lost)
	mean, _ := moments(quiet)
	assert.InDelta(t, 10.8, mean, 0.6, "1.2 ms service time, ρ/(1−ρ) = 0.43 of it each way, four fifths of that on average")
	full, lost := fates(pair(t, "delay: 5ms, rate: 10Mbit/s, queue: 40ms, load: 130%", ""), 0, 1, reference, 50_000)
	assert.Greater(t, lost, 5000)
	mean, sd := moments(full)
	assert.Greater(t, mean, 60.0)
	assert.Greater(t, sd, 3.0, "ragged")
}

func TestWindows(t *testing.T) {
	at := func(day, hour, minute int) time.Time { return time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC) }
	for _, c := range []struct {
		name, change string
		open, shut   []time.Time
	}{
		{"from", "from: day-2 08:00", []time.Time{at(16, 8, 0), at(30, 0, 0)}, []time.Time{at(16, 7, 59)}},
		{"until", "until: day+1 08:00", []time.Time{at(1, 0, 0), at(19, 7, 59)}, []time.Time{at(19, 8, 0)}},
		{"between", `from: "2026-11-18T10:00:00Z", until: day 10:40`, []time.Time{at(18, 10, 0), at(18, 10, 39)}, []time.Time{at(18, 9, 59), at(18, 10, 40)}},
		{"daily", `daily: "16:00-18:30"`, []time.Time{at(17, 16, 0), at(21, 18, 29)}, []time.Time{at(17, 15, 59), at(21, 18, 30)}},
		{"daily past midnight", `daily: "23:00-01:00"`, []time.Time{at(17, 23, 30), at(18, 0, 59)}, []time.Time{at(18, 1, 0), at(18, 22, 59)}},
		{"weekly", `weekly: "mon-fri 09:00-17:00"`, []time.Time{at(18, 9, 0), at(20, 16, 59)}, []time.Time{at(21, 12, 0), at(22, 12, 0)}},
		{"weekly, past midnight", `weekly: "fri 22:00-02:00"`, []time.Time{at(20, 23, 0), at(21, 1, 59)}, []time.Time{at(21, 23, 0), at(22, 1, 0)}},
		{"daily for a time", `from: day 00:00, daily: "16:00-18:00"`, []time.Time{at(18, 17, 0)}, []time.Time{at(17, 17, 0)}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := pair(t, "delay: 1ms", "changes: [{link: [a, b], set: {delay: 50ms}, "+c.change+"}]").Walker()
			for _, open := range c.open {
				assert.Equal(t, 100*time.Millisecond, w.Echo(0, netip.MustParseAddr("192.0.2.2"), open, 0).RTT, "%v", open)
			}
			for _, shut := range c.shut {
				assert.Equal(t, 2*time.Millisecond, w.Echo(0, netip.MustParseAddr("192.0.2.2"), shut, 0).RTT, "%v", shut)
			}
		})
	}
}

const ring = `
world: ring
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: r1, router: true, addresses: [192.0.2.11]}
  - {name: r2, router: true, addresses: [192.0.2.12]}
  - {name: r3, router: true, addresses: [192.0.2.13]}
  - {name: b, addresses: [192.0.2.2]}
  - {name: c, addresses: [192.0.2.3], icmp: prohibit}
  - {name: alone, addresses: [192.0.2.9]}
links:
  - {between: [a, r1], delay: 1ms}
  - {between: [r1, r2], delay: 2ms}
  - {between: [r1, r3], delay: 10ms, metric: 50}
  - {between: [r3, r2], delay: 10ms, metric: 50}
  - {between: [r2, b], delay: 1ms}
  - {between: [b, c], delay: 1ms}
  - {between: [r2, c], delay: 1ms, metric: 500}
changes:
  - {link: [r1, r2], from: day 16:00, until: day 17:00, set: {linked: false}}
  - {node: b, from: day 18:00, until: day 19:00, set: {up: false}}
  - {node: r2, from: day 20:00, until: day 21:00, set: {up: false}}
`

func TestRoutes(t *testing.T) {
	m := read(t, ring)
	w := m.Walker()
	hour := func(h int) time.Time { return time.Date(2026, 11, 18, h, 30, 0, 0, time.UTC) }
	names := func(indices []int) string {
		var list []string
		for _, i := range indices {
			list = append(list, m.Nodes()[i].Name)
		}
		return strings.Join(list, " ")
	}
	find := func(name string) int {
		i, err := m.Find(name)
		require.NoError(t, err)
		return i
	}
	addr := func(node int) netip.Addr { return m.Nodes()[node].Addresses[0] }
	a, b, c := find("a"), find("192.0.2.2"), find("c")
	assert.Equal(t, "a r1 r2 b", names(w.Route(a, b, hour(15), 0)))
	near := w.Echo(a, addr(b), hour(15), 1)
	assert.Equal(t, 8*time.Millisecond, near.RTT)
	assert.Equal(t, 62, near.TTL, "two routers took one off each")
	assert.Equal(t, "a r1 r3 r2 b", names(w.Route(a, b, hour(16), 0)), "the longer way while the link is cut")
	assert.Equal(t, 44*time.Millisecond, w.Echo(a, addr(b), hour(16), 1).RTT)
	assert.False(t, w.Echo(a, addr(b), hour(18), 1).Answered, "the host is down")
	assert.NotEmpty(t, w.Echo(a, addr(b), hour(20), 1).Refused, "a router says that there is no way")
	assert.Equal(t, "a r1 r2 c", names(w.Route(a, c, hour(15), 0)), "hosts do not forward, even where it would be nearer")
	assert.Equal(t, "administratively prohibited", w.Echo(a, addr(c), hour(15), 1).Refused)
	assert.Equal(t, "network unreachable", w.Echo(a, addr(find("alone")), hour(15), 1).Refused)
}

func TestBrokenFilesAreExplainedByLine(t *testing.T) {
	nodes := "nodes:\n  - {name: a, addresses: [192.0.2.1]}\n  - {name: b, addresses: [192.0.2.2]}\n"
	for _, c := range []struct{ name, text, says string }{
		{"empty", " \n", "is empty"},
		{"no YAML", "nodes: [", "world file"},
		{"unknown key", nodes + "bogus: 1\n", "4:1"},
		{"unknown property", nodes + "links:\n  - {between: [a, b], dely: 3ms}\n", "5:"},
		{"unknown node", nodes + "links:\n  - between: [a, zed]\n", "line 5"},
		{"node twice", nodes + "  - {name: a}\n", "line 4: node \"a\" is there twice"},
		{"address twice", nodes + "  - {name: c, addresses: [192.0.2.1]}\n", "given to two nodes"},
		{"no address", nodes + "  - {name: c, addresses: [192.0.2]}\n", "line 4: \"192.0.2\" is not an IP address"},
		{"negative delay", nodes + "links:\n  - {between: [a, b], delay: -3ms}\n", "line 5: delay: \"-3ms\" is not between 0 and 1m"},
		{"loss above one", nodes + "links:\n  - {between: [a, b], loss: 120%}\n", "line 5: loss"},
		{"bad variation", nodes + "links:\n  - {between: [a, b], variation: wild 3ms}\n", "none of none, uniform, normal, gamma"},
		{"variation without a span", nodes + "links:\n  - {between: [a, b], variation: gamma}\n", "needs a span of time"},
		{"bad memory", nodes + "links:\n  - {between: [a, b], variation: gamma 3ms, memory: long}\n", "is no span of time from 0 to 24h"},
		{"bad share of memory", nodes + "links:\n  - {between: [a, b], variation: gamma 3ms, memory: 2s share 160%}\n", "memory: "},
		{"odd shape", nodes + "links:\n  - {between: [a, b], variation: gamma 3ms shape 2.5}\n", "whole number"},
		{"shape of no shape", nodes + "links:\n  - {between: [a, b], variation: normal 3ms shape 2}\n", "is not understood"},
		{"bad bin", nodes + "links:\n  - {between: [a, b], variation: \"histogram 0-1ms\"}\n", "is not a bin"},
		{"bad bursts", nodes + "links:\n  - {between: [a, b], loss: bursts enter 1%}\n", "bursts are written like"},
		{"bad n-th", nodes + "links:\n  - {between: [a, b], loss: every 0}\n", "number of packets"},
		{"bad reordering", nodes + "links:\n  - {between: [a, b], reorders: 1%}\n", "how long packets are held back"},
		{"bad queue", nodes + "links:\n  - {between: [a, b], queue: deep}\n", "neither a span of time"},
		{"bad policer", nodes + "links:\n  - {between: [a, b], policer: 5Mbit/s}\n", "a rate and a burst"},
		{"bad MTU", nodes + "links:\n  - {between: [a, b], mtu: 12}\n", "line 5: mtu: 12"},
		{"neither told nor swallowed", nodes + "links:\n  - {between: [a, b], too_big: eaten}\n", "neither told nor swallowed"},
		{"a link to itself", nodes + "links:\n  - {between: [a, a]}\n", "two different ends"},
		{"toward somebody else", nodes + "links:\n  - {between: [a, b], toward: {c: {loss: 1%}}}\n", "not an end of this link"},
		{"bad convergence", nodes + "convergence: soon\n", "convergence"},
		{"bad allowance", nodes + "  - {name: c, icmp_limit: 5}\n", "line 4: icmp_limit"},
		{"bad port", nodes + "  - {name: c, tcp: {http: open}}\n", "neither a port nor a range"},
		{"bad state of a port", nodes + "  - {name: c, tcp: {80: ajar}}\n", "none of open, echo, reflect, closed"},
		{"bad label", nodes + "  - {name: c, labels: [1048576]}\n", "label 1048576"},
		{"bad skew", nodes + "  - {name: c, skew: 3s}\n", "not a skew"},
		{"bad clock", nodes + "  - {name: c, clock: early}\n", "not an offset"},
		{"bad refusal", nodes + "  - {name: c, refuse: politely}\n", "none of nothing, unreachable, prohibited"},
		{"a route to nowhere", nodes + "  - {name: c, routes: [{to: zed, via: a}]}\nlinks:\n  - {between: [a, c]}\n", "neither a prefix nor a node"},
		{"a route over no link", nodes + "  - {name: c, routes: [{to: a, via: b}]}\n", "no neighbour"},
		{"bad prefix", nodes + "  - {name: c, prefixes: [192.0.2.1/24]}\n", "not a prefix such as"},
		{"bad resolver", nodes + "  - {name: c, resolvers: [zed]}\n", "has no node \"zed\""},
		{"bad record", nodes + "  - {name: c, resolver: answer, records: {x: [nowhere]}}\n", "not an IP address"},
		{"daily and weekly", nodes + "changes:\n  - {node: a, daily: \"1:00-2:00\", weekly: \"mon 1:00-2:00\", set: {up: false}}\n", "either daily or weekly"},
		{"cron without an end", nodes + "changes:\n  - {node: a, cron: \"0 2 * * *\", set: {up: false}}\n", "how long it lasts"},
		{"for without cron", nodes + "changes:\n  - {node: a, for: 5m, set: {up: false}}\n", "belongs to"},
		{"no link of that name", nodes + "links:\n  - {between: [a, b], name: one}\nchanges:\n  - {link: [a, b], name: two, set: {loss: 1%}}\n", "no link \"two\""},
		{"a node's property of a link", nodes + "links:\n  - {between: [a, b]}\nchanges:\n  - {node: a, set: {loss: 1%}}\n", "only set properties of a node"},
		{"bad rate", nodes + "links:\n  - {between: [a, b], rate: 5}\n", "such as \"20Mbit/s\""},
		{"bad time", nodes + "links:\n  - {between: [a, b]}\nchanges:\n  - {link: [a, b], from: noon, set: {loss: 1%}}\n", "line 7: time \"noon\""},
		{"ends before it begins", nodes + "links:\n  - {between: [a, b]}\nchanges:\n  - {link: [a, b], from: day 10:00, until: day 09:00, set: {loss: 1%}}\n", "until is not after from"},
		{"no such link", nodes + "changes:\n  - {link: [a, b], set: {loss: 1%}}\n", "line 5: there is no link"},
		{"sets nothing", nodes + "links:\n  - {between: [a, b]}\nchanges:\n  - {node: a}\n", "sets nothing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := world.Read([]byte(c.text), world.Options{})
			require.ErrorIs(t, err, world.ErrFile)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

func TestNamesAndNodes(t *testing.T) {
	m := read(t, ring)
	assert.Equal(t, "192.0.2.2", m.Addresses("b", wire.IPv4)[0].String())
	assert.Empty(t, m.Addresses("b", wire.IPv6))
	assert.Equal(t, "192.0.2.2", m.Addresses("B.", 0)[0].String(), "names have no case, and may end with a dot")
	assert.Len(t, m.Hosts(), 4, "routers are none")
	assert.Len(t, m.Nodes(), 7)
	assert.Len(t, m.Directions(), 14)
	zoned, err := world.Read([]byte("zone: Europe/Oslo\n"+ring), world.Options{Zone: time.UTC})
	require.NoError(t, err)
	assert.Equal(t, "Europe/Oslo", zoned.Zone.String(), "the file's zone goes before")
	_, err = world.Read([]byte("zone: Nowhere/Else\n"+ring), world.Options{})
	require.ErrorContains(t, err, "line 1: zone")
}

// The seeds are short: a fuzzer tries each piece of what is new to it, and of a long text
// there are so many that it comes to nothing else.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{
		"world: w\nnodes: [{name: a}]",
		"nodes: []",
		"world: x\nnodes: [{name: a}]\nlinks: [{between: [a, a]}]",
		"world: w\nnodes: [{name: a, addresses: [192.0.2.1]}, {name: r, router: true}]\nlinks: [{between: [a, r], delay: 1ms, loss: 2%}]",
		"world: w\nnodes: [{name: a, tcp: {7: echo}}]\nchanges: [{node: a, cron: \"0 2 * * *\", for: 5m, set: {udp: open}}]",
		"world: w\nnodes: [{name: a}, {name: b}]\nlinks: [{between: [a, b], toward: {a: {rate: 1Mbit/s, queue: 9kB}}}]",
		"world: w\nnodes: [{name: a, routes: [{to: b, via: [c, d]}], balance: flow}]",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		// A reader that does not come back is as wrong as one that panics.
		watchdog := time.AfterFunc(10*time.Second, func() { panic(fmt.Sprintf("no end to reading %q", text)) })
		defer watchdog.Stop()
		if _, _, err := world.Check([]byte(text), world.Options{Reference: reference}); err != nil {
			require.ErrorIs(t, err, world.ErrFile)
		}
	})
}

func BenchmarkEcho(b *testing.B) {
	m, err := world.Read([]byte(ring), world.Options{Reference: reference})
	require.NoError(b, err)
	w := m.Walker()
	for i := 0; b.Loop(); i++ {
		w.Echo(0, netip.MustParseAddr("192.0.2.2"), reference.Add(time.Duration(i)*time.Millisecond), uint64(i))
	}
}
