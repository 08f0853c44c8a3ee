package world_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/internal/network"
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

// pair is two hosts with one link between them.
func pair(t *testing.T, link, changes string) *world.Model {
	return read(t, `
world: pair
seed: 3
nodes:
  - {name: a, addresses: [192.0.2.1]}
  - {name: b, addresses: [192.0.2.2]}
links:
  - {between: [a, b], `+link+`}
`+changes)
}

// fates sends n packets, one a millisecond.
func fates(m *world.Model, from, to int, at time.Time, n int) (rtts []float64, lost int) {
	w := m.Walker()
	for i := range n {
		f := w.Echo(from, to, at.Add(time.Duration(i)*time.Millisecond), uint64(i))
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
		{"uniform", "delay: 5ms, variation: uniform 1ms", 10, math.Sqrt(2.0 / 3)},
		{"normal", "delay: 5ms, variation: normal 1ms", 10, math.Sqrt2},
		{"gamma", "delay: 5ms, variation: gamma 1ms", 12, 1},
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
	// In another order, too: a fate depends on the packet and its time alone.
	w := m.Walker()
	var back []float64
	for i := 1999; i >= 0; i-- {
		if f := w.Echo(0, 1, reference.Add(time.Duration(i)*time.Millisecond), uint64(i)); f.Answered {
			back = append(back, float64(f.RTT)/1e6)
		}
	}
	slices.Reverse(back)
	assert.Equal(t, forth, back)
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
				assert.Equal(t, 100*time.Millisecond, w.Echo(0, 1, open, 0).RTT, "%v", open)
			}
			for _, shut := range c.shut {
				assert.Equal(t, 2*time.Millisecond, w.Echo(0, 1, shut, 0).RTT, "%v", shut)
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
	a, b, c := find("a"), find("192.0.2.2"), find("c")
	assert.Equal(t, "a r1 r2 b", names(w.Route(a, b, hour(15))))
	near := w.Echo(a, b, hour(15), 1)
	assert.Equal(t, 8*time.Millisecond, near.RTT)
	assert.Equal(t, 62, near.TTL, "two routers took one off each")
	assert.Equal(t, "a r1 r3 r2 b", names(w.Route(a, b, hour(16))), "the longer way while the link is cut")
	assert.Equal(t, 44*time.Millisecond, w.Echo(a, b, hour(16), 1).RTT)
	assert.False(t, w.Echo(a, b, hour(18), 1).Answered, "the host is down")
	assert.NotEmpty(t, w.Echo(a, b, hour(20), 1).Refused, "a router says that there is no way")
	assert.Equal(t, "a r1 r2 c", names(w.Route(a, c, hour(15))), "hosts do not forward, even where it would be nearer")
	assert.Equal(t, "administratively prohibited", w.Echo(a, c, hour(15), 1).Refused)
	assert.Equal(t, "network unreachable", w.Echo(a, find("alone"), hour(15), 1).Refused)
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

func TestLookup(t *testing.T) {
	m := read(t, ring)
	n, err := m.At("a")
	require.NoError(t, err)
	addrs, err := n.Lookup(t.Context(), "b", wire.IPv4)
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.2", addrs[0].String())
	_, err = n.Lookup(t.Context(), "b", wire.IPv6)
	require.ErrorIs(t, err, network.ErrNoName)
	_, err = m.At("nowhere")
	require.ErrorContains(t, err, `has no node "nowhere"`)
}

func FuzzRead(f *testing.F) {
	f.Add(ring)
	f.Add("nodes: []")
	f.Add("world: x\nnodes:\n  - name: a\nlinks:\n  - between: [a, a]\n")
	f.Fuzz(func(t *testing.T, text string) {
		// A reader that does not come back is as wrong as one that panics.
		watchdog := time.AfterFunc(10*time.Second, func() { panic(fmt.Sprintf("no end to reading %q", text)) })
		defer watchdog.Stop()
		if _, err := world.Read([]byte(text), world.Options{Reference: reference}); err != nil {
			require.ErrorIs(t, err, world.ErrFile)
		}
	})
}

func BenchmarkEcho(b *testing.B) {
	m, err := world.Read([]byte(ring), world.Options{Reference: reference})
	require.NoError(b, err)
	w := m.Walker()
	for i := 0; b.Loop(); i++ {
		w.Echo(0, 4, reference.Add(time.Duration(i)*time.Millisecond), uint64(i))
	}
}
