package trace_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"woodlark.example/core/finding"
	"woodlark.example/core/reading"
	"woodlark.example/core/route"
	"woodlark.example/internal/network"
	"woodlark.example/internal/network/world"
	"woodlark.example/internal/network/world/live"
	"woodlark.example/internal/probe/trace"
	"woodlark.example/wire"
)

// way is a route with a diamond of three branches, the last of two hops; a router
// that is silent, one with a label, and a link of 1,400 bytes.
const way = `
world: way
seed: 5
nodes:
  - {name: here.example, addresses: [192.0.2.2, "2001:db8:1::2"]}
  - {name: gw.example, router: true, addresses: [192.0.2.1, "2001:db8:1::1"]}
  - {name: split.example, router: true, addresses: [198.51.100.1, "2001:db8:2::1"], labels: [16004]}
  - {name: north.example, router: true, addresses: [198.51.100.11, "2001:db8:2::11"]}
  - {name: middle.example, router: true, addresses: [198.51.100.12, "2001:db8:2::12"]}
  - {name: south.example, router: true, addresses: [198.51.100.13, "2001:db8:2::13"]}
  - {name: join.example, router: true, addresses: [198.51.100.2, "2001:db8:2::2"]}
  - {name: quiet.example, router: true, addresses: [198.51.100.3, "2001:db8:2::3"], silent: true}
  - {name: edge.example, router: true, addresses: [203.0.113.1, "2001:db8:3::1"]}
  - {name: there.example, addresses: [203.0.113.2, "2001:db8:3::2"], tcp: {443: open}, udp: {7: echo, 9: filtered}}
links:
  - {between: [here.example, gw.example], delay: 100us}
  - {between: [gw.example, split.example], delay: 2ms}
  - {between: [split.example, north.example], delay: 3ms}
  - {between: [split.example, middle.example], delay: 3ms}
  - {between: [split.example, south.example], delay: 3ms}
  - {between: [north.example, join.example], delay: 3ms}
  - {between: [middle.example, join.example], delay: 3ms}
  - {between: [south.example, join.example], delay: 3ms}
  - {between: [join.example, quiet.example], delay: 1ms}
  - {between: [quiet.example, edge.example], delay: 1ms}
  - {between: [edge.example, there.example], delay: 100us, mtu: 1400}
`

var start = time.Date(2026, 11, 18, 12, 0, 0, 0, time.UTC)

func inWorld(t *testing.T, file, from string) *live.Host {
	t.Helper()
	m, err := world.Read([]byte(file), world.Options{Reference: start})
	require.NoError(t, err)
	h, err := live.Virtual(m, start).At(from)
	require.NoError(t, err)
	return h
}

func one(t *testing.T, h *live.Host, r trace.Request) trace.Result {
	t.Helper()
	results, err := trace.Measure(t.Context(), h, h, trace.Options{Mark: 77}, r)
	require.NoError(t, err)
	require.NoError(t, results[0].Err)
	return results[0]
}

// shape is a route in one line: the names of each hop by the last part of its
// address.
func shape(r route.Route) string {
	var hops []string
	for _, h := range r.Hops {
		var names []string
		for _, n := range h.Nodes {
			text := n.Addr.String()
			names = append(names, text[strings.LastIndexAny(text, ".:")+1:])
		}
		if len(names) > 1 {
			names = []string{fmt.Sprint(len(names), " nodes")}
		}
		hops = append(hops, strings.Join(names, ""))
	}
	return strings.Join(hops, " ")
}

func TestTheSameWayByAllKinds(t *testing.T) {
	four, six := netip.MustParseAddr("203.0.113.2"), netip.MustParseAddr("2001:db8:3::2")
	for _, c := range []struct {
		via   string
		to    netip.Addr
		spare bool
	}{
		{"icmp", four, false}, {"icmp", six, false}, {"tcp:443", four, false}, {"tcp:443", six, false}, {"tcp:80", four, false},
		{"udp:33434", four, true}, {"udp:33434", six, true}, {"udp:7", four, false},
	} {
		t.Run(fmt.Sprint(c.via, " ", c.to), func(t *testing.T) {
			via, err := reading.ParseVias(c.via)
			require.NoError(t, err)
			h := inWorld(t, way, "here.example")
			r := one(t, h, trace.Request{Addr: c.to, Via: via[0], Probes: 30, Interval: 100 * time.Millisecond})
			assert.Equal(t, "1 1 3 nodes 2  1 2", shape(r.Route))
			assert.True(t, r.Route.Reached)
			assert.True(t, r.Complete)
			assert.Equal(t, trace.AtTarget, r.Ended)
			assert.Equal(t, c.spare, r.TargetSpares)
			require.Len(t, r.Route.Branches, 3)
			for _, b := range r.Route.Branches {
				assert.Equal(t, []int{3}, b.Own)
				assert.InDelta(t, 1./3, b.Share.Value(), 0.3)
			}
			assert.Equal(t, 20400*time.Microsecond, route.MedianOf(r.Route.RTTs).Or(0), "twice 10.2 ms")
			assert.Empty(t, r.Faults)
			assert.Equal(t, reading.StampWorld, r.Stamp)
			assert.Zero(t, r.Strays)
			labels := r.Route.Hops[1].Nodes[0].Labels
			require.Len(t, labels, 1)
			assert.Equal(t, uint32(16004), labels[0].Value)
			for i, hop := range r.Route.Hops {
				for _, n := range hop.Nodes {
					assert.Equal(t, i+1, n.HopsBack.Or(0), "the way back is as long")
				}
			}
			names := trace.Names(t.Context(), h, r, nil, time.Second)
			assert.Equal(t, "there.example", names[c.to])
			assert.Len(t, names, 8)
		})
	}
}

// datagramsOnly is a host that permits no packets of its own making.
type datagramsOnly struct{ *live.Host }

func (d datagramsOnly) Open(k network.Kind, f wire.Family, o network.SocketOptions) (network.Conn, error) {
	if k == network.Whole {
		return nil, fmt.Errorf("%w to send whole packets", network.ErrNotPermitted)
	}
	return d.Host.Open(k, f, o)
}

func TestWithoutPrivileges(t *testing.T) {
	h := datagramsOnly{inWorld(t, way, "here.example")}
	results, err := trace.Measure(t.Context(), h, h, trace.Options{Mark: 5}, trace.Request{Addr: netip.MustParseAddr("203.0.113.2"), Via: reading.Via{Kind: reading.ByUDP, Port: 33434}, Probes: 10})
	require.NoError(t, err)
	r := results[0]
	assert.Equal(t, "1 1 3 nodes 2  1 2", shape(r.Route))
	assert.True(t, r.Route.Reached)
	_, err = trace.Measure(t.Context(), h, h, trace.Options{}, trace.Request{Addr: netip.MustParseAddr("203.0.113.2")})
	require.ErrorIs(t, err, network.ErrNotPermitted)
	assert.Contains(t, err.Error(), "-via udp", "and the way out is named")
}

func TestWhereSizesShrink(t *testing.T) {
	for _, c := range []struct {
		name, file string
		want       trace.MTU
		code       finding.Code
	}{
		{"it is said", way, trace.MTU{Link: 1500, Path: 1400, TTL: 6, By: netip.MustParseAddr("203.0.113.1")}, finding.MTUReduced},
		{"it is not", strings.Replace(way, "mtu: 1400", "mtu: 1400, too_big: swallowed", 1), trace.MTU{Link: 1500, Path: 1400, TTL: 6, Before: netip.MustParseAddr("203.0.113.1"), Lost: true}, finding.MTUBlackHole},
		{"nothing shrinks", strings.Replace(way, ", mtu: 1400", "", 1), trace.MTU{Link: 1500, Path: 1500}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := one(t, inWorld(t, c.file, "here.example"), trace.Request{Addr: netip.MustParseAddr("203.0.113.2"), PathMTU: true, OneFlow: true})
			assert.Equal(t, c.want, r.MTU)
			assert.Len(t, r.Route.Hops, 7)
			found := finding.OfTrace(r.Traced())
			if c.code == "" {
				assert.Empty(t, found)
				return
			}
			require.Len(t, found, 1)
			assert.Equal(t, c.code, found[0].Code)
		})
	}
}

func TestEnds(t *testing.T) {
	to := netip.MustParseAddr("203.0.113.2")
	nowhere := strings.Replace(way, "there.example, addresses: [203.0.113.2", "there.example, icmp: drop, addresses: [203.0.113.2", 1)
	refuses := strings.Replace(way, "name: edge.example,", "name: edge.example, refuse: prohibited,", 1)
	for _, c := range []struct {
		name, file string
		request    trace.Request
		ended      trace.Ended
		shape      string
		reached    bool
	}{
		{"at the target", way, trace.Request{Addr: to, OneFlow: true}, trace.AtTarget, "", true},
		{"in silence", nowhere, trace.Request{Addr: to, OneFlow: true}, trace.AtSilence, "", false},
		{"at a refusal", refuses, trace.Request{Addr: to, OneFlow: true}, trace.AtRefusal, "", false},
		{"at the last TTL", way, trace.Request{Addr: to, OneFlow: true, LastTTL: 2}, trace.AtLastTTL, "1 1", false},
		{"beginning later", way, trace.Request{Addr: to, OneFlow: true, FirstTTL: 6}, trace.AtTarget, "     1 2", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := inWorld(t, c.file, "here.example")
			r := one(t, h, c.request)
			assert.Equal(t, c.ended, r.Ended)
			assert.Equal(t, c.reached, r.Route.Reached)
			if c.shape != "" {
				assert.Equal(t, c.shape, shape(r.Route))
			}
			if c.ended == trace.AtSilence {
				assert.Equal(t, "tcp:443", trace.ByOther(t.Context(), h, h, trace.Options{Mark: 9}, c.request))
			}
			if c.ended == trace.AtRefusal {
				assert.Equal(t, "administratively prohibited", r.Route.Refusal)
			}
		})
	}
	h := inWorld(t, way, "here.example")
	own := one(t, h, trace.Request{Addr: netip.MustParseAddr("192.0.2.1")})
	assert.Equal(t, "1", shape(own.Route))
	assert.Contains(t, own.Report(t.Context(), h, h, trace.Context{}).Note, "own link")
	self := one(t, h, trace.Request{Addr: netip.MustParseAddr("192.0.2.2")})
	assert.Contains(t, self.Report(t.Context(), h, h, trace.Context{}).Note, "this host itself")
}

// TestItTakesTwoRoundTrips: a wave goes out at once and slides on as answers come.
func TestItTakesTwoRoundTrips(t *testing.T) {
	var b strings.Builder
	b.WriteString("world: long\nnodes:\n  - {name: here.example, addresses: [192.0.2.2]}\n")
	links := "links:\n"
	last := "here.example"
	for i := range 19 {
		name := fmt.Sprintf("r%d.example", i+1)
		fmt.Fprintf(&b, "  - {name: %s, router: true, addresses: [198.51.100.%d]}\n", name, i+1)
		links += fmt.Sprintf("  - {between: [%s, %s], delay: 2ms}\n", last, name)
		last = name
	}
	fmt.Fprintf(&b, "  - {name: there.example, addresses: [203.0.113.2]}\n%s  - {between: [%s, there.example], delay: 2ms}\n", links, last)
	h := inWorld(t, b.String(), "here.example")
	r := one(t, h, trace.Request{Addr: netip.MustParseAddr("203.0.113.2"), OneFlow: true})
	assert.Len(t, r.Route.Hops, 20)
	rtt := 80 * time.Millisecond
	assert.Less(t, r.Took, 3*rtt, "20 hops")
	t.Logf("20 hops took %.2f round trips", float64(r.Took)/float64(rtt))
	all := one(t, h, trace.Request{Addr: netip.MustParseAddr("203.0.113.2")})
	t.Logf("with all branches sought %.2f", float64(all.Took)/float64(rtt))
	assert.True(t, all.Complete)
	assert.Less(t, all.Took, 3*rtt, "with all branches")
}

// TestTheRouteBecomesAnother traces on while a link fails: the report is of the way
// that it takes now, beside the one before.
func TestTheRouteBecomesAnother(t *testing.T) {
	file := strings.Replace(way, "links:\n", "  - {name: around.example, router: true, addresses: [198.51.100.40]}\nlinks:\n"+
		"  - {between: [join.example, around.example], delay: 9ms, metric: 30}\n  - {between: [around.example, quiet.example], delay: 9ms, metric: 30}\n", 1) +
		"changes:\n  - {link: [join.example, quiet.example], from: \"2026-11-18T12:05:00Z\", set: {linked: false}}\n"
	h := inWorld(t, file, "here.example")
	r := one(t, h, trace.Request{Addr: netip.MustParseAddr("203.0.113.2"), For: 12 * time.Minute, Interval: time.Second, OneFlow: true})
	assert.Regexp(t, `^1 1 1[123] 2 40  1 2$`, shape(r.Route), "one hop more than before")
	require.Len(t, r.Past, 1)
	assert.Equal(t, 7, len(r.Past[0].Route.Hops))
	assert.WithinDuration(t, start.Add(5*time.Minute), r.Past[0].Last, 2*time.Minute)
	report := r.Report(t.Context(), h, h, trace.Context{Target: "there.example", Names: true})
	var changed []finding.Finding
	for _, f := range report.Findings {
		if f.Code == finding.RouteChanged {
			changed = append(changed, f)
		}
	}
	require.Len(t, changed, 1)
	assert.Contains(t, changed[0].Sentence, "around.example")
	assert.InDelta(t, 34, changed[0].Figures["step_ms"], 0.5, "twice 18 ms instead of twice 1")
	assert.Len(t, report.Past, 1)

	// Each minute by itself: the lanes of the console are drawn from them.
	assert.InDelta(t, 12, len(report.Minutes), 1)
	before, after := report.Minutes[1], report.Minutes[len(report.Minutes)-2]
	assert.Equal(t, start.Add(time.Minute), before.At)
	assert.Equal(t, strings.Join(report.Past[0].Hops, " "), before.Route)
	assert.Equal(t, report.Route().Key(), after.Route)
	require.Len(t, before.Hops, 7)
	require.Len(t, after.Hops, 8)
	assert.Equal(t, 60, before.Hops[0].Probes, "one a second")
	assert.InDelta(t, 34, *after.Hops[7].RTTMs-*before.Hops[6].RTTMs, 0.5)
	assert.Zero(t, *after.Hops[7].CarriedRatio)
}
